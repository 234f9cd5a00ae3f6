"""An ext4 planned: from a size and options to its shape, and what a guest will show of it.

Departures from the plainest layout, and why:

* up to `META_ABOVE` the group descriptors lie together, with room reserved behind them so that a running guest can
  enlarge the filesystem sixteenfold; above, each meta block group holds its own (meta_bg), since the many copies
  of one large table would be most of what is written, and growth then needs no reserve;
* a last group shorter than what it would cost is left out: the filesystem is made as large as pays;
* below 8192 blocks there is no journal: it would take an eighth and more.
"""

from __future__ import annotations

from fractions import Fraction
from functools import lru_cache
from typing import NamedTuple, TypeVar

from narvet.formats.filesystems.contract import Capacity, FilesystemState, Loss, Purpose, UnfitError
from narvet.formats.filesystems.ext4.options import LEAST, MOST, Ext4Options
from narvet.formats.filesystems.ext4.records import DESCRIPTOR_SIZE, INODE_SIZE
from narvet.formats.filesystems.ext4.shape import Shape, first_data_block_of
from narvet.ground.errors import BugError
from narvet.ground.units import GIB, KIB, MIB, TIB, align_up, outside, show_both
from narvet.ground.values import Frozen

UNITS = (*(KIB << shift for shift in range(11)),)  # blocks up to 4 KiB, clusters of such blocks from there
CLUSTER_OF_MEDIA = 64 * KIB
SMALL_BLOCKS_BELOW = 64 * MIB
CLUSTERS_FROM = 4 * GIB
META_ABOVE = 2 * TIB
WIDER_FLEX_ABOVE = TIB
JOURNAL_FROM_BLOCKS = 8192
JOURNAL_LEAST = 1024  # blocks; the kernel refuses smaller ones
JOURNAL_SHARE = 64
JOURNAL_MOST = 20  # times the block size: blocks that four extents of an inode hold, as block groups cut them
MOST_INODES = (1 << 32) - (1 << 16)  # s_inodes_count has 32 bits
GROWTH = 16
RESERVED_MOST = 4 * GIB
FIRST_INODES = 11  # ten reserved, and lost+found
_NO_END = 1 << 63

# Bytes of the filesystem for each inode, by the size up to which it holds.
_DENSITY = {
    "general": ((SMALL_BLOCKS_BELOW, 8 * KIB), (4 * TIB, 16 * KIB), (16 * TIB, 32 * KIB), (_NO_END, 64 * KIB)),
    "logs": ((SMALL_BLOCKS_BELOW, 8 * KIB), (4 * TIB, 16 * KIB), (16 * TIB, 32 * KIB), (_NO_END, 64 * KIB)),
    "database": ((SMALL_BLOCKS_BELOW, 16 * KIB), (_NO_END, 64 * KIB)),
    "media": ((GIB, 64 * KIB), (_NO_END, MIB)),
}
_JOURNAL_MOST = {"general": 128 * MIB, "logs": 128 * MIB, "database": 256 * MIB, "media": 128 * MIB}
# Thousandths kept for the superuser: what a full disk of logs still needs, and nothing for one application's data.
_RESERVED = {"general": 10, "logs": 20, "database": 0, "media": 0}


class PlannedExt4(Frozen):
    """An ext4 that is to be made in `size` bytes."""

    size: int
    options: Ext4Options
    shape: Shape

    def capacity(self) -> Capacity:
        """Return what statvfs gives on the fresh mount, and where the rest of the partition went."""
        return _capacity(self.size, self.shape)

    def footprint(self) -> int:
        """Return the most bytes that writing the filesystem stores."""
        shape = self.shape
        flexes = -(-shape.group_count >> shape.groups_per_flex_log)
        per_flex = (2 + shape.inode_table_blocks) << shape.groups_per_flex_log
        bitmaps = flexes * (per_flex // shape.blocks_per_group + 2) + shape.journal_blocks // shape.blocks_per_group
        if shape.meta_from is not None:
            tables = shape.table_blocks
        else:
            tables = (1 + len(shape.copies)) * (1 + shape.descriptor_blocks) + shape.reserved_descriptor_blocks
        blocks = bitmaps + tables + shape.own_blocks + FIRST_INODES + 4
        return blocks * max(shape.block_size, 4 * KIB)

    def state(self) -> FilesystemState:
        """Return what a reader will find once it is written."""
        options = self.options
        return FilesystemState(
            "ext4", str(options.uuid), options.label, self.shape, self.shape.free_blocks * self.shape.block_size,
            options.uid, options.gid, options.mode,
        )  # fmt: skip


@lru_cache(maxsize=1024)
def _capacity(size: int, shape: Shape) -> Capacity:
    block = shape.block_size
    kept = min(shape.superuser_blocks, shape.free_blocks)
    held = min(shape.kernel_blocks, shape.free_blocks - kept)
    losses = [
        *_overhead_parts(shape),
        ("first folders", shape.own_blocks * block),
        ("kept for the superuser", kept * block),
        ("held back by the kernel", held * block),
        ("too short for a last group", size - shape.size),
    ]
    found = Capacity(
        total=shape.total,
        free=shape.free_blocks * block,
        available=(shape.free_blocks - kept - held) * block,
        losses=tuple(Loss(what, size) for what, size in losses if size),
    )
    if found.available + sum(loss.size for loss in found.losses) != size:
        raise BugError(f"ext4: the parts of {size} bytes do not add up")
    return found


N = TypeVar("N", bound=PlannedExt4)


def plan(kind: type[N], size: int, options: Ext4Options) -> N:
    """Return an ext4 to be made in `size` bytes, as a `kind` of it.

    Raises:
        UnfitError: the size is outside what ext4 is made for here, or does not hold its own metadata.
    """
    asked = Sizing(
        options.purpose, options.sector_size, options.unit, options.inode_each, options.journal, options.reserved
    )
    return kind(size, options, _shape(size, asked))


class Sizing(NamedTuple):
    """The options that decide on the shape; see `Wishes`."""

    purpose: Purpose
    sector_size: int
    unit: int | None
    inode_each: int | None
    journal: int | None
    reserved: Fraction | None


@lru_cache(maxsize=1024)
def _shape(size: int, options: Sizing) -> Shape:
    """Return the shape of an ext4; many disks of a sheet have the same."""
    least = LEAST if options.sector_size == 512 else align_up(LEAST, options.sector_size)
    if not least <= size <= MOST:
        raise UnfitError(f"ext4 is made {outside(size, least, MOST)}", least, MOST)
    unit = _unit(size, options)
    block_size = min(unit, 4 * KIB)
    first = first_data_block_of(block_size)
    blocks, per_group = size // unit * (unit // block_size), 8 * unit
    whole, tail = divmod(blocks - first, per_group)
    counts = [(whole + 1, blocks)] if tail else []
    if whole:
        counts.append((whole, first + whole * per_group))
    made = [_with_groups(size, options, unit, groups, count) for groups, count in counts]
    fitting = [shape for shape in made if _fits(shape)]
    if not fitting:
        raise UnfitError(f"{show_both(size)} do not hold the metadata of ext4", least, MOST)
    return max(fitting, key=lambda shape: shape.free_blocks - shape.superuser_blocks)


def _unit(size: int, options: Sizing) -> int:
    """Return the bytes of an allocation unit: a block, or a cluster of blocks of 4 KiB."""
    if options.unit is not None:
        return options.unit
    if options.purpose == "media" and size >= CLUSTERS_FROM:
        return CLUSTER_OF_MEDIA
    return KIB if size < SMALL_BLOCKS_BELOW and options.sector_size <= KIB else 4 * KIB


def _with_groups(size: int, options: Sizing, unit: int, groups: int, blocks: int) -> Shape:
    block_size = min(unit, 4 * KIB)
    density = options.inode_each or next(ratio for upto, ratio in _DENSITY[options.purpose] if size <= upto)
    covered = min(8 * unit, blocks) * block_size
    meta = size > META_ABOVE or unit > block_size  # what is reserved for growth could not be used with clusters
    descriptor_blocks = -(-groups * DESCRIPTOR_SIZE // block_size)
    room = min((GROWTH - 1) * descriptor_blocks, block_size // 4, max(blocks // 64, 1))
    kept = min(blocks * _RESERVED[options.purpose] // 1000, RESERVED_MOST // block_size)
    if options.reserved is not None:
        kept = blocks * options.reserved.numerator // options.reserved.denominator
    inodes = min(max(covered // density, 16), MOST_INODES // groups, 8 * block_size)
    return Shape(
        block_size=block_size,
        block_count=blocks,
        blocks_per_group=8 * unit,  # as many as one block of bitmap has bits, each for a cluster
        inodes_per_group=min(align_up(inodes, max(block_size // INODE_SIZE, 8)), 8 * block_size),
        inode_size=INODE_SIZE,
        descriptor_size=DESCRIPTOR_SIZE,
        first_data_block=first_data_block_of(block_size),
        groups_per_flex_log=4 + max((size - 1).bit_length() - WIDER_FLEX_ABOVE.bit_length() + 1, 0),
        meta_from=0 if meta else None,
        reserved_descriptor_blocks=0 if meta else room,
        journal_blocks=_journal_blocks(size, options, block_size, blocks),
        superuser_blocks=kept,
        cluster_blocks=unit // block_size,
    )


def _journal_blocks(size: int, options: Sizing, block_size: int, blocks: int) -> int:
    if options.journal is None:
        most = min(_JOURNAL_MOST[options.purpose] // block_size, JOURNAL_MOST * block_size)
        return min(max(blocks // JOURNAL_SHARE, JOURNAL_LEAST), most) if blocks >= JOURNAL_FROM_BLOCKS else 0
    wanted = options.journal // block_size
    most = min(blocks // 2, JOURNAL_MOST * block_size)
    if not JOURNAL_LEAST <= wanted <= most:
        bounds = f"{show_both(JOURNAL_LEAST * block_size)} to {show_both(most * block_size)}"
        message = f"the journal of an ext4 of {show_both(size)} has {bounds}, not {show_both(options.journal)}"
        raise UnfitError(message, LEAST, MOST, "choose a size between, or leave journal out")
    return wanted


def _fits(shape: Shape) -> bool:
    """Return whether a last group that starts a flex group of its own holds its own metadata, and some is free."""
    last = shape.group_count - 1
    own = shape.clustered(shape.base_blocks(last))
    if last % (1 << shape.groups_per_flex_log) == 0:
        own += shape.clustered(2 + shape.inode_table_blocks)
    return shape.group_length(last) > own and shape.free_blocks > 0


def _overhead_parts(shape: Shape) -> list[tuple[str, int]]:
    """Return what the blocks that statvfs does not count are, in bytes."""
    block = shape.block_size
    parts = [
        ("inode tables", shape.group_count * shape.inode_table_blocks * block),
        ("journal", shape.journal_blocks * block),
        ("superblocks, group descriptors", (shape.first_data_block + shape.table_blocks) * block),
        ("block and inode maps", 2 * shape.group_count * block),
    ]
    return [*parts, ("rest of their clusters", shape.overhead_blocks * block - sum(size for _, size in parts))]


def breakpoints(options: Ext4Options) -> tuple[int, ...]:
    """Return the sizes at which a rule of this module changes, ascending, the bounds included."""
    sizes = {LEAST, SMALL_BLOCKS_BELOW, CLUSTERS_FROM, META_ABOVE + 1, MOST}
    sizes |= {JOURNAL_FROM_BLOCKS * block for block in (KIB, 4 * KIB)}
    sizes |= {upto + 1 for upto, _ in _DENSITY[options.purpose] if upto < MOST}
    return tuple(sorted(size for size in sizes if LEAST <= size <= MOST))
