"""The shape of an ext4 that is not trusted: its superblock's sizes, checked, and where its group descriptors lie."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from narvet.block.contract import BlockDevice
from narvet.checksums import crc32c_raw
from narvet.errors import ImageError
from narvet.filesystems.ext4.geometry import backup_groups
from narvet.filesystems.ext4.records import COMPAT, INCOMPAT, RO_COMPAT, Superblock

MOST_DESCRIPTORS = 1 << 20  # those of 128 TiB in usual groups; a damaged group size must not make us read for hours

_CHUNK = 1 << 20
_COMPAT = {name: bit for bit, name in COMPAT.items()}
_INCOMPAT = {name: bit for bit, name in INCOMPAT.items()}
_RO_COMPAT = {name: bit for bit, name in RO_COMPAT.items()}


@dataclass(frozen=True)
class Shape:
    """The checked sizes of a superblock: bytes of a block and of a group descriptor, blocks and groups."""

    block: int
    blocks: int
    groups: int
    descriptor: int
    seed: int
    checksums: bool
    superblock: Superblock

    @property
    def per_block(self) -> int:
        """Group descriptors in a block."""
        return self.block // self.descriptor

    def compat(self, name: str) -> bool:
        """Whether a compatible feature is in use."""
        return bool(self.superblock.s_feature_compat & _COMPAT[name])

    def incompat(self, name: str) -> bool:
        """Whether an incompatible feature is in use."""
        return bool(self.superblock.s_feature_incompat & _INCOMPAT[name])

    def ro_compat(self, name: str) -> bool:
        """Whether a read-only compatible feature is in use."""
        return bool(self.superblock.s_feature_ro_compat & _RO_COMPAT[name])


def shape_of(superblock: Superblock) -> Shape:
    """Return the checked sizes; ImageError names the first value that breaks the specification."""

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
    return Shape(
        block=block,
        blocks=blocks,
        groups=-(-(blocks - superblock.s_first_data_block) // superblock.s_blocks_per_group),
        descriptor=descriptor,
        seed=superblock.s_checksum_seed if seeded else crc32c_raw(0xFFFFFFFF, superblock.s_uuid.bytes),
        checksums=bool(superblock.s_feature_ro_compat & _RO_COMPAT["metadata_csum"]),
        superblock=superblock,
    )


def descriptor_pieces(device: BlockDevice, shape: Shape) -> Iterator[tuple[int, bytes]]:
    """Yield the first group and the bytes of pieces of the descriptor table, joined to about 1 MiB each."""
    first, data = 0, bytearray()
    for group, offset, count in descriptor_places(shape):
        data += device.read(offset, count * shape.descriptor)
        if len(data) >= _CHUNK:
            yield first, bytes(data)
            first, data = group + count, bytearray()
    if data:
        yield first, bytes(data)


def descriptor_places(shape: Shape) -> Iterator[tuple[int, int, int]]:
    """Yield the first group, byte offset and number of each run of group descriptors in their first copy."""
    superblock, groups = shape.superblock, min(shape.groups, MOST_DESCRIPTORS)
    blocks = -(-groups // shape.per_block)
    together = min(superblock.s_first_meta_bg, blocks) if shape.incompat("meta_bg") else blocks
    step = max(_CHUNK // shape.block, 1)
    for index in range(0, together, step):
        group, count = index * shape.per_block, min(step, together - index) * shape.per_block
        start = (superblock.s_first_data_block + 1 + index) * shape.block
        yield group, start, min(count, groups - group)
    copies = set(copies_of(shape))
    for index in range(together, blocks):
        group = index * shape.per_block
        first = superblock.s_first_data_block + group * superblock.s_blocks_per_group
        yield group, (first + (group == 0 or group in copies)) * shape.block, min(shape.per_block, groups - group)


def copies_of(shape: Shape) -> tuple[int, ...]:
    """Return the groups with a superblock copy; without sparse_super that is every group, which few still have."""
    return backup_groups(shape.groups) if shape.ro_compat("sparse_super") else ()
