"""Writing a grown XFS: fresh groups behind the old end, then the last old group longer, then all superblocks.

The two trees of free space of the last old group are written anew, in the blocks that they have; if a record more makes
them need another block, that comes from the group's own list of blocks for its trees, whose owner it keeps.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import CannotChangeError
from narvet.formats.filesystems.xfs import records as r
from narvet.formats.filesystems.xfs.groups import group_bytes, sealed, tree_head
from narvet.formats.filesystems.xfs.grow import PlannedGrowth
from narvet.formats.filesystems.xfs.read import free_header, inode_header
from narvet.formats.filesystems.xfs.trees import BY_BLOCK, BY_COUNT, Group, Kind, blocks_of, records_of, sound
from narvet.formats.filesystems.xfs.volume import Volume, volume_of
from narvet.ground.errors import ImageError


def enlarge(device: BlockDevice, grown: PlannedGrowth) -> None:
    """Write a grown XFS to a device that still holds it as it was found.

    Raises:
        ImageError: it is not what was found, or not sound.
        CannotChangeError: the last group's trees have no block to grow by.
    """
    superblock = r.Superblock.decode(device.read(0, 512))
    volume = volume_of(device, superblock)
    old, new = grown.old, grown.new
    if volume.shape != old:
        raise ImageError("the filesystem was changed while it was being made larger")
    if new == old:
        return
    added = new.block_count - old.block_count
    last = old.group_count - 1
    longer = new.length(last) - old.length(last)
    fresh = range(old.group_count, new.group_count)
    first = len(group_bytes(new, fresh[0], superblock)) // new.block_size if fresh else 0
    counts = superblock.sb_fdblocks + added - first * len(fresh)
    changed = replace(superblock, sb_dblocks=new.block_count, sb_agcount=new.group_count, sb_fdblocks=counts)
    for group in fresh:
        start = group * new.group_blocks * new.block_size
        device.write(start, group_bytes(new, group, replace(changed, sb_inprogress=1)))
    if longer:
        _lengthen(volume, volume.group(last), longer)
    for group in range(1, old.group_count):
        _change_copy(volume, group, changed)
    device.write(
        0,
        sealed(changed, "sb_crc", old.sector_size, device.read(r.Superblock.size, old.sector_size - r.Superblock.size)),
    )


def _change_copy(volume: Volume, group: int, superblock: r.Superblock) -> None:
    """Write the new sizes to a group's copy of the superblock; one that is not sound becomes as the first."""
    place, size = volume.group(group).start, volume.shape.sector_size
    data = volume.device.read(place, size)
    copy = r.Superblock.decode(data) if sound(data, r.Superblock, "sb_crc") else replace(superblock, sb_inprogress=1)
    copy = replace(
        copy, sb_dblocks=superblock.sb_dblocks, sb_agcount=superblock.sb_agcount, sb_fdblocks=superblock.sb_fdblocks
    )
    volume.device.write(place, sealed(copy, "sb_crc", size, data[r.Superblock.size :]))


@dataclass(frozen=True)
class _Tree:
    """One of the trees of free space: its blocks level by level, the root last, and which it is in the header."""

    kind: Kind
    number: int
    levels: Sequence[Sequence[int]]


def _lengthen(volume: Volume, group: Group, longer: int) -> None:
    """Make a group longer by free blocks."""
    agf, agi = free_header(volume, group), inode_header(volume, group)
    runs = records_of(volume.device, group, BY_BLOCK, agf.agf_roots[0], agf.agf_levels[0]).copy()
    if len(runs) and int(runs[-1]["ar_startblock"]) + int(runs[-1]["ar_blockcount"]) == group.blocks:
        runs[-1]["ar_blockcount"] += longer
    else:
        runs = np.append(runs, np.array([(group.blocks, longer)], dtype=runs.dtype))
    by_count = runs[np.lexsort((runs["ar_startblock"], runs["ar_blockcount"]))]
    spare = _FreeList(volume, group, agf)
    roots, levels, used = list(agf.agf_roots), list(agf.agf_levels), 0
    for tree, records in ((BY_BLOCK, runs), (BY_COUNT, by_count)):
        number = 0 if tree is BY_BLOCK else 1
        blocks = blocks_of(volume.device, group, tree, roots[number], levels[number])
        placed = _placed(volume, _Tree(tree, number, blocks), len(records), spare)
        _write_tree(volume, group, tree, records, placed)
        used += sum(map(len, placed)) - sum(map(len, blocks))
        roots[number], levels[number] = placed[-1][0], len(placed)
    changed = replace(
        agf,
        agf_length=agf.agf_length + longer,
        agf_roots=tuple(roots),
        agf_levels=tuple(levels),
        agf_freeblks=agf.agf_freeblks + longer,
        agf_longest=int(runs["ar_blockcount"].max()),
        agf_btreeblks=agf.agf_btreeblks + used,
        agf_flfirst=spare.first,
        agf_flcount=spare.count,
    )
    size = volume.shape.sector_size
    for at, record, field in (
        (1, changed, "agf_crc"),
        (2, replace(agi, agi_length=agi.agi_length + longer), "agi_crc"),
    ):
        rest = volume.device.read(group.start + at * size + record.size, size - record.size)
        volume.device.write(group.start + at * size, sealed(record, field, size, rest))


class _FreeList:
    """The blocks that a group keeps for its trees, taken from the front as the kernel does."""

    def __init__(self, volume: Volume, group: Group, agf: r.FreeHeader) -> None:
        size = volume.shape.sector_size
        self._room = (size - r.FreeList.size) // 4
        data = volume.device.read(group.start + 3 * size, size)
        if not sound(data, r.FreeList, "agfl_crc"):
            raise ImageError(f"group {group.number}: its list of blocks for trees does not match its checksum")
        self._places = np.frombuffer(data, dtype=">u4", offset=r.FreeList.size, count=self._room)
        self._blocks = group.blocks
        self.first, self.count = agf.agf_flfirst, agf.agf_flcount
        if self.first > self._room or self.count > self._room:
            raise ImageError(f"group {group.number}: its list of blocks for trees is out of bounds")

    def take(self) -> int:
        """Return a block, which is now a tree's."""
        if not self.count:
            raise CannotChangeError(
                "the xfs has no block left in its last group for its trees", "let its guest enlarge it while it runs"
            )
        place = int(self._places[self.first % self._room])
        if not 0 < place < self._blocks:
            raise ImageError(f"block {place} of the list of blocks for trees does not lie in its group")
        self.first, self.count = (self.first + 1) % self._room, self.count - 1
        return place


def _placed(volume: Volume, tree: _Tree, records: int, spare: _FreeList) -> list[list[int]]:
    """Return the blocks of a tree for so many records, level by level: those it has, and as few more as it needs."""
    room = volume.shape.block_size - r.TreeBlock.size
    levels, count, most = [list(level) for level in tree.levels], records, room // tree.kind.record.size
    for number in range(64):
        if number == len(levels):
            levels.append([])
        needed = max(-(-count // most), 1)
        while len(levels[number]) < needed:
            levels[number].append(spare.take())
        count, most = len(levels[number]), room // (tree.kind.key + 4)
        if count == 1 and number == len(levels) - 1:
            return levels
    raise ImageError("a tree of free space has too many levels")


def _write_tree(volume: Volume, group: Group, kind: Kind, records: NDArray[Any], levels: list[list[int]]) -> None:
    """Write all blocks of a tree, its records spread evenly over them."""
    block, size = volume.shape.block_size, kind.record.size
    room = (block - r.TreeBlock.size) // (kind.key + 4)
    below: list[bytes] = []
    for number, places in enumerate(levels):
        count = len(records) if number == 0 else len(levels[number - 1])
        borders = [count * index // len(places) for index in range(len(places) + 1)]
        keys = []
        for index, (place, (first, end)) in enumerate(zip(places, pairwise(borders), strict=True)):
            if number == 0:
                content = records[first:end].tobytes()
                keys.append(content[:size][: kind.key].ljust(kind.key, b"\0"))
            else:
                children = np.array(levels[number - 1][first:end], dtype=">u4").tobytes()
                content = b"".join(below[first:end]).ljust(room * kind.key, b"\0") + children
                keys.append(below[first])
            head = replace(
                tree_head(kind.magic, group.number, place, volume.shape, volume.uuid, end - first, number),
                bb_leftsib=places[index - 1] if index else r.NULL_BLOCK,
                bb_rightsib=places[index + 1] if index + 1 < len(places) else r.NULL_BLOCK,
            )
            volume.device.write(group.start + place * block, sealed(head, "bb_crc", block, content))
        below = keys
