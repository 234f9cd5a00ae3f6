"""Windows guests: what is set aside, letters, folders, registry texts, rights, and what such a guest cannot use."""

from __future__ import annotations

import struct
from pathlib import Path
from typing import Any
from uuid import UUID

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from narvet.ground.sids import WELL_KNOWN, name_of, sid_bytes, sid_of, sid_text
from narvet.ground.units import GIB, KIB, MIB, NO_BREAK, TIB, show_as_windows
from narvet.guests.windows.registry import parse_registry_text, registry_text
from narvet.model.estate import RegistryValue
from tests.program import disk, facts, make_sheet, rules, run

WINDOWS = 'runs = "windows"\nletters = ["C:", "d:"]'
BASIC, ASIDE = "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7", "e3c9e316-0b5c-4db8-817d-f92df00215ae"


def sheet_of(folder: Path, *disks: str, guest: str = WINDOWS) -> str:
    return str(make_sheet(folder, "".join(disks), store='room = "9 TB"', guest=guest))


def review(folder: Path, *disks: str, guest: str = WINDOWS, status: int = 0) -> Any:
    told = facts("review", sheet_of(folder, *disks, guest=guest), status=status)
    told["findings"] = [one for one in told["findings"] if one["rule"] in rules(told)]
    return told


def values_in(path: Path) -> dict[str, bytes]:
    """Decode a registry text by the documented layout: byte order mark, head, key, a line for each value."""
    data = path.read_bytes()
    assert data[:2] == b"\xff\xfe"
    lines = data[2:].decode("utf-16-le").split("\r\n")
    assert lines[:3] == ["Windows Registry Editor Version 5.00", "", "[HKEY_LOCAL_MACHINE\\SYSTEM\\MountedDevices]"]
    assert lines[-1] == ""
    found = {}
    for line in lines[3:-1]:
        if line.endswith('"=-'):  # taken back
            continue
        name, hexadecimal = line.split("=hex:")
        assert name[0] == name[-1] == '"'
        found[name[1:-1].replace("\\\\", "\\")] = bytes(int(byte, 16) for byte in hexadecimal.split(","))
    return found


def test_a_disk_is_laid_out_as_the_guest_expects(tmp_path: Path) -> None:
    """On a GPT 16 MiB are set aside first; types, letters and attributes are those of the system; ids tie it together."""
    sheet = sheet_of(
        tmp_path,
        disk("a", 'size = "1 GiB"', 'at = "t:"\nsize = "200 MiB"', 'at = "T:\\\\Frames\\\\new"\nsize = "50%"',
             'filesystem = "exfat"\nattributes = ["read-only", "hidden"]'),
        disk("b", 'size = "300 MiB"\ntable = "mbr"', *(f'at = "{letter}:"\nsize = "40 MiB"' for letter in "LMNOP")),
    )  # fmt: skip
    laid = facts("review", sheet)
    first, second = laid["disks"]
    assert [part["type"] for part in first["partitions"]] == [ASIDE, BASIC, BASIC, BASIC]
    assert [(part["start"], part["number"]) for part in first["partitions"][:2]] == [(MIB, 1), (17 * MIB, 2)]
    assert first["partitions"][0]["size"] == 16 * MIB and first["partitions"][2]["size"] == 503 * MIB
    assert [part["attributes"] for part in first["partitions"]] == [[], [], ["no-letter"], ["read-only", "hidden"]]
    assert [part["filesystem"] for part in first["partitions"]] == [None, "ntfs", "ntfs", "exfat"]
    assert [(part["number"], part["type"]) for part in second["partitions"]] == [
        (number, "07") for number in (1, 2, 3, 5, 6)
    ]
    run("write", sheet, status=0)
    values = values_in(tmp_path / "sheet.seedling.reg")
    found = facts("survey", first["path"], second["path"])
    for part in found[0]["partitions"][1:3]:
        native_id = b"DMIO:ID:" + UUID(part["id"]).bytes_le
        assert values.pop(f"\\??\\Volume{{{part['id']}}}") == native_id
        if part["number"] == 2:
            assert values.pop("\\DosDevices\\T:") == native_id
            assert part["filesystem"]["links"] == [
                {"path": "\\Frames\\new", "target": f"\\??\\Volume{{{found[0]['partitions'][2]['id']}}}\\"}
            ]
    for letter, part, asked in zip("LMNOP", found[1]["partitions"], second["partitions"], strict=True):
        native_id = struct.pack("<IQ", int(found[1]["table_id"], 16), part["start"])
        assert values.pop(f"\\DosDevices\\{letter}:") == native_id == values.pop(f"\\??\\Volume{{{asked['volume']}}}")
    assert values == {}
    for part in found[1]["partitions"]:  # the boot sector tells how many sectors lie before it
        with Path(second["path"]).open("rb") as image:
            image.seek(part["start"] + 28)
            assert struct.unpack("<I", image.read(4)) == (part["start"] // 512,)
    assert found[0]["partitions"][3]["attributes"] == ["read-only", "hidden"]
    assert facts("confirm", sheet)["agrees"] and "All is as asked" in run("write", sheet, status=0).stdout
    assert run("entries", sheet, "seedling", status=0).stdout.splitlines()[3:] == laid["entries"]["seedling"]


def test_a_registry_text_follows_the_sheet(tmp_path: Path) -> None:
    """A changed letter changes the text and nothing else; a text that is not Narvet's is left alone."""
    text = tmp_path / "sheet.seedling.reg"
    sheet = sheet_of(tmp_path, disk("a", 'size = "64 MiB"', 'at = "T:"'))
    run("write", sheet, status=0)
    assert rules(review(tmp_path, disk("a", 'size = "64 MiB"', 'at = "U:"'))) == []
    differences = facts("confirm", sheet, status=1)["differences"]
    assert [(one["where"], one["found"]) for one in differences] == [("guest.seedling registry text", "other values")]
    assert facts("write", sheet)["done"] == [str(text)]
    assert "\\DosDevices\\U:" in values_in(text) and facts("confirm", sheet)["agrees"]
    for strange in (b"", b"notes", text.read_bytes() + "[HKEY_CURRENT_USER]".encode("utf-16-le"), b"\xff\xfe\x00"):
        text.write_bytes(strange)
        done = run("write", sheet, status=1)
        assert "entries-in-the-way" in done.stderr and text.read_bytes() == strange
    text.unlink()
    text.symlink_to(tmp_path / "elsewhere")
    assert "entries-in-the-way" in run("write", sheet, status=1).stderr
    assert "has no fstab; import" in run("entries", sheet, "seedling", "--into", str(tmp_path), status=2).stderr


def test_folders_of_one_volume_hold_others(tmp_path: Path) -> None:
    """Folders on folders, in any case and order; a folder needs a volume of the sheet, and an ntfs, to lie on."""
    places = ("V:\\Röntgen\\alt", "v:\\röntgen", "V:", "V:\\RÖNTGEN\\ALT\\x")
    disks = [
        disk(f"d{number}", 'size = "40 MiB"\nset_aside = "0 B"', f"at = '{at}'") for number, at in enumerate(places)
    ]
    sheet = sheet_of(tmp_path, *disks)
    run("write", sheet, status=0)
    laid = facts("review", sheet)["disks"]
    ids = [one["partitions"][0]["id"] for one in laid]
    links = [one["partitions"][0]["filesystem"]["links"] for one in facts("survey", *(one["path"] for one in laid))]

    def link(path: str, number: int) -> list[dict[str, str]]:
        return [{"path": path, "target": f"\\??\\Volume{{{ids[number]}}}\\"}]

    assert links == [
        link("\\X", 3) if links[0][0]["path"] == "\\X" else link("\\x", 3),
        link("\\alt", 0),
        link("\\röntgen", 1),
        [],
    ]
    # A volume that exists already gets the folder that is now asked for.
    more = disk("d4", 'size = "40 MiB"', "at = 'V:\\more'")
    changes = review(tmp_path, *disks, more)["changes"]
    assert [one["what"] for one in changes if one["where"].startswith("disk.d2")] == ["leads to"]
    for at, host, told in (
        ("C:\\Mounts\\a", "", "no volume of this sheet is mounted at C:"),
        ("X:\\a", 'filesystem = "exfat"', "X: has exfat; only folders of ntfs"),
    ):
        parts = disk("h", 'size = "40 MiB"', f'at = "X:"\n{host}'), disk("m", 'size = "40 MiB"', f"at = '{at}'")
        (found,) = review(tmp_path / at[0], *parts, status=1)["findings"]
        assert found["rule"] == "mount-point-not-possible" and told in found["message"]


def test_rights_of_the_root(tmp_path: Path) -> None:
    """Well-known names, services and SIDs become the owner and the access list; the default lets users work."""
    service = sid_of("NT SERVICE\\Microscope") or ""
    part = 'at = "T:"\nowner = \'NT SERVICE\\Microscope\'\naccess = {Users = "read", "S-1-5-21-1-2-3-1001" = "change"}'
    sheet = sheet_of(tmp_path, disk("a", 'size = "64 MiB"', part), disk("b", 'size = "64 MiB"', 'at = "U:"'))
    run("write", sheet, status=0)
    asked, usual = (
        facts("survey", f"{tmp_path}/shelf/{name}.raw")[0]["partitions"][0]["filesystem"]["rights"] for name in "ab"
    )
    assert asked == (
        f"O:{service}D:(A;OICI;0x1f01ff;;;S-1-5-32-544)(A;OICI;0x1f01ff;;;S-1-5-18)"
        "(A;OICI;0x1200a9;;;S-1-5-32-545)(A;OICI;0x1301bf;;;S-1-5-21-1-2-3-1001)"
    )
    assert usual.startswith("O:S-1-5-18D:") and "(A;OICI;0x1301bf;;;S-1-5-11)" in usual
    assert "Users read" in run("review", sheet, status=0).stdout
    sheet = sheet_of(
        tmp_path,
        disk("a", 'size = "64 MiB"', part.replace('"read"', '"full"')),
        disk("b", 'size = "64 MiB"', 'at = "U:"'),
    )
    assert [one["where"] for one in facts("confirm", sheet, status=1)["differences"]] == ["disk.a.partition 1 rights"]
    for key in ('owner = "curator"', 'access = {"S-1-5-x" = "read"}'):
        (found,) = review(tmp_path / "c", disk("a", 'size = "64 MiB"', key), status=1)["findings"]
        assert found["rule"] == "owner-unknown" and "the same on every Windows machine" in found["message"]


def test_sids() -> None:
    assert sid_of("NT SERVICE\\TrustedInstaller") == "S-1-5-80-956008885-3418522649-1831038044-1853292631-2271478464"
    assert sid_of("administrators") == sid_of("s-1-5-32-0544") == "S-1-5-32-544" and name_of("S-1-5-18") == "SYSTEM"
    assert sid_bytes("S-1-1-0") == bytes.fromhex("01" "01" "000000000001" "00000000")  # fmt: skip
    for sid in (*WELL_KNOWN.values(), sid_of("NT SERVICE\\a") or ""):
        data = sid_bytes(sid)
        assert sid_text(data + b"more") == sid
        assert all(sid_text(data[:length]) is None for length in range(len(data)))
    for wrong in ("curator", "NT SERVICE\\", "S-1-5", "S-1-5-4294967296", "S-2-5-18", "S-1-5" + 16 * "-1"):
        assert sid_of(wrong) is None


@pytest.mark.parametrize(
    ("keys", "part", "rule"),
    [
        ("", 'at = "C:"', "mount-point-in-use"),
        ("", 'at = "D:"', "mount-point-in-use"),
        ("", 'at = "B:"', "letter-reserved"),
        ("", 'at = "/srv/a"', "mount-point-not-possible"),
        ('table = "mbr"', "", "letter-by-guest"),
        ('table = "mbr"', 'at = "T:"\nattributes = ["hidden"]', "key-without-effect"),
        ('table = "mbr"\nset_aside = "1 MiB"', 'at = "T:"', "key-without-effect"),
        ('table = "none"', 'at = "T:"', "not-for-guest"),
        ("", 'filesystem = "xfs"', "not-for-guest"),
        ("", 'filesystem = "swap"', "not-for-guest"),
        ("", 'mode = "0750"', "key-without-effect"),
        ("", "needed = true", "key-without-effect"),
        ("", 'options = ["noatime"]', "key-without-effect"),
        ("", 'filesystem = "exfat"\naccess = {Users = "read"}', "key-without-effect"),
        ("", 'filesystem = "exfat"\nowner = "Users"', "key-without-effect"),
        ('size = "33 GiB"', 'filesystem = "fat32"', "larger-than-guest-makes"),
        ("", 'filesystem = "fat32"\nfor = "media"', "file-limit"),
        ("", 'block = "64 KiB"', "cluster-limits"),
        ('size = "900 GiB"', 'block = "512 B"', "cluster-limits"),
        ("", f'label = "{33 * "x"}"', "label-too-long"),
    ],
)
def test_what_a_windows_guest_cannot_have_or_should_know(tmp_path: Path, keys: str, part: str, rule: str) -> None:
    keys = keys if "size =" in keys.replace("aside =", "") else f'size = "512 MiB"\n{keys}'
    expected = 1 if rule not in ("letter-reserved", "letter-by-guest", "larger-than-guest-makes", "file-limit", "cluster-limits") else 0  # fmt: skip
    assert rules(review(tmp_path, disk("a", keys, part), status=expected)) == [rule]


def test_letters_given_twice_and_two_guests(tmp_path: Path) -> None:
    twice = review(
        tmp_path, disk("a", 'size = "64 MiB"', 'at = "t:"'), disk("b", 'size = "64 MiB"', 'at = "T:"'), status=1
    )
    assert rules(twice) == ["mount-point-twice"]
    linux = review(
        tmp_path / "l", disk("a", 'size = "64 MiB"', 'at = "T:"\naccess = {Users = "read"}'), guest="", status=1
    )
    assert sorted(rules(linux)) == ["key-without-effect", "mount-point-not-possible"]
    odd = review(tmp_path / "m", guest='letters = ["E:"]\nversion = "6.1"', status=1)
    assert rules(odd) == ["key-without-effect"]
    for at, told in (
        ("T:frames", "letter, colon, backslash"),
        ("T:\\\\con", "cannot be the name"),
        ("T:\\\\a.", "cannot be the name"),
    ):
        sheet = sheet_of(tmp_path / "n", disk("a", 'size = "64 MiB"', f'at = "{at}"'))
        assert told in run("review", sheet, status=2).stderr


def test_old_guests(tmp_path: Path) -> None:
    """By the version that the system itself gives: GPT since 5.2, exfat 6.0, large sectors 6.2, clusters 10.0.16299."""

    def found(version: str, keys: str, part: str = 'at = "T:"') -> list[str]:
        guest = f'runs = "windows"\nversion = "{version}"'
        status = 0 if version.startswith("10.0.2") else 1
        got = review(tmp_path, disk("a", f'size = "1 GiB"\n{keys}', part), guest=guest, status=status)
        return [one["rule"] for one in got["findings"] if one["level"] == "error"]

    for old, new, keys, part in (
        ("5.1", "10.0.20348", 'table = "gpt"', 'at = "T:"'),
        ("6.1.7601", "10.0.20348", "sector = 4096", 'at = "T:"'),
        ("5.2", "10.0.20348", "", 'filesystem = "exfat"\nat = "T:"'),
        ("10.0.14393", "10.0.20348", "", 'block = "128 KiB"\nat = "T:"'),
    ):
        assert found(old, keys, part) == ["guest-too-old"] and found(new, keys, part) == []
    (aged,) = review(tmp_path, disk("a", 'size = "1 GiB"', 'at = "T:"'), guest='runs = "windows"\nversion = "5.1"')[
        "disks"
    ]
    assert aged["table"] == "mbr" and len(aged["partitions"]) == 1


def test_sizes_as_windows_writes_them() -> None:
    for size, written in (
        (1023 * KIB, "0.99 MB"), (999 * KIB, "999 KB"), (10 * GIB - 1, "9.99 GB"), (100 * GIB - 1, "99.9 GB"),
        (2 * TIB, "2.00 TB"), (322103607296, "299 GB"), (512, "0.50 KB"), (64 * TIB, "64.0 TB"),
    ):  # fmt: skip
        assert show_as_windows(size) == written.replace(" ", NO_BREAK)


def test_a_disk_without_a_sheet(tmp_path: Path) -> None:
    image = tmp_path / "a.vhdx"
    run("make", str(image), "--size", "2 GiB", "--runs", "windows", "--filesystem", "none", status=0)
    parts = facts("survey", str(image))[0]["partitions"]
    assert [part["type"] for part in parts] == [ASIDE, BASIC] and parts[1]["filesystem"] is None
    run("make", str(tmp_path / "b.vhdx"), "--size", "2 GiB", "--runs", "windows", "--filesystem", "ntfs", status=0)
    parts = facts("survey", str(tmp_path / "b.vhdx"))[0]["partitions"]
    assert [part["type"] for part in parts] == [ASIDE, BASIC] and parts[1]["filesystem"]["kind"] == "ntfs"


@settings(max_examples=200, deadline=None)
@given(
    st.lists(
        st.tuples(st.text('abÄ\\"=?{}: ', min_size=1, max_size=20), st.binary(min_size=1, max_size=30)), max_size=9
    )
)
def test_registry_texts_are_read_back_as_written(rows: list[tuple[str, bytes]]) -> None:
    values = tuple(RegistryValue(name, data) for name, data in rows)
    text = registry_text(values)
    assert parse_registry_text(text) == (values, False)
    assert parse_registry_text(registry_text(values, online=True)) == (values, True)
    for place in range(0, len(text), 7):
        cut = parse_registry_text(text[:place])
        assert cut is None or cut[0] == values[: len(cut[0])]
