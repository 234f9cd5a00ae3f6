"""The arithmetic of ext4: what lies where in how many blocks, as plain integers, whatever the size.

Nothing here grows with the number of block groups, so a review of ten thousand disks and the search behind
`usable` cost microseconds each. `groups` spreads a geometry out into arrays when it is written.

Departures from the plainest layout, and why:

* up to `META_ABOVE` the group descriptors lie together, with room reserved behind them so that a running guest can
  enlarge the filesystem sixteenfold; above, each meta block group holds its own (meta_bg), since the many copies
  of one large table would be most of what is written, and growth then needs no reserve;
* a last group shorter than what it would cost is left out: the filesystem is made as large as pays;
* below 8192 blocks there is no journal: it would take an eighth and more.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from narvet.errors import BugError
from narvet.filesystems.contract import Capacity, Loss, Options, UnfitError
from narvet.filesystems.ext4.records import DESCRIPTOR_SIZE, INODE_SIZE
from narvet.units import GIB, KIB, MIB, TIB, align_up, show_both

UNITS = (*(KIB << shift for shift in range(11)),)  # blocks up to 4 KiB, clusters of such blocks from there
CLUSTER_OF_MEDIA = 64 * KIB
LEAST = 2 * MIB
MOST = 64 * TIB
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
LOST_FOUND_BLOCKS = 4
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


@dataclass(frozen=True)
class Geometry:
    """Everything decided about one ext4 filesystem. Fields named after blocks, groups and inodes count those."""

    size: int
    options: Options
    block_size: int
    block_count: int
    group_count: int
    inodes_per_group: int
    groups_per_flex_log: int
    meta_groups: bool
    reserved_descriptor_blocks: int
    journal_blocks: int
    superuser_blocks: int
    cluster_blocks: int

    @property
    def first_data_block(self) -> int:
        """Block that group 0 starts at: the superblock's, which is block 1 only where blocks are 1 KiB."""
        return 1 if self.block_size == KIB else 0

    @property
    def blocks_per_group(self) -> int:
        """As many as one block of bitmap has bits, each for a cluster."""
        return 8 * self.block_size * self.cluster_blocks

    @property
    def inode_table_blocks(self) -> int:
        """Blocks of each group's inode table."""
        return self.inodes_per_group * INODE_SIZE // self.block_size

    @property
    def descriptors_per_block(self) -> int:
        """Group descriptors in a block, which is also the number of groups in a meta block group."""
        return self.block_size // DESCRIPTOR_SIZE

    @property
    def descriptor_blocks(self) -> int:
        """Blocks of one copy of all group descriptors."""
        return -(-self.group_count // self.descriptors_per_block)

    @cached_property
    def copies(self) -> tuple[int, ...]:
        """Groups that hold a copy of the superblock besides group 0 (sparse_super)."""
        return backup_groups(self.group_count)

    @cached_property
    def table_blocks(self) -> int:
        """Blocks of all superblocks, group descriptors and their reserve, in all groups."""
        supers = 1 + len(self.copies)
        if not self.meta_groups:
            return supers * (1 + self.descriptor_blocks + self.reserved_descriptor_blocks)
        whole, part = divmod(self.group_count, self.descriptors_per_block)
        return supers + 3 * whole + min(part, 2)

    @property
    def overhead_blocks(self) -> int:
        """Blocks that statvfs does not count, as the kernel works them out at every mount."""
        each = 2 + self.inode_table_blocks
        if self.cluster_blocks > 1:
            flex = 1 << self.groups_per_flex_log
            whole, part = divmod(self.group_count, flex)
            tables = whole * self.clustered(flex * each) + self.clustered(part * each)
            return self.groups_with_base * self.cluster_blocks + tables + self.clustered(self.journal_blocks)
        return self.first_data_block + self.table_blocks + self.group_count * each + self.journal_blocks

    @property
    def own_blocks(self) -> int:
        """Blocks in use that statvfs does count: the root, lost+found, and the map of the reserve for growth."""
        growth = 1 if self.reserved_descriptor_blocks else 0
        return self.clustered(1) + self.clustered(LOST_FOUND_BLOCKS) + growth

    def clustered(self, blocks: int) -> int:
        """Return the blocks of the clusters that so many blocks in a row take."""
        return align_up(blocks, self.cluster_blocks)

    @property
    def groups_with_base(self) -> int:
        """Groups that hold a superblock or descriptors in meta block groups."""
        each = self.descriptors_per_block
        whole, part = divmod(self.group_count, each)
        apart = sum(1 for group in self.copies if group % each not in (0, 1, each - 1))
        return 3 * whole + min(part, 2) + apart

    @property
    def free_blocks(self) -> int:
        """Blocks free in the fresh filesystem."""
        return self.block_count - self.overhead_blocks - self.own_blocks

    @property
    def kernel_blocks(self) -> int:
        """Blocks the kernel keeps back for delayed extents: a fiftieth, at most 4096 (ext4_set_resv_clusters)."""
        return min(self.block_count // self.cluster_blocks // 50, 4096) * self.cluster_blocks


def plan(size: int, options: Options) -> Geometry:
    """Return the geometry of an ext4 filesystem in `size` bytes.

    Raises:
        UnfitError: the size is outside what ext4 is made for here, or does not hold its own metadata.
    """
    least = LEAST if options.sector == 512 else align_up(LEAST, options.sector)
    if not least <= size <= MOST:
        bound = f"from {show_both(least)} to {show_both(MOST)}"
        raise UnfitError(f"ext4 is made {bound}, not at {show_both(size)}", least, MOST)
    unit = _unit(size, options)
    block_size = min(unit, 4 * KIB)
    first = 1 if block_size == KIB else 0
    blocks, per_group = size // unit * (unit // block_size), 8 * unit
    whole, tail = divmod(blocks - first, per_group)
    counts = [(whole + 1, blocks)] if tail else []
    if whole:
        counts.append((whole, first + whole * per_group))
    made = [_with_groups(size, options, unit, groups, count) for groups, count in counts]
    fitting = [geometry for geometry in made if _fits(geometry)]
    if not fitting:
        raise UnfitError(f"{show_both(size)} do not hold the metadata of ext4", least, MOST)
    return max(fitting, key=lambda geometry: geometry.free_blocks - geometry.superuser_blocks)


def _unit(size: int, options: Options) -> int:
    """Return the bytes of an allocation unit: a block, or a cluster of blocks of 4 KiB."""
    if options.block is not None:
        return options.block
    if options.purpose == "media" and size >= CLUSTERS_FROM:
        return CLUSTER_OF_MEDIA
    return KIB if size < SMALL_BLOCKS_BELOW and options.sector <= KIB else 4 * KIB


def _with_groups(size: int, options: Options, unit: int, groups: int, blocks: int) -> Geometry:
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
    return Geometry(
        size=size,
        options=options,
        block_size=block_size,
        block_count=blocks,
        group_count=groups,
        inodes_per_group=min(align_up(inodes, max(block_size // INODE_SIZE, 8)), 8 * block_size),
        groups_per_flex_log=4 + max((size - 1).bit_length() - WIDER_FLEX_ABOVE.bit_length() + 1, 0),
        meta_groups=meta,
        reserved_descriptor_blocks=0 if meta else room,
        journal_blocks=_journal_blocks(size, options, block_size, blocks),
        superuser_blocks=kept,
        cluster_blocks=unit // block_size,
    )


def _journal_blocks(size: int, options: Options, block_size: int, blocks: int) -> int:
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


def _fits(geometry: Geometry) -> bool:
    """Return whether a last group that starts a flex group of its own holds its own metadata, and some is free."""
    start = (geometry.group_count - 1) * geometry.blocks_per_group + geometry.first_data_block
    room = geometry.block_count - start
    last = geometry.group_count - 1
    own = geometry.clustered(base_blocks(geometry, last))
    if last % (1 << geometry.groups_per_flex_log) == 0:
        own += geometry.clustered(2 + geometry.inode_table_blocks)
    return room > own and geometry.free_blocks > 0


def base_blocks(geometry: Geometry, group: int) -> int:
    """Return the blocks at the start of a group that hold a superblock, group descriptors and their reserve."""
    has_super = group == 0 or group in geometry.copies
    if not geometry.meta_groups:
        return has_super * (1 + geometry.descriptor_blocks + geometry.reserved_descriptor_blocks)
    position = group % geometry.descriptors_per_block
    return has_super + (position in (0, 1, geometry.descriptors_per_block - 1))


def backup_groups(group_count: int) -> tuple[int, ...]:
    """Return the groups with a superblock copy, ascending: 1 and the powers of 3, 5 and 7 (sparse_super)."""
    found = {1} if group_count > 1 else set()
    for base in (3, 5, 7):
        power = base
        while power < group_count:
            found.add(power)
            power *= base
    return tuple(sorted(found))


def capacity(geometry: Geometry) -> Capacity:
    """Return what statvfs gives on the fresh mount, and where the rest of the partition went."""
    block = geometry.block_size
    kept = min(geometry.superuser_blocks, geometry.free_blocks)
    held = min(geometry.kernel_blocks, geometry.free_blocks - kept)
    available = geometry.free_blocks - kept - held
    losses = [
        *_overhead_parts(geometry),
        ("first folders", geometry.own_blocks * block),
        ("kept for the superuser", kept * block),
        ("held back by the kernel", held * block),
        ("too short for a last group", geometry.size - geometry.block_count * block),
    ]
    found = Capacity(
        total=(geometry.block_count - geometry.overhead_blocks) * block,
        free=geometry.free_blocks * block,
        available=available * block,
        losses=tuple(Loss(what, size) for what, size in losses if size),
    )
    if found.available + sum(loss.size for loss in found.losses) != geometry.size:
        raise BugError(f"ext4: the parts of {geometry.size} bytes do not add up")
    return found


def _overhead_parts(geometry: Geometry) -> list[tuple[str, int]]:
    """Return what the blocks that statvfs does not count are, in bytes."""
    block = geometry.block_size
    parts = [
        ("inode tables", geometry.group_count * geometry.inode_table_blocks * block),
        ("journal", geometry.journal_blocks * block),
        ("superblocks, group descriptors", (geometry.first_data_block + geometry.table_blocks) * block),
        ("block and inode maps", 2 * geometry.group_count * block),
    ]
    return [*parts, ("rest of their clusters", geometry.overhead_blocks * block - sum(size for _, size in parts))]


def footprint(geometry: Geometry) -> int:
    """Return the most bytes that writing the filesystem stores."""
    flexes = -(-geometry.group_count >> geometry.groups_per_flex_log)
    per_flex = (2 + geometry.inode_table_blocks) << geometry.groups_per_flex_log
    bitmaps = (
        flexes * (per_flex // geometry.blocks_per_group + 2) + geometry.journal_blocks // geometry.blocks_per_group
    )
    if geometry.meta_groups:
        tables = geometry.table_blocks
    else:
        tables = (1 + len(geometry.copies)) * (1 + geometry.descriptor_blocks) + geometry.reserved_descriptor_blocks
    blocks = bitmaps + tables + geometry.own_blocks + FIRST_INODES + 4
    return blocks * max(geometry.block_size, 4 * KIB)


def breakpoints(options: Options) -> tuple[int, ...]:
    """Return the sizes at which a rule of this module changes, ascending, the bounds included."""
    sizes = {LEAST, SMALL_BLOCKS_BELOW, CLUSTERS_FROM, META_ABOVE + 1, MOST}
    sizes |= {JOURNAL_FROM_BLOCKS * block for block in (KIB, 4 * KIB)}
    sizes |= {upto + 1 for upto, _ in _DENSITY[options.purpose] if upto < MOST}
    return tuple(sorted(size for size in sizes if LEAST <= size <= MOST))
