"""The machine's own kernel judges ext4 and xfs as Narvet writes them: numbers to the byte, under load, without complaint."""

from __future__ import annotations

import fcntl
import os
import shutil
import struct
from fractions import Fraction
from itertools import product
from pathlib import Path
from typing import Any
from uuid import UUID

import pytest

from narvet.block.file import FileDevice
from narvet.block.files import stored_at as stored
from narvet.block.granules import data_runs
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import Purpose, Wishes
from narvet.formats.images import NAMES, ending_of
from narvet.formats.images.chain import identify, open_image
from narvet.ground.units import GIB, KIB, MIB, TIB
from tests.program import HERE, facts, run
from tests.real import load
from tests.real.kernel import as_raw, mounted, quiet_log, shown

pytestmark = pytest.mark.kernel

SIZES = (
    2 * MIB, 2 * MIB + 1536, 3 * MIB + 512, 5 * MIB, 8 * MIB, 8 * MIB + KIB, 8 * MIB + 30 * KIB, 16 * MIB + 5 * KIB,
    24 * MIB + 7 * 512, 33 * MIB, 57 * MIB + 4096, 64 * MIB - 512, 64 * MIB, 64 * MIB + 512, 100 * MIB,
    128 * MIB, 128 * MIB + 4 * KIB, 130 * MIB, 131 * MIB + 512, 256 * MIB - 4096, 257 * MIB, 384 * MIB + 600 * 4096,
    GIB, GIB + 511 * 512, 2 * GIB + 5 * MIB, 8 * GIB + 4096, 10**10, 65 * GIB + 3 * 4096,
)  # fmt: skip
PURPOSES: tuple[Purpose, ...] = ("general", "database", "logs", "media")


XFS_SIZES = (
    16 * MIB, 16 * MIB + 3 * 512, 17 * MIB + KIB, 40 * MIB, 63 * MIB, 64 * MIB, 95 * MIB + 4096, 130 * MIB, 299 * MIB,
    300 * MIB - 512, 300 * MIB, 301 * MIB + 7 * 512, 512 * MIB, GIB, GIB + 511 * 512, 2 * GIB + 5 * MIB, 10**10,
    65 * GIB + 3 * 4096, 128 * GIB, TIB,
)  # fmt: skip

# What can be set by a key of its own, and what the storage below is like; each at a few sizes.
WISHES: dict[str, tuple[Any, ...]] = {
    "ext4": (
        {"unit": KIB}, {"unit": 2 * KIB}, {"unit": 4 * KIB}, {"unit": 64 * KIB}, {"unit": 16 * KIB}, {"unit": MIB}, {"inode_each": 4 * KIB}, {"inode_each": MIB},
        {"journal": 8 * MIB}, {"reserved": Fraction(5, 100)}, {"reserved": Fraction(0)},
        {"chunk": 64 * KIB, "stripe": 256 * KIB},
    ),
    "xfs": (
        {"unit": KIB}, {"unit": 2 * KIB}, {"journal": 40 * MIB}, {"chunk": 64 * KIB, "stripe": 256 * KIB},
        {"chunk": 512 * KIB, "stripe": 4 * MIB}, {"chunk": MIB, "stripe": MIB},
    ),
}  # fmt: skip


def written(image: Path, size: int, options: Wishes, name: str = "ext4") -> dict[str, int]:
    """Write a filesystem to a new image of its size; return what is promised of it."""
    kind = filesystem(name)
    new = kind.plan(size, options)
    with image.open("x+b", buffering=0) as file:
        file.truncate(size)
        new.write(FileDevice(file))
    assert image.stat().st_blocks * 512 <= new.footprint()
    promised = new.capacity()
    return {"total": promised.total, "free": promised.free, "available": promised.available}


def sound(image: Path, name: str, free: int) -> None:
    """Narvet's own reader finds nothing to complain about, and the free space the kernel showed."""
    with open_image(image) as device:
        found = filesystem(name).read(device, HERE)
    assert found is not None and found.findings == () and (name == "ext4" or found.free == free)


@pytest.mark.parametrize("purpose", PURPOSES)
@pytest.mark.parametrize(("name", "sizes"), [("ext4", SIZES), ("xfs", XFS_SIZES)])
def test_shows_what_was_promised(tmp_path: Path, name: str, sizes: tuple[int, ...], purpose: Purpose) -> None:
    image = tmp_path / "image.raw"
    for sector, size in product((512, 4096), sizes):
        if size // sector * sector < filesystem(name).least:
            continue
        native_id = UUID(int=size)
        options = Wishes(native_id, "seeds", purpose, sector, 70001, 1300, 0o2750, 1772409600)
        promised = written(image, size // sector * sector, options, name)
        with quiet_log(), mounted(image, tmp_path) as place:
            assert shown(place) == promised, size
            about = place.stat()
            assert (about.st_uid, about.st_gid, about.st_mode & 0o7777) == (70001, 1300, 0o2750)
            assert about.st_mtime == 1772409600
        sound(image, name, promised["free"])
        image.unlink()


@pytest.mark.parametrize("name", WISHES)
def test_every_key_has_its_effect(tmp_path: Path, name: str) -> None:
    image = tmp_path / "image.raw"
    for wish, size in product(WISHES[name], (100 * MIB + 5 * 512, 600 * MIB, 20 * GIB + MIB)):
        if wish.get("journal", 0) > size // 8 or wish.get("unit", 0) > size // 400:
            continue
        promised = written(image, size, Wishes(uuid=UUID(int=size), **wish), name)
        with quiet_log(), mounted(image, tmp_path) as place:
            assert shown(place) == promised, (wish, size)
            load.verify(load.fill(place, size, most=2 * MIB))
            free = shown(place)["free"]
        sound(image, name, free)
        image.unlink()


@pytest.mark.parametrize(
    ("name", "size"),
    [("ext4", size) for size in (2 * MIB + 1536, 20 * MIB + 512, 90 * MIB, 160 * MIB + 4096)]
    + [("xfs", size) for size in (16 * MIB, 100 * MIB + 512, 340 * MIB)],
)
def test_holds_a_load(tmp_path: Path, name: str, size: int) -> None:
    image = tmp_path / "image.raw"
    written(image, size, Wishes(uuid=UUID(int=size)), name)
    with quiet_log():
        with mounted(image, tmp_path) as place:
            made = load.fill(place, size)
            # xfs refuses a write whose entries in its trees might need more than is left.
            assert shown(place)["available"] < (64 * KIB if name == "ext4" else 512 * KIB)
            load.verify(made)
            load.delete_half(made)
        with mounted(image, tmp_path) as place:
            load.verify(made)
            (place / "again").mkdir()
            made |= load.fill(place / "again", size + 1)
            load.verify(made)
            free = shown(place)["free"]
    sound(image, name, free)


@pytest.mark.parametrize(("before", "after"), [(20 * MIB, 200 * MIB), (400 * MIB, 30 * GIB), (GIB, TIB)])
def test_xfs_is_enlarged_while_it_is_mounted(tmp_path: Path, before: int, after: int) -> None:
    """By the kernel's own call: struct xfs_growfs_data holds the new number of blocks and the share for inodes."""
    image = tmp_path / "image.raw"
    written(image, before, Wishes(uuid=UUID(int=before)), "xfs")
    os.truncate(image, after)
    with quiet_log(), mounted(image, tmp_path) as place:
        made = load.fill(place, before, most=4 * MIB)
        handle = os.open(place, os.O_RDONLY)
        fcntl.ioctl(handle, 0x4010586E, struct.pack("<QIxxxx", after // (4 * KIB), 25))
        os.close(handle)
        assert shown(place)["total"] > after - 64 * MIB
        (place / "more").mkdir()
        load.verify(made | load.fill(place / "more", after, most=100 * MIB))
    with quiet_log(), mounted(image, tmp_path) as place:  # what is kept for transactions follows at the next mount
        free = shown(place)["free"]
    sound(image, "xfs", free)


@pytest.mark.parametrize("size", [TIB, 2 * TIB + 9 * 4096, 5 * TIB + 123 * 512, 16 * TIB + MIB, 64 * TIB])
@pytest.mark.parametrize("name", ["ext4", "xfs"])
def test_large_ones(shared_memory: Path, name: str, size: int) -> None:
    image = shared_memory / "image.raw"
    promised = written(image, size, Wishes(uuid=UUID(int=size)), name)
    assert image.stat().st_blocks * 512 < (110 * MIB if name == "ext4" else 3 * MIB)
    with quiet_log(), mounted(image, shared_memory) as place:
        assert shown(place) == promised
        load.verify(load.fill(place, size, most=64 * MIB))


@pytest.mark.parametrize("name", ["ext4", "xfs"])
def test_reclaims_what_was_deleted(tmp_path: Path, name: str) -> None:
    """After use, deleting and reclaiming, an image of any format stores what is left, which is bit for bit the same."""
    blank, used = tmp_path / "blank.raw", tmp_path / "used.raw"
    written(blank, 200 * MIB, Wishes(uuid=UUID(int=9)), name)
    shutil.copy(blank, used)
    with mounted(used, tmp_path) as place:
        made = load.fill(place, 9, most=120 * MIB)
        load.delete_half(made)
        kept = shown(place)["total"] - shown(place)["free"]
    child = tmp_path / "child.qcow2"
    run("branch", str(blank), str(child), "--block", "4 KiB", status=0)
    with open_image(child, writable=True) as device, open_image(used) as source:
        for offset, data in data_runs(source, source.extents()):
            device.write(offset, data)
    formats = NAMES if name == "ext4" else ("raw", "vhdx")
    images = [tmp_path / f"image{ending_of(one)}" for one in formats]
    for image in images:
        run("recast", str(used), str(image), status=0)
    for image in (*images, child):
        native_id = identify(image).facts.id
        told = facts("reclaim", str(image))
        assert told["before"] > 100 * MIB and told["after"] < kept + 45 * MIB, (image, told)
        assert stored(image) == told["after"] and identify(image).facts.id == native_id
        copy = as_raw(image, tmp_path / "copy")
        with quiet_log(), mounted(copy, tmp_path) as place:
            load.verify({place / file.relative_to(tmp_path / "mount"): checksum for file, checksum in made.items()})
            (place / "again").mkdir()
            load.verify(load.fill(place / "again", 10, most=MIB))
    assert facts("reclaim", str(images[0]))["after"] == stored(images[0])
    assert "is a child of it" in run("reclaim", str(blank), status=2).stderr
    run("recast", str(used), str(tmp_path / "full.vhd"), "--space", "full", status=0)
    assert facts("reclaim", str(tmp_path / "full.vhd"))["after"] < 160 * MIB


def test_the_example(tmp_path: Path) -> None:
    """Every partition of the example's Linux guests, at its offset, shows what the review says and holds a load."""
    run("demo", "larkmoor", status=0, cwd=tmp_path)
    review = facts("review", "larkmoor/sheet.toml", cwd=tmp_path)
    for disk in (disk for disk in review["disks"] if disk["runs"] == "linux"):
        image = as_raw(tmp_path / disk["path"], tmp_path / "copy")
        for part in disk["partitions"]:
            if part["at"] is None or part["sealed"]:
                continue  # a pool's member, and what only its guest can open: its own tests have these
            with quiet_log(), mounted(image, tmp_path, part["start"], part["size"]) as place:
                assert shown(place) == part["shows"], part["label"]
                load.verify(load.fill(place, part["start"], most=MIB))
