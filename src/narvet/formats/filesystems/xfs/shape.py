"""The shape of an XFS: its sizes, planned or read, and what follows from them, as plain integers.

Nothing here grows with the number of groups but for one sum.
"""

from __future__ import annotations

from typing import NamedTuple

from narvet.formats.filesystems.xfs.records import RMAPBT
from narvet.ground.units import align_up
from narvet.ground.values import Frozen

INODE_SIZE = 512  # bytes
INODES_PER_CHUNK = 64
SET_ASIDE = 8  # blocks of each group that the kernel never hands out (xfs_alloc_set_aside)
_RESERVE_SHARE, _RESERVE_MOST = 20, 8192  # of all blocks
_SHORT_HEADER = 56


class Shape(Frozen):
    """The sizes of one XFS, planned or read. Counts are of blocks; sizes of block, sector and inode are bytes.

    The log is `log_blocks` from block `log_start` of group `log_group` on; without any it lies outside.
    `stripe_unit` is the blocks that the storage puts on one disk of a stripe, 0 where that is not known. `full` is
    whether it has trees of owners and of reference counts, as XFS is made here from 300 MiB on.
    """

    block_size: int
    sector_size: int
    block_count: int
    group_blocks: int
    log_blocks: int = 0
    log_group: int = 0
    log_start: int = 0
    stripe_unit: int = 0
    full: bool = True
    inode_size: int = INODE_SIZE

    @property
    def size(self) -> int:
        """Bytes of all blocks."""
        return self.block_count * self.block_size

    @property
    def unit(self) -> int:
        """Bytes of a block."""
        return self.block_size

    @property
    def held_back(self) -> int:
        """Nothing: ordinary users can fill what is free."""
        return 0

    @property
    def total(self) -> int:
        """Bytes that statvfs counts: all but the log."""
        return (self.block_count - self.log_blocks) * self.block_size

    @property
    def group_count(self) -> int:
        """Allocation groups; the last one may be shorter."""
        return -(-self.block_count // self.group_blocks)

    @property
    def header_blocks(self) -> int:
        """Blocks of the four sectors at the start of each group."""
        return -(-4 * self.sector_size // self.block_size)

    @property
    def root_blocks(self) -> int:
        """Trees of each group: free space twice, inodes twice, and with all features owners and reference counts."""
        return 6 if self.full else 4

    @property
    def first_free(self) -> int:
        """The block of a group behind headers and roots of trees."""
        return self.header_blocks + self.root_blocks

    @property
    def chunk_blocks(self) -> int:
        """Blocks of 64 inodes."""
        return INODES_PER_CHUNK * self.inode_size // self.block_size

    @property
    def root_chunk(self) -> int:
        """The block at which the root's inodes lie, as the kernel works it out (xfs_ialloc_calc_rootino)."""
        first = self.header_blocks + 3 + (6 if self.full else 4) + (self.root_blocks - 3)
        if self.log_group == 0:
            first += self.log_blocks
        whole = self.stripe_unit and self.stripe_unit % self.chunk_blocks == 0
        unit = self.stripe_unit if whole else self.chunk_blocks
        return align_up(first, unit)

    def length(self, group: int) -> int:
        """Return the blocks of a group."""
        last = self.group_count - 1
        return self.group_blocks if group < last else self.block_count - last * self.group_blocks

    def taken(self, group: int) -> list[tuple[int, int]]:
        """Return first and number of the runs of a group that are in use, ascending."""
        runs = [(0, self.first_free)]
        if group == self.log_group:
            runs.append((self.log_start, self.log_blocks))
        if group == 0:
            runs.append((self.root_chunk, self.chunk_blocks))
        return runs

    @property
    def free_blocks(self) -> int:
        """Blocks free in all groups."""
        return self.block_count - self.group_count * self.first_free - self.log_blocks - self.chunk_blocks


class Used(NamedTuple):
    """Blocks of a group's trees that are in use: of free inodes, of reference counts; None without such a tree."""

    finobt: int | None
    refcount: int | None


def hidden_of(block: int, agblocks: int, used: Used, *, rmapbt: bool) -> int:
    """Return the blocks the kernel hides of a group at mount, so that its trees can always grow (xfs_ag_resv_init).

    `agblocks` is the group's length less the log in it. Blocks of the tree of owners count as free, so all that it may
    take is hidden; of the others, what they have not taken yet.
    """
    asked = taken = 0
    if used.finobt is not None:
        asked += _tree(block, agblocks * (block // INODE_SIZE) // INODES_PER_CHUNK, 16, 8)
        taken += used.finobt
    if used.refcount is not None:
        asked += _tree(block, agblocks, 12, 8)
        taken += used.refcount
    hidden = max(asked - taken, 0)
    return hidden + (max(agblocks // 100, _tree(block, agblocks, 24, 44)) if rmapbt else 0)


def _tree(block: int, records: int, leaf: int, node: int) -> int:
    """Return the blocks of a tree of `records` records when all its blocks are half full (xfs_btree_calc_size)."""
    fill = ((block - _SHORT_HEADER) // leaf // 2, (block - _SHORT_HEADER) // node // 2)
    level = blocks = -(-records // fill[0])
    while level > 1:
        level = -(-level // fill[1])
        blocks += level
    return blocks


def hidden_blocks(shape: Shape) -> int:
    """Return the blocks of all groups that the kernel hides for the growth of its trees."""

    def of(agblocks: int) -> int:
        fresh = Used(finobt=1, refcount=1 if shape.full else None)
        return hidden_of(shape.block_size, agblocks, fresh, rmapbt=shape.full)

    last, log = shape.group_count - 1, shape.log_group
    special = {last, log}
    total = (shape.group_count - len(special)) * of(shape.group_blocks)
    return total + sum(of(shape.length(group) - (shape.log_blocks if group == log else 0)) for group in special)


def kept_back(blocks: int, free: int) -> int:
    """Return the blocks kept for transactions that free space, in a filesystem of `blocks` (xfs_default_resblks)."""
    return max(min(blocks // _RESERVE_SHARE, _RESERVE_MOST, free), 0)


class Account(Frozen):
    """What of the free blocks of a filesystem a guest shows, so far as it depends on its files. Counts are of blocks.

    `free` is what the superblock counts as free, `trees` the blocks of free space trees in it. `hidden` is what the
    kernel hides of all groups but the last, `last` what the last one's trees use. `features` are read-only compatible.
    """

    free: int
    trees: int
    hidden: int
    last: Used
    features: int

    def shown(self, shape: Shape) -> int:
        """Return the blocks that statvfs gives as free."""
        hidden = self.hidden + hidden_in(shape, shape.group_count - 1, self.last, rmapbt=bool(self.features & RMAPBT))
        free = self.free - SET_ASIDE * shape.group_count - self.trees
        return max(free - kept_back(shape.block_count, free) - hidden, 0)


def hidden_in(shape: Shape, group: int, used: Used, *, rmapbt: bool) -> int:
    """Return the blocks that the kernel hides of one group."""
    agblocks = max(shape.length(group) - (shape.log_blocks if group == shape.log_group else 0), 1)
    return hidden_of(shape.block_size, agblocks, used, rmapbt=rmapbt)
