"""A sheet that asks for less than is there: disks get smaller with what is on them, and nothing is lost."""

from __future__ import annotations

import shutil
import struct
from pathlib import Path

import pytest

import narvet
from narvet.apply import change
from narvet.formats.images import NAMES as FORMATS
from narvet.formats.images import ending_of
from narvet.formats.images.chain import open_image
from narvet.ground.units import MIB
from narvet.ground.values import replace
from narvet.usecases import shrink
from tests.program import disk, facts, make_sheet, run
from tests.test_changes import INTO, content, rewrite, settled

SMALLER = [
    *((kind, "", "ext4") for kind in FORMATS),
    ("raw", 'space = "full"', "ntfs"),
    ("vhdx", "sector = 4096", "ntfs"),
    ("qcow2", 'block = "512 B"', "swap"),
    ("vhd", 'table = "mbr"', "ntfs"),
    ("raw", 'table = "none"', "ext4"),
    ("vmdk", 'table = "none"', "ntfs"),
]


@pytest.mark.parametrize(("kind", "keys", "filesystem"), SMALLER)
def test_every_floor_shrinks_and_grows_again(tmp_path: Path, kind: str, keys: str, filesystem: str) -> None:
    """What the review promises is what is there; where files must move, that is asked for first, with the least size."""
    at = "" if filesystem == "swap" else f"{INTO}\nmove_files = false"
    part = f'filesystem = "{filesystem}"\n{at}'
    sheet = make_sheet(tmp_path, disk("a", f'size = "90 MiB"\nformat = "{kind}"\n{keys}', part))
    narvet.write(sheet)
    image = tmp_path / "shelf" / f"a{ending_of(kind)}"
    before = content(image)
    rewrite(sheet, ("90 MiB", "30 MiB"))
    if filesystem == "ntfs":  # which keeps some of its own files halfway
        told = run("write", str(sheet), status=1).stderr
        assert "cannot-be-changed" in told and "move_files = true" in " ".join(told.split())
        assert content(image) == before
        rewrite(sheet, ("move_files = false", "move_files = true"))
    for size in ("30 MiB", "80 MiB", "29 MiB"):
        rewrite(sheet, *([] if size == "30 MiB" else [("30 MiB" if size == "80 MiB" else "80 MiB", size)]))
        (asked,), (found,) = settled(sheet)["disks"], facts("survey", str(image))
        assert (asked["size"], [one for one in found["findings"] if one["level"] != "note"]) == (found["size"], [])
        (inside,) = found["partitions"]
        assert asked["partitions"][0]["shows"]["total"] == narvet.survey(image).partitions[0].filesystem.total  # type: ignore[union-attr]
        assert inside["filesystem"]["uuid"] == asked["partitions"][0]["uuid"]
        assert found["space"] == ("full" if "full" in keys else "thin")


def test_what_cannot_shrink_is_refused_with_what_it_needs(tmp_path: Path) -> None:
    """Nothing is touched: filesystems that cannot, bytes that nobody knows, copies, a partition that others lie behind."""
    for kind in ("xfs", "fat32", "exfat"):
        sheet = make_sheet(tmp_path / kind, disk("a", 'size = "400 MiB"', f'filesystem = "{kind}"\nat = "/srv/a"'))
        narvet.write(sheet)
        before = content(sheet.parent / "shelf" / "a.raw")
        rewrite(sheet, ("400 MiB", "300 MiB"))
        told = " ".join(run("write", str(sheet), status=1).stderr.split())
        assert f"{kind} cannot be made smaller" in told and "copy the files" in told
        assert content(sheet.parent / "shelf" / "a.raw") == before
        assert (
            "cannot be made smaller"
            in run("shrink", str(sheet.parent / "shelf" / "a.raw"), "--size", "90 MiB", status=1).stderr
        )
    two = [f'size = "100 MiB"\nat = "/srv/{n}"\nmove_files = true' for n in "ab"]
    sheet = make_sheet(tmp_path / "two", disk("a", 'size = "400 MiB"', *two))
    narvet.write(sheet)
    image = sheet.parent / "shelf" / "a.raw"
    rewrite(sheet, ('"400 MiB"', '"150 MiB"'))
    assert "partition-past-end" in run("write", str(sheet), status=1).stderr
    rewrite(sheet, ('"150 MiB"', '"210 MiB"'))
    settled(sheet)  # the tail alone
    start = narvet.survey(image).partitions[1].start
    rewrite(sheet, ('size = "100 MiB"\nat = "/srv/a"', 'size = "40 MiB"\nat = "/srv/a"'))
    settled(sheet)  # the first of two: the second stays where it is
    assert narvet.survey(image).partitions[1].start == start
    rewrite(sheet, ('size = "40 MiB"\nat = "/srv/a"', 'size = "20 MiB"\nat = "/srv/other"'))
    assert "where its files never were" in " ".join(run("write", str(sheet), status=1).stderr.split())
    told = " ".join(run("shrink", str(image), "--size", "60 MiB", status=2).stderr.split())
    assert "a partition starts at" in told
    told = " ".join(run("shrink", str(image), "--size", "104 MiB", "--move-files", status=1).stderr.split())
    assert "it needs at least" in told
    assert "enlarge it" in run("shrink", str(image), "--size", "900 MiB", status=2).stderr
    assert facts("shrink", str(image), "--size", "210 MiB")["changes"] == []
    assert "shrink it first" in run("recast", str(image), str(tmp_path / "x.vhd"), "--size", "170 MiB", status=2).stderr
    run("shrink", str(image), "--size", "190 MiB", "--move-files", status=0)
    run("recast", str(image), str(tmp_path / "x.vhd"), "--verify", status=0)


@pytest.mark.parametrize("table", ["gpt", "mbr"])
def test_a_partition_is_added_in_a_gap(tmp_path: Path, table: str) -> None:
    """Between others, with the number that is free; where it does not fit, that is refused."""
    keys, last = f'size = "300 MiB"\ntable = "{table}"', 'filesystem = "swap"'
    sheet = make_sheet(tmp_path, disk("a", keys, 'size = "100 MiB"\nat = "/srv/a"', last))
    narvet.write(sheet)
    rewrite(sheet, ("100 MiB", "40 MiB"))
    settled(sheet)
    image = tmp_path / "shelf" / "a.raw"
    before = narvet.survey(image).partitions
    added = 'number = 3\nsize = "70 MiB"\nfilesystem = "xfs"\nat = "/srv/c"'
    head = sheet.read_text()[: sheet.read_text().index("[disk.a]")]
    sheet.write_text(head + disk("a", keys, 'size = "40 MiB"\nat = "/srv/a"', added, last))
    assert "neighbour-in-the-way" in run("write", str(sheet), status=1).stderr
    rewrite(sheet, ("70 MiB", "60 MiB"))
    settled(sheet)
    found = narvet.survey(image)
    assert found.partitions[:2] == before and found.findings == ()
    (there,) = found.partitions[2:]
    assert (there.start, there.size) == (before[0].end, 60 * MIB) and there.filesystem is not None
    sheet.write_text(head + disk("a", keys, added.replace("3", "4", 1), 'size = "40 MiB"\nat = "/srv/a"', last))
    assert "image-differs" in run("write", str(sheet), status=1).stderr  # the third is not in the sheet


def test_an_extended_partition_ends_with_the_disk(tmp_path: Path) -> None:
    """A logical partition at the end gets smaller, and what holds it too: no entry leaves the disk."""
    parts = [*(['size = "20 MiB"'] * 4), 'at = "/srv/e"']
    sheet = make_sheet(tmp_path, disk("a", 'size = "300 MiB"\ntable = "mbr"', *parts))
    narvet.write(sheet)
    rewrite(sheet, ("300 MiB", "150 MiB"))
    settled(sheet)
    image = tmp_path / "shelf" / "a.raw"
    new = tmp_path / "new.vhdx"
    run("recast", str(image), str(new), "--verify", status=0)
    for path in (image, new):
        with open_image(path) as device:
            rows = device.read(446, 64)
            ends = [sum(struct.unpack_from("<II", rows, at + 8)) * 512 for at in range(0, 64, 16)]
            assert max(ends) == device.size == 150 * MIB
    run("shrink", str(new), "--size", "120 MiB", status=0)
    with open_image(new) as device:
        rows = device.read(446, 64)
        assert max(sum(struct.unpack_from("<II", rows, at + 8)) * 512 for at in range(0, 64, 16)) == 120 * MIB


def test_large_moves_are_copied_ahead_of_the_change(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What moves is written once, to free places; a refused commit leaves the filesystem as it was."""
    monkeypatch.setattr(change, "_AT_ONCE", -1)
    for kind in ("ext4", "ntfs"):
        image = tmp_path / f"{kind}.raw"
        run("make", str(image), "--size", "300 MiB", "--filesystem", kind, status=0)
        before = narvet.survey(image)
        with monkeypatch.context() as patch:
            patch.setattr(change.ChangeDisk, "_check_becomes", _refuse)
            with pytest.raises(narvet.RefusedError):
                narvet.shrink(image, 60 * MIB, move_files=True)
        assert replace(narvet.survey(image), image=before.image) == before
        copied: list[int] = []
        done = narvet.shrink(image, 60 * MIB, move_files=True, on_copied=copied.append)
        assert kind == "ext4" or sum(copied) > 0  # the other keeps the copy of its first records halfway
        assert done.after.size == 60 * MIB == narvet.survey(image).size
        assert narvet.survey(image).findings == ()


def test_a_store_without_room_for_the_copy_is_told_first(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    image = tmp_path / "a.vhdx"
    run("make", str(image), "--size", "300 MiB", "--filesystem", "ext4", status=0)
    before = image.read_bytes()
    with monkeypatch.context() as patch, pytest.raises(narvet.RefusedError, match="rewritten in its place"):
        patch.setattr(shrink, "disk_usage", lambda _: shutil._ntuple_diskusage(1, 1, 0))
        narvet.shrink(image, 60 * MIB)
    assert image.read_bytes() == before
    assert narvet.shrink(image, 60 * MIB).after.size == 60 * MIB == narvet.survey(image).size


def _refuse(*_: object) -> None:
    raise narvet.RefusedError("not now")
