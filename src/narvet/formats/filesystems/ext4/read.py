"""Reading ext4, ext3 and ext2 from a device that is not trusted.

Every value of the superblock that others follow is checked first. What is read stays bounded: the superblock, at most
`MOST_DESCRIPTORS` group descriptors in pieces of at most 1 MiB, and the root's inode.
"""

from __future__ import annotations

from collections.abc import Iterator

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import FilesystemState
from narvet.formats.filesystems.ext4.records import (
    COMPAT,
    DESCRIPTOR_SIZE,
    INCOMPAT,
    INODE_SIZE,
    MAGIC,
    NEEDS_RECOVERY,
    ORPHANS_LEFT,
    OTHER_COMPAT,
    OTHER_INCOMPAT,
    OTHER_RO_COMPAT,
    RO_COMPAT,
    SUPERBLOCK_OFFSET,
    GroupDescriptor,
    Inode,
    Superblock,
)
from narvet.formats.filesystems.ext4.volume import (
    Volume,
    descriptor_pieces,
    descriptor_places,
    superblock_on,
    volume_of,
)
from narvet.ground.checksums import crc32c_raw
from narvet.ground.errors import ImageError
from narvet.ground.findings import Finding, Place
from narvet.ground.rules import filesystems as rules

_ROOT = 2
_WHERE_ITS_MAGIC_LIES = SUPERBLOCK_OFFSET + Superblock.size
_CLEAN, _ERRORS_SEEN = 0x1, 0x2
_MMP_CLEAN = 0xFF4D4D50


def read(device: BlockDevice, where: Place, *, deep: bool = True) -> FilesystemState | None:
    """Return what is found, or None where no superblock of this kind lies."""
    if device.size < _WHERE_ITS_MAGIC_LIES:
        return None
    superblock = superblock_on(device)
    if superblock.s_magic != MAGIC:
        return None
    found: list[Finding] = []
    uuid, label = str(superblock.s_uuid), superblock.s_volume_name.split(b"\0")[0].decode("utf-8", "replace")
    try:
        volume = volume_of(device, superblock)
        found += _superblock_findings(volume, device.size, where)
        found += _descriptor_findings(volume, where) if deep else ()
        root = _root(volume)
        if deep and not found:
            from narvet.formats.filesystems.ext4.maps import Checked

            checked = Checked(volume)
            found += [rules.filesystem_damaged.error(where, fault) for fault in checked.faults()]
            cut = checked.left_out()
            found += [rules.filesystem_not_checked.note(where, cut)] if cut else []
    except ImageError as error:
        found.append(rules.filesystem_damaged.error(where, str(error)))
        return FilesystemState("ext4", uuid, label, findings=tuple(found))
    free = superblock.s_free_blocks_count_lo
    if volume.incompat("64bit"):
        free |= superblock.s_free_blocks_count_hi << 32
    return FilesystemState(
        kind=_kind(volume),
        uuid=uuid,
        label=label,
        shape=volume.shape,
        free=free * volume.block_size,
        uid=root.i_uid | root.i_uid_high << 16,
        gid=root.i_gid | root.i_gid_high << 16,
        mode=root.i_mode & 0o7777,
        features=_features(superblock),
        findings=tuple(found),
        unclean=_unclean(volume),
    )


def _superblock_findings(volume: Volume, device_size: int, where: Place) -> Iterator[Finding]:
    superblock = volume.superblock
    data = volume.device.read(SUPERBLOCK_OFFSET, Superblock.size)
    if volume.checksums and crc32c_raw(0xFFFFFFFF, data[:-4]) != superblock.s_checksum:
        yield rules.filesystem_damaged.error(where, "the superblock does not match its checksum")
    if volume.shape.size > device_size:
        yield rules.filesystem_past_end.error(where, volume.shape.size, device_size)
    if superblock.s_state & _ERRORS_SEEN:
        yield rules.filesystem_damaged.error(where, "the guest's kernel has recorded errors in it")
    if superblock.s_feature_incompat & NEEDS_RECOVERY:
        yield rules.filesystem_needs_recovery.warning(where)


def _descriptor_findings(volume: Volume, where: Place) -> Iterator[Finding]:
    """Compare the first copy of every group descriptor with its checksum."""
    shape = volume.shape
    if not volume.checksums or shape.descriptor_size != DESCRIPTOR_SIZE or shape.size > volume.device.size:
        return
    import numpy as np

    from narvet.formats.filesystems.ext4.write import descriptor_checksums

    wrong = 0
    for first, data in descriptor_pieces(volume):
        table = np.frombuffer(data, dtype=GroupDescriptor.dtype())
        wrong += int((descriptor_checksums(table, volume.seed, first) != table["bg_checksum"]).sum())
    if wrong:
        yield rules.filesystem_damaged.error(
            where, f"{wrong} of {volume.shape.group_count} group descriptors do not match their checksums"
        )


def root_place(volume: Volume) -> int:
    """Return the byte at which the root's inode lies."""
    _, start, _ = next(descriptor_places(volume.shape))
    data = volume.device.read(start, volume.shape.descriptor_size)
    descriptor = GroupDescriptor.decode(data.ljust(DESCRIPTOR_SIZE, b"\0"))
    table = descriptor.bg_inode_table_lo | (descriptor.bg_inode_table_hi << 32 if volume.incompat("64bit") else 0)
    return table * volume.block_size + (_ROOT - 1) * volume.shape.inode_size


def _root(volume: Volume) -> Inode:
    """Return the root's inode."""
    size = volume.shape.inode_size
    data = volume.device.read(root_place(volume), min(size, INODE_SIZE))
    root = Inode.decode(data.ljust(INODE_SIZE, b"\0"))
    if root.i_mode >> 12 != 0o4:
        raise ImageError(f"the root's inode is not a folder: its i_mode is 0o{root.i_mode:o}")
    if volume.checksums and size == INODE_SIZE:
        from narvet.formats.filesystems.ext4.inodes import inode_checksum

        if inode_checksum(volume.seed, _ROOT, root) != (root.i_checksum_hi << 16 | root.i_checksum_lo):
            raise ImageError("the root's inode does not match its checksum")
    return root


def _kind(volume: Volume) -> str:
    if volume.incompat("extents"):
        return "ext4"
    return "ext3" if volume.compat("has_journal") else "ext2"


def _features(superblock: Superblock) -> tuple[str, ...]:
    """Return the names of the features in use; those Narvet has no name for are given by their bit."""
    names = []
    for word, table, kind in (
        (superblock.s_feature_compat, COMPAT | OTHER_COMPAT, "compat"),
        (superblock.s_feature_incompat, INCOMPAT | OTHER_INCOMPAT, "incompat"),
        (superblock.s_feature_ro_compat, RO_COMPAT | OTHER_RO_COMPAT, "ro_compat"),
    ):
        bits = [1 << bit for bit in range(32) if word >> bit & 1]
        names += [table.get(bit, f"{kind}:0x{bit:x}") for bit in bits]
    return tuple(names)


def _unclean(volume: Volume) -> str:
    """Return why nothing may be changed: what a guest left open, empty if nothing."""
    superblock = volume.superblock
    if superblock.s_feature_incompat & NEEDS_RECOVERY:
        return "its journal holds changes that are not in place yet"
    if superblock.s_state & _ERRORS_SEEN or not superblock.s_state & _CLEAN:
        return "its guest did not unmount it, or has seen errors in it"
    if superblock.s_last_orphan or superblock.s_feature_ro_compat & ORPHANS_LEFT:
        return "files that were removed while in use are still to be given back"
    if volume.incompat("mmp") and _mmp_sequence(volume) != _MMP_CLEAN:
        return "a kernel says that it has it mounted"
    return ""


def _mmp_sequence(volume: Volume) -> int:
    """Return what the block says by which kernels keep each other from mounting at once (mmp_seq)."""
    return int.from_bytes(volume.read_block(volume.superblock.s_mmp_block)[4:8], "little")
