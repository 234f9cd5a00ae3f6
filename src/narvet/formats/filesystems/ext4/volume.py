"""An ext4 that is not trusted: its superblock's sizes, checked, and where its group descriptors lie."""

from __future__ import annotations

from collections.abc import Iterator

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.ext4.records import (
    COMPAT,
    INCOMPAT,
    OTHER_COMPAT,
    OTHER_INCOMPAT,
    OTHER_RO_COMPAT,
    RO_COMPAT,
    SUPERBLOCK_OFFSET,
    Superblock,
)
from narvet.formats.filesystems.ext4.shape import Shape
from narvet.ground.checksums import crc32c_raw
from narvet.ground.errors import ImageError
from narvet.ground.values import Frozen

MOST_DESCRIPTORS = 1 << 20  # those of 128 TiB in usual groups; a damaged group size must not make us read for hours

_CHUNK = 1 << 20
_COMPAT = {name: bit for bit, name in (COMPAT | OTHER_COMPAT).items()}
_INCOMPAT = {name: bit for bit, name in (INCOMPAT | OTHER_INCOMPAT).items()}
_RO_COMPAT = {name: bit for bit, name in (RO_COMPAT | OTHER_RO_COMPAT).items()}


class Volume(Frozen):
    """An ext4 on a device: its shape, its superblock, and where its checksums start."""

    device: BlockDevice
    shape: Shape
    superblock: Superblock
    seed: int
    checksums: bool

    @property
    def block_size(self) -> int:
        """Bytes of a block."""
        return self.shape.block_size

    def compat(self, name: str) -> bool:
        """Whether a compatible feature is in use."""
        return bool(self.superblock.s_feature_compat & _COMPAT[name])

    def incompat(self, name: str) -> bool:
        """Whether an incompatible feature is in use."""
        return bool(self.superblock.s_feature_incompat & _INCOMPAT[name])

    def ro_compat(self, name: str) -> bool:
        """Whether a feature is in use that a writer must know."""
        return bool(self.superblock.s_feature_ro_compat & _RO_COMPAT[name])

    def read_block(self, block: int, count: int = 1) -> bytes:
        """Return `count` blocks from `block` on."""
        return self.device.read(block * self.block_size, count * self.block_size)


def superblock_on(device: BlockDevice) -> Superblock:
    """Return the first superblock of a device, whatever it holds."""
    return Superblock.decode(device.read(SUPERBLOCK_OFFSET, Superblock.size))


def volume_of(device: BlockDevice, superblock: Superblock) -> Volume:
    """Return an ext4 with its sizes checked.

    Raises:
        ImageError: a value of the superblock breaks the specification; the first one is named.
    """

    def check(good: bool, name: str, expected: str) -> None:
        if not good:
            raise ImageError(f"{name} is {getattr(superblock, name)}, {expected} expected")

    check(superblock.s_log_block_size <= 6, "s_log_block_size", "at most 6")
    block = 1024 << superblock.s_log_block_size
    cluster = superblock.s_log_cluster_size - superblock.s_log_block_size
    check(0 <= cluster <= 16, "s_log_cluster_size", "from the block size to 65536 blocks")
    most = 8 * block << cluster
    check(0 < superblock.s_blocks_per_group <= most, "s_blocks_per_group", f"1 to {most}")
    check(0 < superblock.s_inodes_per_group <= 8 * block, "s_inodes_per_group", f"1 to {8 * block}")
    check(superblock.s_first_data_block <= 1, "s_first_data_block", "0 or 1")
    inode = superblock.s_inode_size if superblock.s_rev_level else 128
    check(128 <= inode <= block and not inode & (inode - 1), "s_inode_size", f"a power of two from 128 to {block}")
    wide = bool(superblock.s_feature_incompat & _INCOMPAT["64bit"])
    descriptor = superblock.s_desc_size if wide else 32
    check(descriptor in (32, 64, 128, 256, 512, 1024), "s_desc_size", "a power of two from 32 to 1024")
    blocks = superblock.s_blocks_count_lo | (superblock.s_blocks_count_hi << 32 if wide else 0)
    check(blocks > superblock.s_first_data_block, "s_blocks_count_lo", "more than one block")
    seeded = superblock.s_feature_incompat & _INCOMPAT["csum_seed"]
    seed = superblock.s_checksum_seed if seeded else crc32c_raw(0xFFFFFFFF, superblock.s_uuid.bytes)
    checksums = bool(superblock.s_feature_ro_compat & _RO_COMPAT["metadata_csum"])
    flex = superblock.s_feature_incompat & _INCOMPAT["flex_bg"]
    check(superblock.s_log_groups_per_flex < 32, "s_log_groups_per_flex", "below 32")
    shape = Shape(
        block_size=block,
        block_count=blocks,
        blocks_per_group=superblock.s_blocks_per_group,
        inodes_per_group=superblock.s_inodes_per_group,
        inode_size=inode,
        descriptor_size=descriptor,
        first_data_block=superblock.s_first_data_block,
        groups_per_flex_log=superblock.s_log_groups_per_flex if flex else 0,
        meta_from=superblock.s_first_meta_bg if superblock.s_feature_incompat & _INCOMPAT["meta_bg"] else None,
        sparse=bool(superblock.s_feature_ro_compat & _RO_COMPAT["sparse_super"]),
        reserved_descriptor_blocks=superblock.s_reserved_gdt_blocks,
        journal_blocks=_journal_bytes(superblock) // block,
        superuser_blocks=superblock.s_r_blocks_count_lo | (superblock.s_r_blocks_count_hi << 32 if wide else 0),
        cluster_blocks=1 << cluster if superblock.s_feature_ro_compat & _RO_COMPAT["bigalloc"] else 1,
        recorded_overhead=superblock.s_overhead_clusters,
    )
    return Volume(device, shape, superblock, seed, checksums)


def _journal_bytes(superblock: Superblock) -> int:
    """Return the bytes of the journal inside the filesystem, by the copy of its inode in the superblock."""
    if not superblock.s_feature_compat & _COMPAT["has_journal"] or not superblock.s_journal_inum:
        return 0
    return superblock.s_jnl_blocks[15] << 32 | superblock.s_jnl_blocks[16]


def descriptor_pieces(volume: Volume) -> Iterator[tuple[int, bytes]]:
    """Yield the first group and the bytes of pieces of the descriptor table, joined to about 1 MiB each."""
    first, data = 0, bytearray()
    for group, offset, count in descriptor_places(volume.shape):
        data += volume.device.read(offset, count * volume.shape.descriptor_size)
        if len(data) >= _CHUNK:
            yield first, bytes(data)
            first, data = group + count, bytearray()
    if data:
        yield first, bytes(data)


def descriptor_offset(shape: Shape, group: int) -> int:
    """Return the byte at which the first copy of a group's descriptor lies."""
    index, inside = divmod(group, shape.descriptors_per_block)
    first = index * shape.descriptors_per_block
    if shape.meta_from is None or index < shape.meta_from:
        block = shape.first_data_block + 1 + index
    else:
        block = shape.group_start(first) + (first == 0 or first in shape.copies)
    return block * shape.block_size + inside * shape.descriptor_size


def descriptor_places(shape: Shape) -> Iterator[tuple[int, int, int]]:
    """Yield the first group, byte offset and number of each run of group descriptors in their first copy."""
    groups, each = min(shape.group_count, MOST_DESCRIPTORS), shape.descriptors_per_block
    blocks = -(-groups // each)
    together = blocks if shape.meta_from is None else min(shape.meta_from, blocks)
    step = max(_CHUNK // shape.block_size, 1)
    for index in range(0, together, step):
        group, count = index * each, min(step, together - index) * each
        yield group, (shape.first_data_block + 1 + index) * shape.block_size, min(count, groups - group)
    copies = set(shape.copies)
    for index in range(together, blocks):
        group = index * each
        start = shape.group_start(group) + (group == 0 or group in copies)
        yield group, start * shape.block_size, min(each, groups - group)
