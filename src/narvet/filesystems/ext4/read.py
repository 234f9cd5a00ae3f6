"""Reading ext4 (and its elder kin) from a device that is not trusted, whoever made it.

Every value of the superblock that others follow is checked first. What is read stays bounded: the superblock, at most
`MOST_DESCRIPTORS` group descriptors in pieces of at most 1 MiB, and the root's inode.
"""

from __future__ import annotations

from collections.abc import Iterator

from narvet.block.contract import BlockDevice
from narvet.checksums import crc32c_raw
from narvet.errors import ImageError
from narvet.filesystems import told
from narvet.filesystems.contract import FilesystemFacts
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
from narvet.filesystems.ext4.shape import Shape, copies_of, descriptor_pieces, descriptor_places, shape_of
from narvet.findings import Finding

_ROOT = 2
_WHERE_ITS_MAGIC_LIES = SUPERBLOCK_OFFSET + Superblock.size
_BIGALLOC = 0x200
_ERRORS_SEEN = 0x2


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
            from narvet.filesystems.ext4.maps import faults, left_out

            found += [told.damaged(where, fault) for fault in faults(device, shape)]
            cut = left_out(device, shape)
            found += [told.not_checked(where, cut)] if cut else []
    except ImageError as error:
        found.append(told.damaged(where, str(error)))
        return FilesystemFacts("ext4", uuid, label, 0, 0, 0, 0, findings=tuple(found))
    free = _wide(superblock, "s_free_blocks_count", wide=shape.incompat("64bit"))
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


def _superblock_findings(shape: Shape, device_size: int, where: str) -> Iterator[Finding]:
    superblock = shape.superblock
    if shape.checksums and crc32c_raw(0xFFFFFFFF, superblock.encode()[:-4]) != superblock.s_checksum:
        yield told.damaged(where, "the superblock does not match its checksum")
    if shape.blocks * shape.block > device_size:
        yield told.past_end(where, shape.blocks * shape.block, device_size)
    if superblock.s_state & _ERRORS_SEEN:
        yield told.damaged(where, "the guest's kernel has recorded errors in it")
    if superblock.s_feature_incompat & NEEDS_RECOVERY:
        yield told.in_use(where)


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
        yield told.damaged(where, f"{wrong} of {shape.groups} group descriptors do not match their checksums")


def _root(device: BlockDevice, shape: Shape) -> Inode:
    """Return the root's inode."""
    _, start, _ = next(descriptor_places(shape))
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


def _wide(superblock: Superblock, name: str, *, wide: bool) -> int:
    low: int = getattr(superblock, name + "_lo")
    return low | int(getattr(superblock, name + "_hi")) << 32 if wide else low


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
