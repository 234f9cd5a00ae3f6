"""The arithmetic of XFS: allocation groups, log, trees and the kernel's reservations, as plain integers.

Nothing here grows with the number of groups but for one sum. Departures from the plainest layout, and why:

* below `FULL_FROM` there are no reverse mappings and reference counts: their reservations and the larger log they
  need would take much of so small a filesystem;
* extent counts keep 32 bits, which guests from kernel 5.10 on read.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import NamedTuple

from narvet.errors import BugError
from narvet.filesystems.contract import Capacity, Loss, Options, UnfitError
from narvet.units import GIB, KIB, MIB, TIB, align_up, show_both

INODE_SIZE = 512  # bytes
INODES_PER_CHUNK = 64
UNITS = (KIB, 2 * KIB, 4 * KIB)
LEAST = 16 * MIB
MOST = 64 * TIB
FULL_FROM = 300 * MIB
LARGEST_GROUP = TIB
SMALLEST_GROUP = 16 * MIB
# What the largest transactions need in the largest groups (xfs_log_calc_minimum_size gives 17 MiB, and 7 MiB without
# the trees of owners and references), with room for kernels that want more.
LOG_LEAST_FULL, LOG_LEAST = 32 * MIB, 7 * MIB
LOG_MOST = 2 * GIB - 64 * MIB  # the kernel takes less than 2 GiB,
LOG_MOST_BLOCKS = 1 << 20  # and no more blocks than these
_RESERVE_SHARE, _RESERVE_MOST = 20, 8192  # of all blocks
SET_ASIDE = 8  # blocks of each group that the kernel never hands out (xfs_alloc_set_aside)
_SHORT_HEADER = 56


@dataclass(frozen=True)
class Geometry:
    """Everything decided about one XFS. Counts are of blocks, but for `size` and `block_size`, which are bytes."""

    size: int
    options: Options
    block_size: int
    group_blocks: int
    group_count: int
    block_count: int
    log_blocks: int
    full: bool

    @property
    def header_blocks(self) -> int:
        """Blocks of the four sectors at the start of each group."""
        return -(-4 * self.options.sector // self.block_size)

    @property
    def root_blocks(self) -> int:
        """Trees of each group: free space twice, inodes twice, and with all features owners and reference counts."""
        return 6 if self.full else 4

    @property
    def first_free(self) -> int:
        """The block of a group behind headers and roots of trees."""
        return self.header_blocks + self.root_blocks

    @property
    def unit(self) -> int:
        """Blocks that the storage puts on one disk of a stripe, 0 where that is not known or not in whole blocks."""
        chunk = self.options.chunk
        return chunk // self.block_size if chunk and chunk % self.block_size == 0 and chunk > self.block_size else 0

    @property
    def log_group(self) -> int:
        """The group that holds the log: the one in the middle."""
        return self.group_count // 2

    @property
    def log_start(self) -> int:
        """The block of its group that the log starts at."""
        return align_up(self.first_free, self.unit) if self.unit and self.group_count > 1 else self.first_free

    @property
    def chunk_blocks(self) -> int:
        """Blocks of 64 inodes."""
        return INODES_PER_CHUNK * INODE_SIZE // self.block_size

    @property
    def root_chunk(self) -> int:
        """The block at which the root's inodes lie, as the kernel works it out (xfs_ialloc_calc_rootino)."""
        first = self.header_blocks + 3 + (6 if self.full else 4) + (self.root_blocks - 3)
        if self.log_group == 0:
            first += self.log_blocks
        unit = self.unit if self.unit and self.unit % self.chunk_blocks == 0 else self.chunk_blocks
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


def plan(size: int, options: Options) -> Geometry:
    """Return the geometry of an XFS in `size` bytes.

    Raises:
        UnfitError: the size is outside what XFS is made for here, or the log asked for does not fit.
    """
    block = options.block or 4 * KIB
    if not LEAST <= size <= MOST:
        bound = f"from {show_both(LEAST)} to {show_both(MOST)}"
        raise UnfitError(f"xfs is made {bound}, not at {show_both(size)}", LEAST, MOST)
    count = -(-size // LARGEST_GROUP) if size > 4 * LARGEST_GROUP else max(min(size // (32 * MIB), 4), 1)
    if options.stripe > options.chunk and size >= GIB:  # many disks serve many groups at once
        count = max(count, min(size // (512 * MIB), 16))
    blocks, unit = size // block, max(options.chunk // block, 1)
    group = min(align_up(-(-blocks // count), unit), LARGEST_GROUP // block)
    whole, rest = divmod(blocks, group)
    if rest * block < SMALLEST_GROUP and whole:
        blocks, rest = whole * group, 0
    shape = Geometry(size, options, block, group, whole + bool(rest), blocks, 0, size >= FULL_FROM)
    return _with_log(shape)


def _with_log(shape: Geometry) -> Geometry:
    block, options = shape.block_size, shape.options
    least = (LOG_LEAST_FULL if shape.full else LOG_LEAST) // block
    room = shape.length(shape.log_group) - shape.first_free - shape.unit - 2 * shape.chunk_blocks
    most = min(LOG_MOST // block, LOG_MOST_BLOCKS, room * 3 // 4)
    if options.journal is None:
        usual = 2 if options.purpose == "database" else 1  # many small commits
        wanted = usual * max(min(shape.size // 64, 64 * MIB), shape.size // 2048)
        return replace(shape, log_blocks=max(min(wanted // block, most), least))
    if not least <= options.journal // block <= most:
        bounds = f"{show_both(least * block)} to {show_both(most * block)}"
        message = f"the log of an xfs of {show_both(shape.size)} has {bounds}, not {show_both(options.journal)}"
        raise UnfitError(message, LEAST, MOST, "choose a size between, or leave journal out")
    return replace(shape, log_blocks=options.journal // block)


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
    """Return the blocks of a tree of so many records when all its blocks are half full (xfs_btree_calc_size)."""
    fill = ((block - _SHORT_HEADER) // leaf // 2, (block - _SHORT_HEADER) // node // 2)
    level = blocks = -(-records // fill[0])
    while level > 1:
        level = -(-level // fill[1])
        blocks += level
    return blocks


def hidden_blocks(geometry: Geometry) -> int:
    """Return the blocks of all groups that the kernel hides for the growth of its trees."""

    def of(agblocks: int) -> int:
        fresh = Used(finobt=1, refcount=1 if geometry.full else None)
        return hidden_of(geometry.block_size, agblocks, fresh, rmapbt=geometry.full)

    last, log = geometry.group_count - 1, geometry.log_group
    special = {last, log}
    total = (geometry.group_count - len(special)) * of(geometry.group_blocks)
    return total + sum(of(geometry.length(group) - (geometry.log_blocks if group == log else 0)) for group in special)


def kept_back(blocks: int, free: int) -> int:
    """Return the blocks kept for transactions that free space, of a filesystem of so many (xfs_default_resblks)."""
    return max(min(blocks // _RESERVE_SHARE, _RESERVE_MOST, free), 0)


def capacity(geometry: Geometry) -> Capacity:
    """Return what statvfs gives on the fresh mount, and where the rest of the partition went."""
    block = geometry.block_size
    aside = min(SET_ASIDE * geometry.group_count, geometry.free_blocks)
    kept = kept_back(geometry.block_count, geometry.free_blocks - aside)
    hidden = min(hidden_blocks(geometry), geometry.free_blocks - aside - kept)
    free = geometry.free_blocks - aside - kept - hidden
    losses = [
        ("log", geometry.log_blocks * block),
        ("kept for growth of the trees", hidden * block),
        ("kept for transactions", kept * block),
        ("group headers, roots of trees", geometry.group_count * geometry.first_free * block),
        ("set aside in each group", aside * block),
        ("first inodes", geometry.chunk_blocks * block),
        ("too short for a group", geometry.size - geometry.block_count * block),
    ]
    total = (geometry.block_count - geometry.log_blocks) * block
    found = Capacity(total, free * block, free * block, tuple(Loss(what, size) for what, size in losses if size))
    if found.available + sum(loss.size for loss in found.losses) != geometry.size:
        raise BugError(f"xfs: the parts of {geometry.size} bytes do not add up")
    return found


def footprint(geometry: Geometry) -> int:
    """Return the most bytes that writing the filesystem stores."""
    unit = max(geometry.block_size, 4 * KIB)
    return geometry.group_count * (geometry.first_free * geometry.block_size + unit) + 64 * KIB


def breakpoints(options: Options) -> tuple[int, ...]:
    """Return the sizes at which a rule of this module changes, ascending, the bounds included."""
    sizes = {LEAST, FULL_FROM, 64 * MIB, 96 * MIB, 128 * MIB, 4 * GIB, 128 * GIB, MOST}
    sizes |= {number * LARGEST_GROUP + 1 for number in range(4, MOST // LARGEST_GROUP)}
    if options.stripe:
        sizes |= {GIB, *(number * 512 * MIB for number in range(3, 17))}
    return tuple(sorted(sizes))
