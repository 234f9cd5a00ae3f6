"""Reading ext4 (and its elder kin) from a device that is not trusted, whoever made it.

Every value of the superblock that others follow is checked first. What is read stays bounded: the superblock, at most
`MOST_DESCRIPTORS` group descriptors in pieces of at most 1 MiB, and the root's inode.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from narvet.block.contract import BlockDevice
from narvet.checksums import crc32c_raw
from narvet.errors import ImageError
from narvet.filesystems.contract import FilesystemFacts
from narvet.filesystems.ext4.geometry import backup_groups
from narvet.filesystems.ext4.records import (
    COMPAT,
    DESCRIPTOR_SIZE,
    INCOMPAT,
    INODE_SIZE,
    MAGIC,
    NEEDS_RECOVERY,
    RO_COMPAT,
    SUPERBLOCK_OFFSET,
    GroupDescriptor,
    Inode,
    Superblock,
)
from narvet.findings import Finding

MOST_DESCRIPTORS = 1 << 20  # those of 128 TiB in usual groups; a damaged group size must not make us read for hours

_CHUNK = 1 << 20
_ROOT = 2
_WHERE_ITS_MAGIC_LIES = SUPERBLOCK_OFFSET + Superblock.size
_COMPAT = {name: bit for bit, name in COMPAT.items()}
_INCOMPAT = {name: bit for bit, name in INCOMPAT.items()}
_RO_COMPAT = {name: bit for bit, name in RO_COMPAT.items()}
_BIGALLOC = 0x200
_ERRORS_SEEN = 0x2


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


def read(device: BlockDevice, where: str, *, deep: bool = True) -> FilesystemFacts | None:
    """Return what is found, or None where no superblock of this kind lies."""
    if device.size < _WHERE_ITS_MAGIC_LIES:
        return None
    superblock = Superblock.decode(device.read(SUPERBLOCK_OFFSET, Superblock.size))
    if superblock.s_magic != MAGIC:
        return None
    found: list[Finding] = []
    uuid, label = str(superblock.s_uuid), superblock.s_volume_name.split(b"\0")[0].decode("utf-8", "replace")
    try:
        shape = shape_of(superblock)
        found += _superblock_findings(shape, device.size, where)
        found += _descriptor_findings(device, shape, where) if deep else ()
        root = _root(device, shape)
        if deep and not found:
            from narvet.filesystems.ext4.maps import faults

            found += [_damage(where, fault) for fault in faults(device, shape)]
    except ImageError as error:
        found.append(_damage(where, str(error)))
        return FilesystemFacts("ext4", uuid, label, 0, 0, 0, 0, findings=tuple(found))
    free = _wide(superblock, "s_free_blocks_count")
    return FilesystemFacts(
        kind=_kind(shape),
        uuid=uuid,
        label=label,
        size=shape.blocks * shape.block,
        total=max(shape.blocks - _overhead(shape), 0) * shape.block,
        free=free * shape.block,
        block=shape.block,
        uid=root.i_uid | root.i_uid_high << 16,
        gid=root.i_gid | root.i_gid_high << 16,
        mode=root.i_mode & 0o7777,
        features=_features(superblock),
        findings=tuple(found),
    )


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


def _superblock_findings(shape: Shape, device_size: int, where: str) -> Iterator[Finding]:
    superblock = shape.superblock
    if shape.checksums and crc32c_raw(0xFFFFFFFF, superblock.encode()[:-4]) != superblock.s_checksum:
        yield _damage(where, "the superblock does not match its checksum")
    if shape.blocks * shape.block > device_size:
        yield Finding(
            "filesystem-past-end", "error", where,
            f"the filesystem says it has {shape.blocks * shape.block} bytes, but it lies on {device_size}",
            "do not mount it; the partition or the image was made smaller, or was cut short in a copy",
        )  # fmt: skip
    if superblock.s_state & _ERRORS_SEEN:
        yield _damage(where, "the guest's kernel has recorded errors in it")
    if superblock.s_feature_incompat & NEEDS_RECOVERY:
        yield Finding(
            "filesystem-needs-recovery", "warning", where,
            "the filesystem is in use or was not unmounted cleanly",
            "shut the guest down cleanly, or mount and unmount it once",
        )  # fmt: skip


def _descriptor_findings(device: BlockDevice, shape: Shape, where: str) -> Iterator[Finding]:
    """Compare the first copy of every group descriptor with its checksum."""
    if not shape.checksums or shape.descriptor != DESCRIPTOR_SIZE or shape.blocks * shape.block > device.size:
        return
    import numpy as np

    from narvet.filesystems.ext4.write import descriptor_checksums

    wrong = 0
    for first, data in descriptor_pieces(device, shape):
        table = np.frombuffer(data, dtype=GroupDescriptor.dtype())
        wrong += int((descriptor_checksums(table, shape.seed, first) != table["bg_checksum"]).sum())
    if wrong:
        yield _damage(where, f"{wrong} of {shape.groups} group descriptors do not match their checksums")


def descriptor_pieces(device: BlockDevice, shape: Shape) -> Iterator[tuple[int, bytes]]:
    """Yield the first group and the bytes of pieces of the descriptor table, joined to about 1 MiB each."""
    first, data = 0, bytearray()
    for group, offset, count in _descriptor_places(shape):
        data += device.read(offset, count * shape.descriptor)
        if len(data) >= _CHUNK:
            yield first, bytes(data)
            first, data = group + count, bytearray()
    if data:
        yield first, bytes(data)


def _descriptor_places(shape: Shape) -> Iterator[tuple[int, int, int]]:
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


def _root(device: BlockDevice, shape: Shape) -> Inode:
    """Return the root's inode."""
    _, start, _ = next(_descriptor_places(shape))
    descriptor = GroupDescriptor.decode(device.read(start, shape.descriptor).ljust(DESCRIPTOR_SIZE, b"\0"))
    table = descriptor.bg_inode_table_lo | (descriptor.bg_inode_table_hi << 32 if shape.incompat("64bit") else 0)
    size = shape.superblock.s_inode_size if shape.superblock.s_rev_level else 128
    data = device.read(table * shape.block + (_ROOT - 1) * size, min(size, INODE_SIZE)).ljust(INODE_SIZE, b"\0")
    root = Inode.decode(data)
    if root.i_mode >> 12 != 0o4:
        raise ImageError(f"the root's inode is not a folder: its i_mode is 0o{root.i_mode:o}")
    if shape.checksums and size == INODE_SIZE:
        from narvet.filesystems.ext4.inodes import inode_checksum

        if inode_checksum(shape.seed, _ROOT, root) != (root.i_checksum_hi << 16 | root.i_checksum_lo):
            raise ImageError("the root's inode does not match its checksum")
    return root


def copies_of(shape: Shape) -> tuple[int, ...]:
    """Return the groups with a superblock copy; without sparse_super that is every group, which few still have."""
    return backup_groups(shape.groups) if shape.ro_compat("sparse_super") else ()


def _overhead(shape: Shape) -> int:
    """Return the blocks statvfs does not count, as the kernel works them out (ext4_calculate_overhead)."""
    superblock = shape.superblock
    if superblock.s_feature_ro_compat & _BIGALLOC:
        return superblock.s_overhead_clusters << (superblock.s_log_cluster_size - superblock.s_log_block_size)
    descriptor_blocks = -(-shape.groups // shape.per_block)
    supers = 1 + len(copies_of(shape)) if shape.ro_compat("sparse_super") else shape.groups
    inode = superblock.s_inode_size if superblock.s_rev_level else 128
    each = 2 + superblock.s_inodes_per_group * inode // shape.block
    tables = supers * (1 + descriptor_blocks + superblock.s_reserved_gdt_blocks)
    if shape.incompat("meta_bg"):
        tables = _meta_tables(shape, supers, descriptor_blocks)
    journal = 0
    if shape.compat("has_journal") and superblock.s_journal_inum:
        journal = (superblock.s_jnl_blocks[15] << 32 | superblock.s_jnl_blocks[16]) // shape.block
    return superblock.s_first_data_block + tables + shape.groups * each + journal


def _meta_tables(shape: Shape, supers: int, descriptor_blocks: int) -> int:
    """Return the blocks of superblocks and descriptors where some or all meta block groups hold their own."""
    together = min(shape.superblock.s_first_meta_bg, descriptor_blocks)
    border = together * shape.per_block
    early = 1 + sum(1 for group in copies_of(shape) if group < border) if border else 0
    whole, part = divmod(max(shape.groups - border, 0), shape.per_block)
    return supers + early * (together + shape.superblock.s_reserved_gdt_blocks) + 3 * whole + min(part, 2)


def _wide(superblock: Superblock, name: str) -> int:
    high = getattr(superblock, name + "_hi") if superblock.s_feature_incompat & _INCOMPAT["64bit"] else 0
    low: int = getattr(superblock, name + "_lo")
    return low | int(high) << 32


def _kind(shape: Shape) -> str:
    if shape.incompat("extents"):
        return "ext4"
    return "ext3" if shape.compat("has_journal") else "ext2"


def _features(superblock: Superblock) -> tuple[str, ...]:
    """Return the names of the features in use; those Narvet has no name for are given by their bit."""
    names = []
    for word, table, kind in (
        (superblock.s_feature_compat, COMPAT, "compat"),
        (superblock.s_feature_incompat, INCOMPAT, "incompat"),
        (superblock.s_feature_ro_compat, RO_COMPAT, "ro_compat"),
    ):
        bits = [1 << bit for bit in range(32) if word >> bit & 1]
        names += [table.get(bit, f"{kind}:0x{bit:x}") for bit in bits]
    return tuple(names)


def _damage(where: str, what: str) -> Finding:
    return Finding(
        "filesystem-damaged",
        "error",
        where,
        what,
        "copy the data off, or have the guest repair it, before relying on it",
    )
