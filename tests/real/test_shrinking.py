"""Filesystems made smaller judged by a real kernel: aged, files moved forward, mounted again; everything of each file."""

from __future__ import annotations

import os
import shutil
import struct
from pathlib import Path
from typing import Any
from uuid import UUID

import pytest

from narvet.block.delayed import Delayed
from narvet.block.file import FileDevice
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import CannotChangeError, FilesystemState, Shrinks, Wishes
from narvet.formats.filesystems.ext4.folders import renumbered
from narvet.formats.filesystems.ext4.inodes import inode_seed
from narvet.formats.filesystems.ext4.reach import Placed
from narvet.formats.filesystems.ext4.records import INODE_SIZE, SUPERBLOCK_OFFSET, Inode
from narvet.formats.filesystems.ext4.trees import mapped
from narvet.formats.filesystems.ext4.volume import Volume, superblock_on, volume_of
from narvet.formats.filesystems.ext4.write import sign
from narvet.ground.checksums import crc32c_raw
from narvet.ground.units import GIB, KIB, MIB, TIB
from narvet.ground.values import replace
from tests.program import HERE
from tests.real import load
from tests.real.kernel import mounted, quiet_log, shown
from tests.real.test_growth import grown

EXTENTS, EA_INODE, LARGE_DIR, INLINE_DATA, VERITY = 0x40, 0x400, 0x4000, 0x8000, 0x8000
ORPHAN_FILE = 0x1000


def shrunk(image: Path, name: str, size: int, *, moving: bool, staged: bool = True) -> FilesystemState:
    """Make the filesystem on a whole image smaller, and the image with it; return what is promised of it."""
    kind = filesystem(name)
    assert isinstance(kind, Shrinks)
    with image.open("r+b", buffering=0) as file:
        device = FileDevice(file)
        state = kind.read(device, HERE)
        assert state is not None and state.findings == () and not state.unclean
        plan = kind.shrunk(kind.reached(device, state), size, moving=moving)
        delayed = Delayed(device, state.size)
        plan.write(delayed)
        again = kind.read(device, HERE)
        assert again == state, "what is in use changed before its time"
        delayed.replay(device)
        file.truncate(size)
        found = kind.read(FileDevice(file), HERE)
    assert found is not None and found.findings == ()
    assert found.shape == plan.state.shape and abs(found.free - plan.state.free) <= MIB * moving
    return found


def least(image: Path, name: str, *, moving: bool) -> int:
    """Return the fewest bytes that a filesystem says it needs."""
    kind = filesystem(name)
    assert isinstance(kind, Shrinks)
    with image.open("rb", buffering=0) as file:
        state = kind.read(FileDevice(file), HERE)
        assert state is not None
        with pytest.raises(CannotChangeError) as refused:
            kind.shrunk(kind.reached(FileDevice(file), state), 2 * MIB, moving=moving)
    return refused.value.least


def with_features(image: Path, *, incompat: int = 0, ro_compat: int = 0, without: int = 0) -> None:
    """Turn features of an ext4 on or off, as whoever made it might have."""
    with image.open("r+b", buffering=0) as file:
        device = FileDevice(file)
        one = superblock_on(device)
        changed = replace(
            one,
            s_feature_incompat=(one.s_feature_incompat | incompat) & ~without,
            s_feature_ro_compat=one.s_feature_ro_compat | ro_compat,
        )
        device.write(SUPERBLOCK_OFFSET, sign(changed).encode())


def made(image: Path, size: int, **wishes: Any) -> None:
    """Make a raw disk that an ext4 fills."""
    new = filesystem("ext4").plan(size, Wishes(uuid=UUID(int=size), label="seeds", **wishes))
    with image.open("xb", buffering=0) as file:
        file.truncate(size)
        new.write(FileDevice(file))


CASES: tuple[tuple[int, int, dict[str, Any]], ...] = (
    (90 * MIB, 20 * MIB, {}),
    (900 * MIB, 60 * MIB, {}),
    (300 * MIB, 40 * MIB, {"unit": KIB}),
    (9 * GIB, 200 * MIB, {"purpose": "database"}),
    (40 * GIB, 100 * MIB, {"sector_size": 4096, "inode_each": 8 * KIB}),
    (
        2600 * MIB,
        20 * MIB,
        {"inode_each": 4 * KIB},
    ),  # tables fill the first group, and the map of growth lies in another
)


@pytest.mark.kernel
@pytest.mark.parametrize(("size", "most", "wishes"), CASES)
def test_an_aged_filesystem_shrinks(tmp_path: Path, size: int, most: int, wishes: dict[str, Any]) -> None:
    """To halfway, to the least there is, full to the last block, and larger again: all of each file as it was."""
    image = tmp_path / "image.raw"
    made(image, size, **wishes)
    with quiet_log(), mounted(image, tmp_path) as place:
        load.aged(place, size, most)
    with quiet_log(), mounted(image, tmp_path) as place:
        was = load.told(place)
    smallest = least(image, "ext4", moving=True)
    for target in ((size + smallest) // 2, smallest + MIB // 2):
        promised = shrunk(image, "ext4", target, moving=True)
        with quiet_log(), mounted(image, tmp_path) as place:
            found = shown(place)
            assert (found["total"], found["free"], found["available"]) == (
                promised.total,
                promised.free,
                promised.available,
            )
            assert load.told(place) == was
    with quiet_log(), mounted(image, tmp_path) as place:
        for one in ("big", "tiny", *(one.name for one in place.glob("shelf*"))):
            shutil.rmtree(place / one)
        (place / "pieces").unlink()
        (place / "more").mkdir()
        filled = load.fill(place / "more", 3)
        load.verify(filled)
        load.delete_half(filled)
    with quiet_log(), mounted(image, tmp_path) as place:
        load.verify(filled)


@pytest.mark.kernel
def test_older_files_are_moved_too(tmp_path: Path) -> None:
    """Files that are mapped block by block, as kernels made them before extents, beside some in extents."""
    image = tmp_path / "image.raw"
    made(image, 400 * MIB)
    with_features(image, without=EXTENTS)
    with quiet_log(), mounted(image, tmp_path) as place:
        load.aged(place, 5, 30 * MIB)
    with_features(image, incompat=EXTENTS)
    with quiet_log(), mounted(image, tmp_path) as place:
        (place / "new").mkdir()
        load.fill(place / "new", 1, 3 * MIB)
        was = load.told(place)
    smallest = least(image, "ext4", moving=True)
    for target in (200 * MIB, smallest + MIB):
        shrunk(image, "ext4", target, moving=True)
        with quiet_log(), mounted(image, tmp_path) as place:
            assert load.told(place) == was


@pytest.mark.kernel
def test_features_that_others_turned_on(tmp_path: Path) -> None:
    """Data in inodes, attributes in inodes of their own, large folders: larger and smaller, but not moved where unsafe."""
    image = tmp_path / "image.raw"
    made(image, 300 * MIB)
    with_features(image, incompat=INLINE_DATA | EA_INODE | LARGE_DIR, ro_compat=VERITY)
    with quiet_log(), mounted(image, tmp_path) as place:
        load.aged(place, 5, 20 * MIB)
        os.setxattr(place / "pieces", "user.large", b"v" * 30_000)
        was = load.told(place)
    state = grown(image, "ext4", 3 * GIB)
    for name in ("inline_data", "ea_inode", "large_dir", "verity"):
        assert name in state.features
    with quiet_log(), mounted(image, tmp_path) as place:
        assert load.told(place) == was and shown(place)["free"] == state.free
    smallest = least(image, "ext4", moving=True)
    assert smallest == least(image, "ext4", moving=False)
    promised = shrunk(image, "ext4", smallest, moving=True)
    with quiet_log(), mounted(image, tmp_path) as place:
        assert load.told(place) == was and shown(place)["free"] == promised.free


def _tree(volume: Volume, number: int) -> tuple[bytes, int]:
    """Return the extent tree of an inode, and where the checksums of its blocks start."""
    group, index = divmod(number - 1, volume.shape.inodes_per_group)
    place = int(Placed(volume).table[group]) * volume.block_size + index * INODE_SIZE
    inode = Inode.decode(volume.device.read(place, INODE_SIZE))
    return inode.i_block, inode_seed(volume.seed, number, inode.i_generation)


@pytest.mark.kernel
def test_the_orphan_file_of_newer_kernels_is_moved(tmp_path: Path) -> None:
    """The file in which kernels list what was removed while in use, as whoever makes filesystems today lays it out."""
    image = tmp_path / "image.raw"
    made(image, 600 * MIB)
    with quiet_log(), mounted(image, tmp_path) as place:
        load.aged(place, 6, 40 * MIB)
        file = place / "shelf 50" / "orphans"
        file.write_bytes(bytes(32 * 4 * KIB))
        number, folder = file.stat().st_ino, file.parent.stat().st_ino
    with image.open("r+b", buffering=0) as opened:
        device = FileDevice(opened)
        volume = volume_of(device, superblock_on(device))
        for run in mapped(volume, *_tree(volume, number)):
            for at in range(run.start, run.end):
                block = bytes(4 * KIB - 8)
                summed = crc32c_raw(crc32c_raw(_tree(volume, number)[1], at.to_bytes(8, "little")), block)
                device.write(at * 4 * KIB, block + struct.pack("<II", 0x0B10CA04, summed))
        tree, seed = _tree(volume, folder)
        (run,) = mapped(volume, tree, seed)  # the folder forgets it, as such a file has no name
        names = renumbered(volume.read_block(run.start), {number: 0}, seed, is_root=False, indexed=False)
        device.write(run.start * 4 * KIB, names)
        one = superblock_on(device)
        compat = one.s_feature_compat | ORPHAN_FILE
        device.write(SUPERBLOCK_OFFSET, sign(replace(one, s_feature_compat=compat, s_orphan_file_inum=number)).encode())
    with quiet_log(), mounted(image, tmp_path) as place:
        was = load.told(place)
    smallest = least(image, "ext4", moving=True)
    for target in (300 * MIB, smallest + MIB):
        state = shrunk(image, "ext4", target, moving=True)
        assert "orphan_file" in state.features
        with quiet_log(), mounted(image, tmp_path) as place:
            assert load.told(place) == was
            with (place / "shelf 3" / "going").open("wb") as going:  # removed while in use
                (place / "shelf 3" / "going").unlink()
                going.write(b"x" * 9000)
        with mounted(image, tmp_path) as place:
            was["shelf 3"] = load.told(place)["shelf 3"]
    grown(image, "ext4", 2 * GIB)
    with quiet_log(), mounted(image, tmp_path) as place:
        assert len(load.told(place)) == len(was)


@pytest.mark.kernel
@pytest.mark.parametrize(
    ("sizes", "wishes"),
    [
        ((300 * MIB, 6 * GIB), {"unit": 64 * KIB}),
        ((900 * MIB, 70 * GIB), {"unit": 16 * KIB}),
        ((GIB + MIB, 300 * GIB, 3 * TIB), {}),  # past the reserved descriptors, into meta block groups
        ((200 * MIB, 6 * GIB), {"unit": KIB}),
        ((100 * MIB, 15 * TIB), {"sector_size": 4096}),
    ],
)
def test_what_was_enlarged_is_made_smaller_again(
    tmp_path: Path, sizes: tuple[int, ...], wishes: dict[str, Any]
) -> None:
    """No file is moved, so every file keeps even its number; the numbers are as promised, and it can be filled."""
    image = tmp_path / "image.raw"
    made(image, sizes[0], **wishes)
    with quiet_log(), mounted(image, tmp_path) as place:
        filled = load.fill(place, 2, 30 * MIB)
        numbers = {path: path.stat().st_ino for path in filled}
    for size in sizes[1:]:
        grown(image, "ext4", size)
    bottom = least(image, "ext4", moving=False)
    for target in (sizes[-1] // 2, (sizes[-1] + 40 * bottom) // 41, bottom):
        promised = shrunk(image, "ext4", target, moving=False)
        with quiet_log(), mounted(image, tmp_path) as place:
            found = shown(place)
            assert (found["total"], found["free"], found["available"]) == (
                promised.total, promised.free, promised.available,
            )  # fmt: skip
            load.verify(filled)
            assert {path: path.stat().st_ino for path in filled} == numbers
    grown(image, "ext4", bottom + 200 * MIB)
    with quiet_log(), mounted(image, tmp_path) as place:
        (place / "more").mkdir()
        load.verify(load.fill(place / "more", 3))
        load.verify(filled)
