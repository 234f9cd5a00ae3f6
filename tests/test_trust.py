"""What images say is not believed: formats, bases and pieces are decided by people; doubt keeps what is there."""

from __future__ import annotations

import os
import random
import time
from pathlib import Path
from typing import Any
from uuid import UUID

import pytest

from narvet.block.file import FileDevice
from narvet.block.window import Window
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import Wishes
from narvet.formats.filesystems.trees import Owner
from narvet.formats.images import image_format
from narvet.formats.images.chain import identify, new_image_file, open_image, own_parts_of
from narvet.formats.images.contract import ImageSpec
from narvet.formats.images.fold_mark import FoldMark, mark_path, write_mark
from narvet.formats.images.trust import trust_of_call
from narvet.formats.tables import table_format
from narvet.formats.tables.contract import PartitionEntry, Table
from narvet.ground.errors import ImageError, RefusedError
from narvet.ground.units import KIB, MIB
from narvet.guests.linux.root import is_linux_root
from narvet.guests.roots import changed_root, opened_root
from narvet.model.estate import Root
from tests.program import disk, facts, make_sheet, rules, run


def image(path: Path, size: int = 4 * MIB, **wishes: object) -> Path:
    """A small image with something in it."""
    kind = image_format(path.suffix[1:])
    with new_image_file(kind, path, ImageSpec(kind.fit(size), id=UUID(int=3), **wishes)) as device:  # type: ignore[arg-type]
        device.write(MIB, b"seeds" * 1000)
    return path


def test_a_raw_disk_with_another_formats_header_is_decided_by_people(tmp_path: Path) -> None:
    """A guest writes the header of a child of a host file into its disk: nothing of that file gets out."""
    secret = tmp_path / "secret.raw"
    secret.write_bytes(b"secret" * 100_000)
    child, shelf = tmp_path / "child.qcow2", tmp_path / "shelf"
    run("branch", str(secret), str(child), status=0)
    hostile = tmp_path / "hostile.raw"
    hostile.write_bytes(child.read_bytes().ljust(4 * MIB, b"\0"))
    for words in (
        ["recast", "@", str(tmp_path / "new.vhdx")],
        ["reclaim", "@"],
        ["branch", "@", str(tmp_path / "b.qcow2")],
    ):
        told = run(*(word.replace("@", str(hostile)) for word in words), status=2).stderr
        assert "it starts like a qcow2 image" in told and "--image-format" in told
    sheet = make_sheet(tmp_path, disk("a", 'copy_of = "hostile.raw"'))
    assert "starts like a qcow2" in str(facts("review", str(sheet), status=1)["findings"])
    run("recast", str(hostile), str(tmp_path / "new.raw"), "--image-format", "raw", status=0)
    assert (tmp_path / "new.raw").read_bytes() == hostile.read_bytes()
    sheet = make_sheet(tmp_path, disk("a", 'size = "4 MiB"'))  # a sheet that says raw has decided
    (shelf / "a.raw").write_bytes(hostile.read_bytes())
    assert "secret" not in run("review", str(sheet), status=1).stdout


@pytest.mark.parametrize("name", ["empty.vhd", "cut.raw", "other.img", "wrong.vhdx"])
def test_what_cannot_be_read_is_not_taken_for_raw(tmp_path: Path, name: str) -> None:
    source = tmp_path / name
    if name == "cut.raw":
        run("make", str(source), "--size", "64 MiB", "--filesystem", "ext4", status=0)
        os.truncate(source, 40 * MIB)
        assert "table-cut-short" in rules(facts("survey", str(source), status=1)[0])
        os.truncate(source, 32 * KIB)
        assert "table-cut-short" in rules(facts("survey", str(source), status=1)[0])
    else:
        source.write_bytes(b"" if name == "empty.vhd" else b"no such thing" * 1000)
    done = run("recast", str(source), str(tmp_path / "new.qcow2"), status=None)
    assert done.returncode in (1, 2) and str(source) in done.stderr and not (tmp_path / "new.qcow2").exists()


def test_bases_elsewhere_are_followed_only_when_they_are_named(tmp_path: Path) -> None:
    for kind in ("qcow2", "vhdx", "vmdk", "vhd"):
        apart = tmp_path / kind
        apart.mkdir()
        base, child = image(apart / f"base.{kind}"), tmp_path / f"child.{kind}"
        run("branch", str(base), str(child), status=0)
        before = base.read_bytes()
        for words in (["fold", str(child)], ["recast", str(child), str(tmp_path / "new.raw")]):
            told = run(*words, status=1).stderr
            assert "does not lie beside it" in told and "--base" in told and base.read_bytes() == before
        assert rules(facts("survey", str(child), status=1)[0]) == ["base-elsewhere"]
        run("recast", str(child), str(tmp_path / "new.raw"), "--base", str(base), status=0)
        (tmp_path / "new.raw").unlink()
        run("fold", str(child), "--base", str(base), status=0)
    # A base that is not what was recorded: another format, or another image.
    base, child = image(tmp_path / "b.vmdk"), tmp_path / "c.vmdk"
    run("branch", str(base), str(child), status=0)
    base.write_bytes(base.read_bytes().replace(b"\nCID=", b"\nCID=f", 1).replace(b"\nparentCID", b"\nparentCI", 1))
    assert run("fold", str(child), status=None).returncode in (1, 3) and child.exists()
    base.write_bytes(b"no image at all" * 1000)
    assert "this is not a vmdk image" in run("fold", str(child), status=1).stderr


def test_pieces_are_removed_only_where_they_are_this_images(tmp_path: Path) -> None:
    """A descriptor names the pieces of another image, a standing image, or a file of another name: all of them stay."""
    mine, theirs = tmp_path / "mine.vmdk", tmp_path / "theirs.vmdk"
    image(theirs, pieces=2 * MIB)
    standing = image(tmp_path / "mine-1.vmdk")
    text = theirs.read_text()
    kept = {path: path.read_bytes() for path in tmp_path.iterdir()}
    for names in (("theirs-1", "theirs-2", "theirs-3"), ("mine-1", "mine-1", "mine-1"), ("../etc-1",) * 3):
        for number, name in enumerate(names, 1):
            text = text.replace(f"theirs-{number}.vmdk", f"{name}.vmdk")
        mine.write_text(text)
        with pytest.raises(ImageError):
            own_parts_of(image_format("vmdk"), mine)
        text = theirs.read_text()
    assert {path: path.read_bytes() for path in kept} == kept and standing.exists()
    mine.unlink()
    assert len(own_parts_of(image_format("vmdk"), theirs)) == 3
    assert own_parts_of(image_format("vmdk"), standing) == ()
    (tmp_path / ".new.vmdk.narvet-partial").write_text(theirs.read_text())  # planted: not a folder of ours
    run("recast", str(standing), str(tmp_path / "new.vmdk"), "--pieces", "2 MiB", status=0)
    assert all(path.read_bytes() == content for path, content in kept.items())


def test_children_are_found_whatever_their_endings(tmp_path: Path) -> None:
    base = image(tmp_path / "base.qcow2")
    run("branch", str(base), str(tmp_path / "two.img"), "--format", "qcow2", status=0)
    run("branch", str(base), str(tmp_path / "one.qcow2"), status=0)
    assert f"{tmp_path}/two.img needs this base" in run("fold", str(tmp_path / "one.qcow2"), status=2).stderr
    (tmp_path / "one.qcow2").unlink()
    assert "two.img is a child of it" in run("reclaim", str(base), status=2).stderr


def test_a_base_changed_after_a_stopped_fold_is_noticed(tmp_path: Path) -> None:
    """A mark explains what Narvet wrote itself, and nothing that came before its first write or long after its last."""
    base, child = image(tmp_path / "base.raw"), tmp_path / "child.qcow2"
    run("branch", str(base), str(child), status=0)
    with open_image(child, writable=True) as device:
        device.write(2 * MIB, b"new")
    link = identify(child).facts.base_link
    before = FoldMark(str(base), link)
    long_ago = FoldMark(str(base), link, "writing", until=time.time_ns() - 10**9)
    for mark in (before, long_ago):
        write_mark(mark_path(child), mark)
        time.sleep(0.01)
        with base.open("r+b") as file:
            file.write(b"changed by someone else")
        assert "it was changed since" in run("fold", str(child), status=3).stderr and child.exists()
        assert "is not what" in run("recast", str(child), str(tmp_path / "new.raw"), status=1).stderr


def test_sectors_of_4096_bytes_stay(tmp_path: Path) -> None:
    """Into a format that records them the table is kept; one that has others is refused; a note where nothing records."""
    old = tmp_path / "a.raw"
    run("make", str(old), "--size", "64 MiB", "--filesystem", "ext4", "--sector", "4096", status=0)
    assert "sector-not-recorded" in rules(facts("survey", str(old))[0])
    run("recast", str(old), str(tmp_path / "b.vhdx"), "--verify", "--size", "80 MiB", status=0)
    found = facts("survey", str(tmp_path / "b.vhdx"))[0]
    assert (found["sector"], found["table"], found["findings"]) == (4096, "gpt", [])
    for kind in ("vhd", "vmdk"):
        assert "sectors of 512" in run("recast", str(old), str(tmp_path / f"b.{kind}"), "--verify", status=2).stderr
    keys = 'size = "64 MiB"\nformat = "{}"\ntable = "mbr"\nsector = 4096'
    parts = 'filesystem = "ext4"', 'filesystem = "swap"\nsize = "8 MiB"'
    sheet = make_sheet(tmp_path, "".join(disk(f"m{kind}", keys.format(kind), *parts) for kind in ("raw", "qcow2")))
    run("write", str(sheet), status=0)
    assert facts("confirm", str(sheet))["agrees"] and facts("write", str(sheet))["done"] == []
    for kind in ("raw", "qcow2"):
        found = facts("survey", f"{tmp_path}/shelf/m{kind}.{kind}")[0]
        assert found["sector"] == 4096
        assert [part["filesystem"]["kind"] for part in found["partitions"]] == ["ext4", "swap"]


def test_a_larger_copy_keeps_every_byte_of_a_foreign_table(tmp_path: Path) -> None:
    """Boot code, an active partition and its old geometry in an MBR; a GPT with 16 entries and a partition right behind."""
    old, new, dice = tmp_path / "mbr.raw", tmp_path / "new.raw", random.Random(2)
    head = bytearray(
        dice.randbytes(446) + bytes.fromhex("80010100 83 fe3f05 3f000000 00100000") + bytes(48) + b"\x55\xaa"
    )
    old.write_bytes(bytes(head) + dice.randbytes(MIB) + bytes(4 * MIB))
    run("recast", str(old), str(new), "--size", "16 MiB", "--verify", status=0)
    assert new.read_bytes()[: old.stat().st_size] == old.read_bytes() and new.stat().st_size == 16 * MIB
    old, new = tmp_path / "gpt.raw", tmp_path / "larger.vhdx"
    _short_gpt(old, dice)
    run("recast", str(old), str(new), "--size", "16 MiB", "--verify", status=0)
    found = facts("survey", str(new))[0]
    assert [one["rule"] for one in found["findings"]] == ["partition-misaligned"]
    (part,) = found["partitions"]
    with open_image(new) as device:
        assert device.read(part["start"], part["size"]) == old.read_bytes()[part["start"] :][: part["size"]]
        assert device.read(0, 440) == old.read_bytes()[:440]


def _short_gpt(path: Path, dice: random.Random) -> None:
    """Write a GPT by hand: 16 entries, a partition from sector 6 on, boot code in the protective MBR."""
    from zlib import crc32

    sectors = 8 * MIB // 512
    entry = UUID("0fc63daf-8483-4772-8e79-3d69d8477de4").bytes_le + UUID(int=5).bytes_le
    entry += (
        (6).to_bytes(8, "little") + (2000).to_bytes(8, "little") + bytes(8) + "p".encode("utf-16-le").ljust(72, b"\0")
    )
    array = entry.ljust(16 * 128, b"\0")

    def header(mine: int, other: int, entries: int) -> bytes:
        body = b"EFI PART" + bytes.fromhex("00000100 5c000000 00000000 00000000")
        for value in (mine, other, 6, sectors - 6):
            body += value.to_bytes(8, "little")
        body += (
            UUID(int=9).bytes_le
            + entries.to_bytes(8, "little")
            + (16).to_bytes(4, "little")
            + (128).to_bytes(4, "little")
        )
        body += crc32(array).to_bytes(4, "little")
        return body[:16] + crc32(body).to_bytes(4, "little") + body[20:]

    disk_bytes = bytearray(8 * MIB)
    disk_bytes[:440] = dice.randbytes(440)
    disk_bytes[446:512] = (
        bytes.fromhex("00000200 ee ffffff 01000000") + (sectors - 1).to_bytes(4, "little") + bytes(48) + b"\x55\xaa"
    )
    disk_bytes[512:604] = header(1, sectors - 1, 2)
    disk_bytes[1024 : 1024 + len(array)] = array
    disk_bytes[6 * 512 : 2001 * 512] = dice.randbytes(1995 * 512)
    disk_bytes[(sectors - 5) * 512 :][: len(array)] = array
    disk_bytes[(sectors - 5) * 512 : (sectors - 5) * 512 + len(array)] = array
    disk_bytes[-512:-420] = header(sectors - 1, 1, sectors - 5)
    path.write_bytes(disk_bytes)


@pytest.mark.parametrize("doubt", ["overlap", "encrypted", "type", "bits lost", "twice", "none"])
def test_reclaim_gives_back_only_what_is_certain(tmp_path: Path, doubt: str) -> None:
    """The free space of an exfat and of a swap hold bytes; where anything is in doubt, they stay."""
    path, dice, gpt = tmp_path / "a.raw", random.Random(1), table_format("gpt")
    types = [gpt.partition_type(kind, "linux") for kind in ("exfat", "swap")]
    types = [gpt.partition_type("swap", "linux"), types[0]] if doubt == "type" else types
    first = 14 * MIB if doubt == "overlap" else 12 * MIB
    parts = (
        PartitionEntry(1, MIB, first, types[0], str(UUID(int=1)), "x"), PartitionEntry(2, 13 * MIB, 4 * MIB, types[1], str(UUID(int=2)), "y"),
    )  # fmt: skip
    with path.open("w+b", buffering=0) as file:
        file.truncate(20 * MIB)
        device = FileDevice(file)
        gpt.write(device, Table("gpt", str(UUID(int=7)), parts))
        for part, name in zip(parts, ("exfat", "swap"), strict=True):
            kind, window = filesystem(name), Window(device, part.start, part.size)
            new: Any = kind.plan(part.size, Wishes(label="x"))
            if name == "exfat":
                window.write(6 * MIB, dice.randbytes(2 * MIB))
            else:
                window.write(MIB, dice.randbytes(2 * MIB))
            new.write(window)
            if name == "exfat" and doubt == "bits lost":
                window.write(new.shape.heap * 512, b"\x03")  # the bit of the root
            if name == "swap" and doubt == "encrypted":
                window.write(0, bytes.fromhex("4c554b53babe0002"))
            if name == "swap" and doubt == "twice":
                window.write(3, b"NTFS    ")
    before, stored = path.read_bytes(), path.stat().st_blocks
    done = run("reclaim", str(path), "--json", status=None)
    after, smaller = path.read_bytes(), path.stat().st_blocks < stored
    assert done.returncode == (2 if doubt == "overlap" else 0), done.stderr
    exfat, swap = (after[part.start : part.end] == before[part.start : part.end] for part in parts)
    assert (exfat, swap) == {"none": (False, False), "bits lost": (True, False), "encrypted": (False, True), "twice": (False, True)}.get(doubt, (True, True))  # fmt: skip
    assert smaller == (not (exfat and swap))
    if doubt not in ("none", "overlap"):
        assert "is kept whole" in done.stdout


def test_tables_that_share_a_place_end_at_once(tmp_path: Path) -> None:
    """Second-level tables at one place, far beyond what the file could hold: an error, not hours of reading."""
    path = image(tmp_path / "a.qcow2", 64 << 30, block_size=4 * KIB)
    header = path.read_bytes()[:112]
    table, entries = int.from_bytes(header[40:48], "big"), int.from_bytes(header[36:40], "big")
    with path.open("r+b") as file:
        file.seek(table)
        first = next(entry for entry in (file.read(8) for _ in range(entries)) if any(entry))
        file.seek(table)
        file.write(first * entries)
    start = time.monotonic()
    assert rules(facts("survey", str(path), status=1)[0]) == ["image-damaged"]
    flat = image(tmp_path / "b.vhd", 1 << 30)
    data = bytearray(flat.read_bytes())
    used = next(data[at : at + 4] for at in range(1536, len(data), 4) if data[at : at + 4] != b"\xff" * 4)
    data[1536 : 1536 + 4 * 512] = used * 512
    flat.write_bytes(data)
    told = run("recast", str(flat), str(tmp_path / "new.raw"), status=1).stderr
    assert "share places" in told and time.monotonic() - start < 20 and not (tmp_path / "new.raw").exists()


def test_modes_links_and_remarks(tmp_path: Path) -> None:
    """A copy is no more readable than what it is of; links lead to their images; what is rounded is said."""
    private = image(tmp_path / "a.raw", 4 * MIB + 512)
    private.chmod(0o600)
    done = facts("recast", str(private), str(tmp_path / "b.vhdx"))
    assert (tmp_path / "b.vhdx").stat().st_mode & 0o777 == 0o600 and "cannot have exactly" in done["remarks"][0]
    run("branch", str(tmp_path / "b.vhdx"), str(tmp_path / "c.vhdx"), status=0)
    assert (tmp_path / "c.vhdx").stat().st_mode & 0o777 == 0o600
    link = tmp_path / "link.raw"
    link.symlink_to("a.raw")
    os.truncate(private, 4 * MIB)
    with private.open("r+b") as file:
        file.write(bytes(MIB))
    run("reclaim", str(link), status=0)
    assert link.is_symlink() and private.stat().st_mode & 0o777 == 0o600


def test_roots_are_walked_by_open_folders(tmp_path: Path) -> None:
    """A link swapped in after the way was found leads nowhere: what is made is made where the way led before."""
    root, outside, owner = tmp_path / "root", tmp_path / "outside", Owner(os.geteuid(), os.getegid(), 0o750)
    (root / "srv").mkdir(parents=True)
    (root / "etc").mkdir()
    outside.mkdir()
    with (
        changed_root(Root(str(root)), is_linux_root) as found,
        found.place("/srv/a/b") as place,
        found.place("etc") as etc,
    ):
        for name in ("srv", "etc"):
            (root / name).rename(tmp_path / f"moved-{name}")
            (root / name).symlink_to(outside)
        inner = found.edited.make_folder(place.folder, "a", owner, {})
        found.edited.make_folder(inner, "b", owner, {})
        found.edited.replace(etc.folder, "fstab", b"line\n")
    assert not list(outside.iterdir()) and (tmp_path / "moved-etc" / "fstab").read_bytes() == b"line\n"
    assert (tmp_path / "moved-srv" / "a" / "b").stat().st_mode & 0o777 == 0o750
    (root / "loop").symlink_to("loop")
    opened = opened_root(Root(str(root)), is_linux_root)
    with opened as found_now, pytest.raises(RefusedError, match="in circles"), found_now.place("/loop/x"):
        pass


def test_mount_points_have_their_owner_or_it_is_told(tmp_path: Path) -> None:
    sheet = make_sheet(tmp_path, disk("a", 'size = "8 MiB"', 'at = "/srv/a"\nowner = "curator"\nmode = "0750"'))
    run("write", str(sheet), status=0)
    place = tmp_path / "root" / "srv" / "a"
    about = place.stat()
    assert (about.st_uid, about.st_gid, about.st_mode & 0o777) == (1201, 1300, 0o750) or os.geteuid()
    if os.geteuid() == 0:
        os.chown(place, 0, 0)
        place.chmod(0o755)
        assert [one["asked"] for one in facts("confirm", str(sheet), status=1)["differences"]] == ["1201:1300 0750"]
        assert facts("write", str(sheet))["done"] == [str(place)] and facts("confirm", str(sheet))["agrees"]


def test_what_a_hostile_text_costs_and_says(tmp_path: Path) -> None:
    """Accounts with odd line ends, titles that command terminals, pipes and huge numbers in the place of a sheet."""
    sheet = make_sheet(tmp_path, disk("a", 'size = "8 MiB"', 'at = "/srv/a"\nowner = "evil"'))
    passwd = tmp_path / "root" / "etc" / "passwd"
    passwd.write_text("curator:x:1201:1300:\x0bevil:x:0:0::/:/bin/sh\u2028evil:x:0:0::/:/bin/sh:/home:/bin/sh\n")
    assert "owner-unknown" in rules(facts("review", str(sheet), status=1))
    text = make_sheet(tmp_path, disk("a", 'size = "8 MiB"', "")).read_text()
    sheet.write_text(text.replace("[store", 'title = "\\u009b31m\\u001b[2J\\u202e"\n[store', 1))
    for words in (["review", str(sheet)], ["review", str(sheet), "--json"]):
        shown = run(*words, status=0).stdout
        assert not set(shown) & set("\x1b\x9b\u202e")
    os.mkfifo(tmp_path / "pipe.toml")
    dotted = tmp_path / "dotted.toml"
    dotted.write_text(".".join("a" * 20_000) + " = 1\n")
    number = tmp_path / "number.toml"
    number.write_text(text[: text.rindex("[[")] + "sector = " + "9" * 5000)
    many = tmp_path / "many.toml"
    many.write_text(
        text[: text.rindex("[[")] + 'table = "gpt"\n' + '[[disk.a.partition]]\nsize = "1 MiB"\nat = "/x"\n' * 5000
    )
    start = time.monotonic()
    for path, status in ((tmp_path / "pipe.toml", 2), (dotted, 2), (number, 2), (many, 1)):
        run("review", str(path), status=status)
    for block in ("512 B", "2 KiB"):
        form = disk("a", 'size = "64 MiB"\nsector = 4096', f'filesystem = "exfat"\nblock = "{block}"')
        assert rules(facts("review", str(make_sheet(tmp_path, form)), status=1)) == [
            "key-without-effect",
            "sector-not-recorded",
        ]
    (tmp_path / "root" / "etc" / "fstab").write_bytes(b"/dev/sda1 /srv/x ext4 defaults 0 0\n" * 450_000)
    run("review", str(make_sheet(tmp_path, disk("a", 'size = "64 MiB"', 'at = "/srv/a"'))), status=0)
    assert time.monotonic() - start < 60


def test_surveys_of_several_and_trust_on_the_call(tmp_path: Path) -> None:
    good = image(tmp_path / "a.qcow2")
    (tmp_path / "empty").mkdir()
    done = run("survey", str(tmp_path / "none.raw"), str(good), str(tmp_path / "empty"), status=2)
    assert "a.qcow2" in done.stdout and done.stderr.count("\n") == 2
    assert trust_of_call(good, "raw").formats == {str(good): "raw"}
    for words in (
        ["--filesystem", "none", "--owner", "1:1"], ["--table", "none", "--align", "4 KiB"], ["--filesystem", "swap", "--mode", "0700"],
    ):  # fmt: skip
        assert "has no effect" in run("make", str(tmp_path / "x.raw"), "--size", "8 MiB", *words, status=2).stderr
    assert facts("make", str(tmp_path / "x.raw"), "--size", "8 MiB", "--unit", "4 KiB")["disk"]["partitions"][0]["filesystem"] == "ext4"  # fmt: skip
