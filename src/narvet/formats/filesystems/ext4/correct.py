"""Label of an ext4, and owner and mode of its root, changed where they stand."""

from __future__ import annotations

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import FilesystemState
from narvet.formats.filesystems.ext4 import inodes
from narvet.formats.filesystems.ext4.read import root_place
from narvet.formats.filesystems.ext4.records import INODE_SIZE, MAGIC, SUPERBLOCK_OFFSET, Inode, Superblock
from narvet.formats.filesystems.ext4.volume import Volume, superblock_on, volume_of
from narvet.formats.filesystems.ext4.write import sign
from narvet.ground.values import replace

_PERMISSIONS = 0o7777


def correct(device: BlockDevice, wanted: FilesystemState) -> None:
    """Write the label to every copy of the superblock, owner and mode to the root's inode, where they differ."""
    volume = volume_of(device, superblock_on(device))
    _relabel(volume, wanted.label.encode())
    if wanted.uid is not None and wanted.gid is not None and wanted.mode is not None:
        _own(volume, wanted.uid, wanted.gid, wanted.mode)


def _relabel(volume: Volume, label: bytes) -> None:
    if volume.superblock.s_volume_name.rstrip(b"\0") == label:
        return
    shape, device = volume.shape, volume.device
    for group in (*reversed(shape.copies), 0):
        place = max(shape.group_start(group) * shape.block_size, SUPERBLOCK_OFFSET)
        copy = Superblock.decode(device.read(place, Superblock.size))
        if copy.s_magic == MAGIC and copy.s_uuid == volume.superblock.s_uuid:
            changed = replace(copy, s_volume_name=label)
            device.write(place, (sign(changed) if volume.checksums else changed).encode())


def _own(volume: Volume, uid: int, gid: int, mode: int) -> None:
    place, size = root_place(volume), volume.shape.inode_size
    whole = volume.device.read(place, size)
    root = Inode.decode(whole[:INODE_SIZE].ljust(INODE_SIZE, b"\0"))
    changed = replace(
        root,
        i_mode=root.i_mode & ~_PERMISSIONS | mode,
        i_uid=uid & 0xFFFF,
        i_uid_high=uid >> 16,
        i_gid=gid & 0xFFFF,
        i_gid_high=gid >> 16,
    )
    if changed == root:
        return
    if volume.checksums:
        changed = inodes.signed_in(volume.seed, inodes.ROOT, changed, whole)
    volume.device.write(place, changed.encode()[: min(size, INODE_SIZE)])
