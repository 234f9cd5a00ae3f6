"""The shape of an ext4: its sizes, planned or read, and what follows from them, as plain integers.

Nothing here grows with the number of block groups, so a review of ten thousand disks and the search behind `usable`
cost microseconds each. `groups` spreads a shape out into arrays when it is written.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property

from narvet.ground.units import KIB, align_up

LOST_FOUND_BLOCKS = 4
_KERNEL_SHARE, _KERNEL_MOST = 50, 4096  # ext4_set_resv_clusters


@dataclass(frozen=True)
class Shape:
    """The sizes of one ext4, and of its elder kin. Fields named after blocks, groups and inodes count those.

    `meta_from` is the number of descriptor blocks that lie together before each meta block group holds its own, None
    without meta block groups. `sparse` is whether only some groups hold a copy of the superblock. `recorded_overhead`
    is clusters that the superblock says statvfs does not count, 0 where it does not say; kernels note it at a mount,
    so it is not compared.
    """

    block_size: int
    block_count: int
    blocks_per_group: int
    inodes_per_group: int
    inode_size: int
    descriptor_size: int
    first_data_block: int
    groups_per_flex_log: int = 0
    meta_from: int | None = None
    sparse: bool = True
    reserved_descriptor_blocks: int = 0
    journal_blocks: int = 0
    superuser_blocks: int = 0
    cluster_blocks: int = 1
    recorded_overhead: int = field(default=0, compare=False)

    @property
    def size(self) -> int:
        """Bytes of all blocks."""
        return self.block_count * self.block_size

    @property
    def unit(self) -> int:
        """Bytes of a cluster, which is a block unless many share one bit of the maps."""
        return self.block_size * self.cluster_blocks

    @property
    def held_back(self) -> int:
        """Bytes of what is free that ordinary users cannot fill: the superuser's, and those that the kernel keeps."""
        return (self.superuser_blocks + self.kernel_blocks) * self.block_size

    @cached_property
    def total(self) -> int:
        """Bytes that statvfs counts."""
        return max(self.block_count - self.overhead_blocks, 0) * self.block_size

    @cached_property
    def group_count(self) -> int:
        """Block groups; the last one may be shorter."""
        return -(-(self.block_count - self.first_data_block) // self.blocks_per_group)

    @property
    def inode_table_blocks(self) -> int:
        """Blocks of each group's inode table."""
        return self.inodes_per_group * self.inode_size // self.block_size

    @property
    def descriptors_per_block(self) -> int:
        """Group descriptors in a block, which is also the number of groups in a meta block group."""
        return self.block_size // self.descriptor_size

    @property
    def descriptor_blocks(self) -> int:
        """Blocks of one copy of all group descriptors."""
        return -(-self.group_count // self.descriptors_per_block)

    @cached_property
    def copies(self) -> tuple[int, ...]:
        """Groups that hold a copy of the superblock besides group 0; few filesystems still have one in every group."""
        return backup_groups(self.group_count) if self.sparse else ()

    @cached_property
    def table_blocks(self) -> int:
        """Blocks of all superblocks, group descriptors and their reserve, in all groups."""
        supers = 1 + len(self.copies) if self.sparse else self.group_count
        if self.meta_from is None:
            return supers * (1 + self.descriptor_blocks + self.reserved_descriptor_blocks)
        together = min(self.meta_from, self.descriptor_blocks)
        border = together * self.descriptors_per_block
        early = 1 + sum(1 for group in self.copies if group < border) if border else 0
        whole, part = divmod(max(self.group_count - border, 0), self.descriptors_per_block)
        return supers + early * (together + self.reserved_descriptor_blocks) + 3 * whole + min(part, 2)

    @cached_property
    def overhead_blocks(self) -> int:
        """Blocks that statvfs does not count, as the kernel works them out at every mount (ext4_calculate_overhead)."""
        if self.recorded_overhead and self.cluster_blocks > 1:
            return self.recorded_overhead * self.cluster_blocks
        each = 2 + self.inode_table_blocks
        if self.cluster_blocks > 1:
            flex = 1 << self.groups_per_flex_log
            whole, part = divmod(self.group_count, flex)
            tables = whole * self.clustered(flex * each) + self.clustered(part * each)
            return self.groups_with_base * self.cluster_blocks + tables + self.clustered(self.journal_blocks)
        return self.first_data_block + self.table_blocks + self.group_count * each + self.journal_blocks

    @cached_property
    def own_blocks(self) -> int:
        """Blocks in use when it is fresh that statvfs does count: root, lost+found, the map of what growth may use."""
        growth = 1 if self.reserved_descriptor_blocks else 0
        return self.clustered(1) + self.clustered(LOST_FOUND_BLOCKS) + growth

    @property
    def groups_with_base(self) -> int:
        """Groups that hold a superblock or descriptors in meta block groups."""
        each = self.descriptors_per_block
        whole, part = divmod(self.group_count, each)
        apart = sum(1 for group in self.copies if group % each not in (0, 1, each - 1))
        return 3 * whole + min(part, 2) + apart

    @cached_property
    def free_blocks(self) -> int:
        """Blocks free when it is fresh."""
        return self.block_count - self.overhead_blocks - self.own_blocks

    @property
    def kernel_blocks(self) -> int:
        """Blocks the kernel keeps back for delayed extents: a fiftieth, at most 4096 (ext4_set_resv_clusters)."""
        return min(self.block_count // self.cluster_blocks // _KERNEL_SHARE, _KERNEL_MOST) * self.cluster_blocks

    def clustered(self, blocks: int) -> int:
        """Return the blocks of the clusters that `blocks` blocks in a row take."""
        return align_up(blocks, self.cluster_blocks)

    def group_start(self, group: int) -> int:
        """Return the first block of a group."""
        return self.first_data_block + group * self.blocks_per_group

    def group_length(self, group: int) -> int:
        """Return the blocks of a group."""
        return min(self.blocks_per_group, self.block_count - self.group_start(group))

    def chunks(self, first_group: int) -> Iterator[tuple[int, int]]:
        """Yield first and end of the runs of groups from `first_group` on whose metadata lie together."""
        flex, group = 1 << self.groups_per_flex_log, first_group
        while group < self.group_count:
            end = min((group // flex + 1) * flex, self.group_count)
            yield group, end
            group = end

    def base_blocks(self, group: int) -> int:
        """Return the blocks at the start of a group that hold a superblock, group descriptors and their reserve."""
        has_super = group == 0 or group in self.copies
        if self.meta_from is None:
            return has_super * (1 + self.descriptor_blocks + self.reserved_descriptor_blocks)
        if group < self.meta_from * self.descriptors_per_block:
            return has_super * (1 + self.meta_from + self.reserved_descriptor_blocks)
        position = group % self.descriptors_per_block
        return has_super + (position in (0, 1, self.descriptors_per_block - 1))


def first_data_block_of(block_size: int) -> int:
    """Return the block that group 0 starts at: the superblock's, which is block 1 only where blocks are 1 KiB."""
    return 1 if block_size == KIB else 0


def backup_groups(group_count: int) -> tuple[int, ...]:
    """Return the groups with a superblock copy, ascending: 1 and the powers of 3, 5 and 7 (sparse_super)."""
    found = {1} if group_count > 1 else set()
    for base in (3, 5, 7):
        power = base
        while power < group_count:
            found.add(power)
            power *= base
    return tuple(sorted(found))
