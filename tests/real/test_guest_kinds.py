"""A second real guest judges: every kind of filesystem by Narvet's own entries, NTFS under load, Windows guests' disks."""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

from narvet.ground.units import KIB, MIB
from tests.program import disk, facts, make_sheet, rules, run
from tests.real.conftest import Used
from tests.real.guest import LOAD, PARTITIONS, SHOWS, Answers, Attached, complaints, device_at

pytestmark = pytest.mark.guest

# Filesystems on one disk, by size and keys; again on one with sectors of 4096 bytes.
KINDS = (
    ("fat32", "34 MiB", ""),
    ("fat32", "100 MiB", 'owner = "1201:1300"\nmode = "0750"'),
    ("fat32", "3 GiB", "for = 'media'"),
    ("fat32", "9 GiB", 'block = "64 KiB"'),
    ("fat32", "1999 GiB", ""),
    ("exfat", "2 MiB", ""),
    ("exfat", "100 MiB", 'owner = "1201:1300"\nmode = "0700"'),
    ("exfat", "64 GiB", ""),
    ("exfat", "2 TiB", "for = 'media'"),
    ("exfat", "31 TiB", ""),
    ("exfat", "5 GiB", 'block = "32 MiB"'),
    ("xfs", "20 MiB", ""),
    ("xfs", "400 MiB", 'owner = "1201:1300"\nmode = "2770"'),
    ("xfs", "6 TiB", "for = 'database'"),
    ("ntfs", "8 MiB", ""),
    ("ntfs", "100 MiB", 'owner = "1201:1300"\nmode = "0700"'),
    ("ntfs", "33 MiB", 'block = "512 B"'),
    ("ntfs", "5 GiB", "for = 'media'"),
    ("ntfs", "6 TiB", 'label = "Länger als elf Zeichen"'),
    ("ntfs", "1 GiB", 'block = "2 MiB"'),
    ("swap", "64 MiB", ""),
    ("swap", "3 GiB", 'label = "spare"'),
)

ALSO_4096 = (
    ("fat32", "9 GiB"), ("exfat", "64 GiB"), ("xfs", "400 MiB"), ("ntfs", "8 MiB"), ("ntfs", "5 GiB"), ("swap", "64 MiB")
)  # fmt: skip

# On one disk by a master boot record, four of them in logical partitions.
MANY = ("ext4", "xfs", "fat32", "exfat", "ntfs", "ext4", "fat32")


# NTFS under load: size, keys, and how many small files. Every kind of cluster: below, at and above records and blocks.
LOADED = (
    ("48 MiB", 'block = "512 B"', 600),
    ("90 MiB", "", 2400),
    ("100 MiB", 'block = "1 KiB"', 300),
    ("100 MiB", 'block = "16 KiB"', 300),
    ("200 MiB", 'block = "64 KiB"', 300),
    ("400 MiB", 'block = "2 MiB"', 120),
    *(("90 MiB", f'block = "{unit} KiB"', 60) for unit in (2, 8, 32, 128, 256, 512, 1024)),
)
ZONE = 104  # clusters that the driver always keeps for the master file table, and a few
DEEP = 1 + 9 + 1  # files beside the small ones
OF_WINDOWS = {"pictures": 1, "frames": 2, "portable": 3}
TAKEN_OUT = 4  # a copy of the first


@dataclass(frozen=True)
class Boot:
    """The sheets after their guest has used the disks, and what it printed."""

    example: Path
    windows: Any
    kinds: Any
    surveys: Any
    answers: Answers

    @property
    def said(self) -> dict[str, str]:
        return self.answers.said


def prepare(folder: Path, memory: Path) -> tuple[list[Attached], str]:
    """Write a sheet with every kind of filesystem, and the example; return the disks with the guest's script."""
    assert run("demo", "larkmoor", cwd=folder).returncode == 0
    windows = [one for one in facts("review", "larkmoor/sheet.toml", cwd=folder)["disks"] if one["runs"] == "windows"]
    formats = {"vhdx": "vhdx", "vhd": "vpc"}
    disks = [Attached(folder / one["path"], OF_WINDOWS[one["name"]], formats[one["format"]]) for one in windows]
    copy = folder / "out.vhdx"
    shutil.copy(folder / windows[0]["path"], copy)
    disks.append(Attached(copy, TAKEN_OUT, "vhdx"))
    kinds = facts("review", str(_every_kind(memory / "kinds")))
    for number, asked in enumerate(kinds["disks"]):
        disks.append(Attached(Path(asked["path"]), 90 + number, sector=asked["sector"]))
    return disks, "\n".join(
        [LOAD, *_light_script(kinds), *_heavy_script(kinds), *_windows_script(windows), *PARTITIONS]
    )


@pytest.fixture(scope="module")
def booted(guests: dict[str, Used]) -> Boot:
    """What the guest made of its disks, and what Narvet then finds on them."""
    used = guests[__name__]
    kinds = facts("review", str(used.memory / "kinds" / "sheet.toml"))
    surveys = facts("survey", *(asked["path"] for asked in kinds["disks"]))
    review = facts("review", "larkmoor/sheet.toml", cwd=used.folder)
    windows = [asked for asked in review["disks"] if asked["runs"] == "windows"]
    return Boot(used.folder / "larkmoor" / "sheet.toml", windows, kinds, surveys, used.answers)


def _light_script(kinds: Any) -> list[str]:
    """Mount each of many filesystems by its entry and use it a little; turn all swap on."""
    lines = [line for kept in kinds["entries"].values() for line in kept]
    script = ["cat > /etc/fstab <<'END'", *lines, "END"]
    for at in (line.split()[1] for line in lines if line.split()[2] != "swap" and "/loaded/" not in line):
        script += [
            f"mkdir -p {at}; mount {at}",
            f'{SHOWS.format(at=at)}; echo "{at} root $(stat -c "%u:%g %a" {at})"',
            f"light {at}; umount {at}; mount {at}; check {at} {at}",
            f'echo "{at} inside $(stat -c "%u:%g %a" {at}/B*)"; umount {at}',
        ]
    return [*script, "swapon -a", "sed 's/^/swap on /' /proc/swaps", "swapoff -a"]


def _heavy_script(kinds: Any) -> list[str]:
    """Fill each NTFS with thousands of files, deep folders, long names; rename, delete, fill it up; mount it again."""
    script = []
    for (_, _, count), part in zip(LOADED, kinds["disks"][-1]["partitions"], strict=True):
        at = part["at"]
        script += [
            f"mkdir -p {at}; mount {at}; {SHOWS.format(at=at)}",
            f'heavy {at} {count}; echo "{at} full $full"; umount {at}; mount {at}; check {at} {at}; umount {at}',
        ]
    return script


def _windows_script(windows: list[Any]) -> list[str]:
    """Mount what Windows guests get, by the kernel's drivers for it; see where folders lead, and write a little."""
    script = []
    for asked in windows:
        part = asked["partitions"][-1]
        at, kind = f"/win/{asked['name']}", {"ntfs": "ntfs3"}.get(part["filesystem"], part["filesystem"])
        script += [
            f"mkdir -p {at}; mount -t {kind} {device_at(OF_WINDOWS[asked['name']])}{part['number']} {at}; {SHOWS.format(at=at)}",
            f'echo "{at} links $(cd {at}; find . -type l)"',
            f"light {at}; umount {at}",
        ]
    at = f"mount -t ntfs3 {device_at(TAKEN_OUT)}2 /win/out"
    return [*script, f"mkdir /win/out; {at}; cd /win/out; rm frames; ln -s a:/b more; cd /; umount /win/out"]


def _every_kind(folder: Path) -> Path:
    """Write a sheet with a disk for each sector size that holds the KINDS it can; return it."""
    disks = ""
    for sector in (512, 4096):
        parts: list[str] = []
        for name, size, more in KINDS:
            if sector == 4096 and (name, size) not in ALSO_4096:
                continue
            at = "" if name == "swap" else f'at = "/srv/k{sector}/{len(parts) + 1}"\n'
            parts.append(f'filesystem = "{name}"\nsize = "{size}"\n{at}{more}')
        disks += disk(f"k{sector}", f"sector = {sector}", *parts)
    parts = [f'filesystem = "{name}"\nsize = "40 MiB"\nat = "/srv/m/{n}"' for n, name in enumerate(MANY)]
    disks += disk("many", 'size = "1 GiB"\ntable = "mbr"', *parts)
    parts = [
        f'filesystem = "ntfs"\nsize = "{size}"\nat = "/srv/loaded/{n}"\n{more}'
        for n, (size, more, _) in enumerate(LOADED)
    ]
    disks += disk("loaded", "", *parts)
    sheet = make_sheet(folder, disks, guest='root = "root"\nslots = ["scsi 90-99"]')
    run("write", str(sheet), status=0)
    return sheet


def _owners(part: Any) -> tuple[str, str]:
    """Return owner and mode to be shown of the root, and of a folder that the superuser made in it."""
    asked = {("fat32", 100): "1201:1300 750", ("exfat", 100): "1201:1300 700", ("ntfs", 100): "1201:1300 700"}
    wanted = asked.get((part["filesystem"], part["size"] // MIB), "0:0 755")
    if part["filesystem"] == "ntfs":  # whose driver shows the root with all permissions, and keeps owners in attributes
        return f"{wanted[:-3]}777", "0:0 755"
    if part["filesystem"] == "xfs" and part["size"] == 400 * MIB:
        return "1201:1300 2770", "0:1300 2755"
    return wanted, wanted


def test_guest_uses_every_kind(booted: Boot) -> None:
    """Portable filesystems, xfs and swap: mounted by their entries, shown as promised, sound after use."""
    for position, asked in enumerate(booted.kinds["disks"], 90):
        for part in asked["partitions"]:
            said = booted.said[f"part-{position}-{part['number']} lies"].split()
            assert [int(word) for word in said[:2]] == [part["start"] // 512, part["size"] // 512], part
    swaps = [line.split() for line in booted.said["swap on"].split("\n")[0].split("/dev/")[1:]]
    promised = []
    for asked, found in list(zip(booted.kinds["disks"], booted.surveys, strict=True))[:-1]:
        for part, after in zip(asked["partitions"], found["partitions"], strict=True):
            assert after["filesystem"]["uuid"] == part["uuid"], part
            if part["filesystem"] == "swap":
                promised.append(part["shows"]["total"] // KIB)
                continue
            at = part["at"]
            assert booted.answers.shows(at) == part["shows"], part
            assert booted.said[f"{at} intact"] == "25", part
            assert (booted.said[f"{at} root"], booted.said[f"{at} inside"]) == _owners(part), part
        assert rules(found) in ([], ["sector-not-recorded"])
    assert sorted(int(line[2]) for line in swaps) == sorted(promised)


def test_guest_fills_ntfs_and_narvet_finds_nothing_wrong(booted: Boot) -> None:
    """Thousands of files in every kind of cluster; afterwards every record, index, run and right agrees."""
    asked, found = booted.kinds["disks"][-1], booted.surveys[-1]
    for (_, _, count), part, after in zip(LOADED, asked["partitions"], found["partitions"], strict=True):
        at = part["at"]
        assert booted.answers.shows(at) == part["shows"], part
        assert booted.said[f"{at} intact"] == str(count - len(range(1, count, 3)) + DEEP), part
        unit, left = (int(word) for word in booted.said[f"{at} full"].split())
        assert left <= ZONE + 64 * KIB // unit, part  # the last write was of 64 KiB
        assert after["filesystem"]["uuid"] == part["uuid"]
    assert found["findings"] == []


def test_guest_uses_what_windows_guests_get(booted: Boot) -> None:
    """Partitions lie as laid out, what is set aside among them; a folder is a link; afterwards all is as asked."""
    for asked in booted.windows:
        for part in asked["partitions"]:
            said = booted.said[f"part-{OF_WINDOWS[asked['name']]}-{part['number']} lies"].split()
            assert [int(word) for word in said[:2]] == [part["start"] // 512, part["size"] // 512]
        assert booted.answers.shows(f"/win/{asked['name']}") == asked["partitions"][-1]["shows"]
    assert booted.said["/win/pictures links"] == "./frames"
    assert facts("confirm", str(booted.example))["agrees"]
    found = facts("survey", *(str(booted.example.parent.parent / asked["path"]) for asked in booted.windows))
    assert [one["findings"] for one in found] == [[], [], []]


def test_guest_takes_a_folder_mount_out_again(booted: Boot) -> None:
    """The driver finds the mount point in the volume's list of them, and puts a link of its own there."""
    (found,) = facts("survey", str(booted.example.parents[1] / "out.vhdx"))
    assert found["findings"] == [] and found["partitions"][1]["filesystem"]["links"] == []


def test_no_driver_complains(booted: Boot) -> None:
    assert complaints(booted.answers.log, "xfs", "fat", "ntfs", "swap", "ext4", "sda", "sdb", "Buffer I/O", "GPT") == []
