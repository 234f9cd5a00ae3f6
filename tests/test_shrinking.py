"""Filesystems made smaller: what is promised at any size and read back; trees, folders and free runs made anew."""

from __future__ import annotations

import random
import struct
from typing import Any
from uuid import UUID

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from narvet.block.delayed import Delayed
from narvet.block.memory import MemoryDevice
from narvet.block.window import Window
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import CannotChangeError, FilesystemState, Shrinks, UnfitError, Wishes
from narvet.formats.filesystems.ext4 import folders, inodes, trees
from narvet.formats.filesystems.ext4.records import DirectoryTail
from narvet.formats.filesystems.ext4.shape import Shape
from narvet.formats.filesystems.ext4.shrink import Reach
from narvet.formats.filesystems.ext4.volume import Volume, superblock_on, volume_of
from narvet.ground.budget import budget
from narvet.ground.checksums import crc32c_raw
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent, joined
from narvet.ground.findings import image_place
from narvet.ground.free_runs import FreeRuns
from narvet.ground.units import GIB, KIB, MIB
from narvet.ground.values import replace

WHERE = image_place("it")


def written(name: str, size: int, **wishes: Any) -> MemoryDevice:
    """Return a device with a fresh filesystem."""
    device = MemoryDevice(size)
    filesystem(name).plan(size, Wishes(uuid=UUID(int=7), label="x", uid=12, gid=34, mode=0o750, **wishes)).write(device)
    return device


def state(name: str, device: Any) -> FilesystemState:
    """Return the state of a sound filesystem, with how far it reaches."""
    kind = filesystem(name)
    found = kind.read(device, WHERE)
    assert found is not None and not found.findings and isinstance(kind, Shrinks)
    return kind.reached(device, found)


@settings(max_examples=60, deadline=None)
@given(
    st.sampled_from(("ext4", "ntfs", "swap")), st.sampled_from((40 * MIB, 300 * MIB, 3 * GIB, 40 * GIB, 900 * GIB)),
    st.floats(0.1, 1), st.floats(0, 1), st.booleans(),
    st.sampled_from((None, KIB, 4 * KIB, 64 * KIB)),
)  # fmt: skip
def test_what_was_promised_is_read_back(
    name: str, largest: int, share: float, how_far: float, moving: bool, unit: int | None
) -> None:
    """At any size from the least that a refusal names: all checks pass, all numbers are as promised, and it grows back."""
    kind = filesystem(name)
    assert isinstance(kind, Shrinks)
    size = int(largest * share)
    try:
        device = written(name, size, **({"unit": unit} if unit and name == "ext4" and size < 9 * GIB else {}))
    except UnfitError:
        assume(False)
    before = state(name, device)
    with pytest.raises(CannotChangeError) as refused:
        kind.shrunk(before, 10 * KIB, moving=moving)
    least = refused.value.least
    assert 0 < least <= size and refused.value.remedy
    wanted = least + int((size - least) * how_far)
    plan = kind.shrunk(before, wanted, moving=moving)
    assert plan.state.size <= wanted and plan.footprint() >= 0
    delayed = Delayed(device, size)
    plan.write(delayed)
    assert state(name, device) == before, "what is in use changed before its time"
    delayed.replay(device)
    after = state(name, Window(device, 0, wanted))
    assert (after.shape, after.features) == (plan.state.shape, plan.state.features)
    assert (after.label, after.uuid, after.uid, after.mode) == (before.label, before.uuid, before.uid, before.mode)
    assert after.free == plan.state.free or moving
    assert after.total - after.free <= before.total - before.free + moving * 64 * KIB  # nothing more is in use
    grown = kind.grown(after, size)
    grown.write(device)
    assert state(name, device).total == grown.state.total


@pytest.mark.parametrize("name", ["ext4", "ntfs"])
def test_what_lies_behind_the_end_by_then_is_found(name: str) -> None:
    """A plan is of the moment: what was written since is not cut off."""
    kind, device = filesystem(name), written(name, 200 * MIB)
    assert isinstance(kind, Shrinks)
    before = state(name, device)
    plan = kind.shrunk(before, 150 * MIB)
    other = written(name, 300 * MIB)
    for wrong in (Window(other, 0, 300 * MIB), MemoryDevice(200 * MIB)):
        with pytest.raises(ImageError):
            plan.write(wrong)
    unclean = replace(before, unclean="its guest runs")
    with pytest.raises(CannotChangeError, match="its guest runs"):
        kind.shrunk(unclean, 150 * MIB)
    with pytest.raises(CannotChangeError, match="not known here"):
        kind.shrunk(replace(before, features=(*before.features, "unheard-of")), 150 * MIB)
    with pytest.raises(CannotChangeError, match="damaged"):
        kind.shrunk(replace(before, account=None), 150 * MIB)


def test_some_forms_of_ext4_are_refused_by_name() -> None:
    """In clusters of several blocks nothing is moved; nor with features that tell of files by their numbers."""
    kind = filesystem("ext4")
    assert isinstance(kind, Shrinks)
    clustered = state("ext4", written("ext4", 300 * MIB, unit=64 * KIB))
    assert isinstance(clustered.account, Reach)
    clustered = replace(clustered, account=replace(clustered.account, blocks=60_000))
    with pytest.raises(CannotChangeError, match=r"needs at least 245.760.000"):
        kind.shrunk(clustered, 200 * MIB, moving=True)
    plain = state("ext4", written("ext4", 3 * GIB))
    assert isinstance(plain.account, Reach)
    plain = replace(plain, account=replace(plain.account, blocks=700_000))  # as if files lay there
    assert kind.shrunk(plain, 100 * MIB, moving=True).state.size == 100 * MIB
    with pytest.raises(CannotChangeError) as movable:
        kind.shrunk(plain, 100 * MIB)
    assert "move_files" in movable.value.remedy
    for feature in ("ea_inode", "inline_data", "stable_inodes", "quota", "project"):
        kept = replace(plain, features=(*plain.features, feature))
        with pytest.raises(CannotChangeError) as fixed:
            kind.shrunk(kept, 100 * MIB, moving=True)
        assert fixed.value.least == movable.value.least and "move_files" not in fixed.value.remedy


@settings(max_examples=150, deadline=None)
@given(st.integers(0, 1 << 32), st.integers(1, 60_000), st.integers(0, 60_000))
def test_a_delaying_device_reads_as_it_will_be(seed: int, border: int, free_from: int) -> None:
    """Against two plain arrays: what will be read, and what is below until the end."""
    size, dice = 60_000, random.Random(seed)
    below, will, now = MemoryDevice(size), bytearray(size), bytearray(size)
    start = dice.randbytes(size)
    below.write(0, start)
    will[:], now[:] = start, start
    device = Delayed(below, border)
    free = Extent(free_from, dice.randrange(max(size - free_from, 1)))
    device.is_free(free)
    for _ in range(25):
        place = dice.randrange(size)
        data = dice.randbytes(dice.randrange(min(size - place, 9000))) if dice.random() < 0.7 else None
        length = len(data) if data is not None else dice.randrange(min(size - place, 9000))
        if data is None:
            device.zero(place, length)
        else:
            device.write(place, data)
        content = data or bytes(length)
        will[place : place + length] = content
        for index in range(place, place + length):
            if index >= border or free.start <= index < free.end:
                now[index] = content[index - place]
        at = dice.randrange(size)
        assert device.read(at, min(size - at, 7000)) == will[at : at + 7000]
    assert below.read(0, size) == now
    device.replay(below)
    assert below.read(0, size) == will


@settings(max_examples=200, deadline=None)
@given(st.lists(st.tuples(st.integers(1, 40), st.integers(1, 40)), min_size=1, max_size=30), st.data())
def test_free_runs_are_handed_out_once(pieces: list[tuple[int, int]], data: st.DataObject) -> None:
    """Every unit once, all that there are, and in one run wherever one is long enough."""
    runs, reach = [], 0
    for gap, length in pieces:
        runs.append((reach + gap, reach + gap + length))
        reach = runs[-1][1]
    free = FreeRuns(np.array(runs, dtype=np.int64))
    left = {unit for start, end in runs for unit in range(start, end)}
    while left:
        longest = max(run.length for run in joined(Extent(unit, 1) for unit in sorted(left)))
        count = data.draw(st.integers(1, len(left)))
        taken = free.take(count)
        units = [unit for run in taken for unit in range(run.start, run.end)]
        assert len(units) == len(set(units)) == count and set(units) <= left
        assert len(taken) == 1 or count > longest
        left -= set(units)
    assert free.take(1) == []


def _volume(block: int, *, checksums: bool = True) -> Volume:
    """Return a volume on 64 MiB of memory that only its sizes are true of."""
    device = written("ext4", 64 * MIB, unit=block)
    volume = volume_of(device, superblock_on(device))
    return replace(volume, checksums=checksums)


@settings(max_examples=60, deadline=None)
@given(
    st.sampled_from((KIB, 4 * KIB)), st.booleans(),
    st.lists(st.tuples(st.integers(0, 9), st.integers(1, 500), st.booleans(), st.integers(0, 7)), max_size=700),
)  # fmt: skip
def test_extent_trees_lead_where_they_should(
    block: int, checksums: bool, pieces: list[tuple[int, int, bool, int]]
) -> None:
    """Made of any runs, read back as they are; a changed byte of a node is found."""
    volume = _volume(block, checksums=checksums)
    runs, logical, place = [], 0, 1000
    for hole, count, unwritten, gap in pieces:
        logical, place = logical + hole, place + gap
        runs.append(trees.Mapped(logical, place, count, unwritten))
        logical, place = logical + count, place + count
    whole = trees.joined_up(runs)
    spread = {(one.logical + n, one.start + n, one.unwritten) for one in runs for n in range(one.count)}
    assert {(one.logical + n, one.start + n, one.unwritten) for one in whole for n in range(one.count)} == spread
    assert len(whole) <= len(runs) and all(one.count <= (1 << 15) - one.unwritten for one in whole)
    needed = trees.extent_tree_nodes(len(whole), block)
    places = list(range(5000, 5000 + needed))
    tree, blocks = trees.built(whole, places, volume, 77)
    assert sorted(blocks) == places and len(tree) == 60
    for at, content in blocks.items():
        assert len(content) == block
        volume.device.write(at * block, content)
    nodes: list[int] = []
    with budget(64 * MIB):
        assert list(trees.mapped(volume, tree, 77, on_node=nodes.append)) == whole
        assert sorted(nodes) == places
        if nodes and checksums:
            volume.device.write(nodes[0] * block + 5, b"\xee")
            with pytest.raises(ImageError):
                list(trees.mapped(volume, tree, 77))


def test_a_tree_that_leads_to_itself_ends() -> None:
    volume = _volume(4 * KIB, checksums=False)
    head = struct.pack("<HHHHI", 0xF30A, 340, 340, 4, 0)
    volume.device.write(7 * 4096, (head + struct.pack("<IIHH", 0, 7, 0, 0) * 340).ljust(4096, b"\0"))
    root = struct.pack("<HHHHI", 0xF30A, 1, 4, 5, 0) + struct.pack("<IIHH", 0, 7, 0, 0)
    with budget(64 * MIB), pytest.raises(ImageError):
        list(trees.mapped(volume, root.ljust(60, b"\0"), 1))


@settings(max_examples=100, deadline=None)
@given(st.dictionaries(st.integers(11, 5000), st.integers(11, 5000), max_size=40), st.data())
def test_maps_of_single_blocks_follow(moves: dict[int, int], data: st.DataObject) -> None:
    """An older file, its content and maps by single blocks: what moves is named by its new place, all else as before."""
    volume = _volume(KIB)
    blocks = data.draw(st.lists(st.integers(200, 3999), min_size=1, max_size=600, unique=True))
    shuffled = iter(blocks)
    each = 256
    pointers, told = [0] * 15, []
    singles = [next(shuffled, 0) for _ in range(12)]
    pointers[:12] = singles
    told += [(0, index, one) for index, one in enumerate(singles) if one]
    below = list(shuffled)
    if len(below) > 1:
        map_, rest = below[0], below[1 : 1 + each]
        pointers[12] = map_
        volume.device.write(map_ * KIB, struct.pack(f"<{each}I", *rest, *[0] * (each - len(rest))))
        told += [(1, 12, map_), *((0, 12 + index, one) for index, one in enumerate(rest))]
    if len(below) > 1 + each + 2:
        upper, lower, *rest = below[1 + each :]
        pointers[13] = upper
        rest = rest[:each]
        volume.device.write(upper * KIB, struct.pack(f"<{each}I", *[0] * 3, lower, *[0] * (each - 4)))
        volume.device.write(lower * KIB, struct.pack(f"<{each}I", *rest, *[0] * (each - len(rest))))
        first = 12 + each + 3 * each
        told += [(2, 12 + each, upper), (1, first, lower), *((0, first + index, one) for index, one in enumerate(rest))]
    i_block = struct.pack("<15I", *pointers)
    assert list(trees.single_blocks(volume, i_block)) == told
    there = [one for _, _, one in told]
    places = {one: 10_000 + one for one in there if one in moves or one % 3 == 0}
    changed, written_anew = trees.renamed_blocks(volume, i_block, places)
    for place, block in written_anew.items():
        volume.device.write(place * KIB, block)
    expected = [(level, logical, places.get(one, one)) for level, logical, one in told]
    assert list(trees.single_blocks(volume, changed)) == expected


@settings(max_examples=100, deadline=None)
@given(
    st.lists(st.tuples(st.text("abcxyz-ä", min_size=1, max_size=60), st.integers(11, 90)), max_size=30),
    st.dictionaries(st.integers(11, 90), st.integers(100, 200), max_size=30), st.integers(11, 900),
)  # fmt: skip
def test_folders_follow_their_files(names: list[tuple[str, int]], numbers: dict[int, int], own: int) -> None:
    """Every entry leads to its file by the new number; names, lengths and kinds stay, and the block is signed."""
    shape = volume_of(device := written("ext4", 20 * MIB), superblock_on(device)).shape
    block = inodes.folder_block(shape, 5, own, names)
    seed = inodes.inode_seed(5, own)
    changed = folders.renumbered(block, numbers, seed, is_root=False, indexed=False)
    expected = inodes.folder_block(shape, 5, own, [(name, numbers.get(number, number)) for name, number in names])
    assert changed == expected
    other = folders.renumbered(block, {}, inodes.inode_seed(5, own + 1), is_root=False, indexed=False)
    assert other[:-4] == block[:-4]
    assert int.from_bytes(other[-4:], "little") == crc32c_raw(
        inodes.inode_seed(5, own + 1), block[: -DirectoryTail.size]
    )
    for wrong in (
        struct.pack("<IHBB", 12, 6, 1, 1),
        struct.pack("<IHBB", 12, 8000, 1, 1),
        struct.pack("<IHBB", 1, 9, 1, 1),
    ):
        with pytest.raises(ImageError):
            folders.renumbered(wrong + block[8:], numbers, seed, is_root=False, indexed=False)


def test_hash_trees_of_folders_are_signed_anew() -> None:
    """A root keeps its two entries, a node has none; both have their checksum behind their limit."""
    shape = Shape(4096, 1000, 32768, 8192, 256, 64, 0)
    for is_root, counts in ((True, folders.ROOT_COUNTS), (False, folders.NODE_COUNTS)):
        data = bytearray(shape.block_size)
        if is_root:
            struct.pack_into("<IHBB1s", data, 0, 40, 12, 1, 2, b".")
            struct.pack_into("<IHBB2s", data, 12, 41, 4084, 2, 2, b"..")
        else:
            struct.pack_into("<IHBB", data, 0, 0, 4096, 0, 0)
        limit = (4096 - counts - 8) // 8
        struct.pack_into("<HH", data, counts, limit, 3)
        changed = folders.renumbered(bytes(data), {40: 77, 41: 78, 0: 99}, 123, is_root=is_root, indexed=True)
        place = counts + 8 * limit + 4
        summed = crc32c_raw(crc32c_raw(123, changed[: counts + 24]), bytes(8))
        assert int.from_bytes(changed[place : place + 4], "little") == summed
        found = (struct.unpack_from("<I", changed)[0], struct.unpack_from("<I", changed, 12)[0])
        assert found == ((77, 78) if is_root else (0, 0))
        struct.pack_into("<H", data, counts, 600)
        with pytest.raises(ImageError):
            folders.renumbered(bytes(data), {}, 123, is_root=is_root, indexed=True)
