"""Label of an XFS, and owner and mode of its root, changed where they stand."""

from __future__ import annotations

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import FilesystemState
from narvet.formats.filesystems.xfs import records as r
from narvet.formats.filesystems.xfs.groups import sealed
from narvet.formats.filesystems.xfs.read import root_place
from narvet.formats.filesystems.xfs.trees import sound
from narvet.formats.filesystems.xfs.volume import Volume, volume_of
from narvet.ground.values import replace

_PERMISSIONS = 0o7777


def correct(device: BlockDevice, wanted: FilesystemState) -> None:
    """Write the label to every group's superblock, owner and mode to the root's inode, where they differ."""
    volume = volume_of(device, r.Superblock.decode(device.read(0, 512)))
    label = wanted.label.encode()
    if volume.superblock.sb_fname.rstrip(b"\0") != label:
        for group in reversed(range(volume.shape.group_count)):
            _relabel(volume, group, label)
    if wanted.uid is not None and wanted.gid is not None and wanted.mode is not None:
        _own(volume, wanted.uid, wanted.gid, wanted.mode)


def _relabel(volume: Volume, group: int, label: bytes) -> None:
    place, size = volume.group(group).start, volume.shape.sector_size
    data = volume.device.read(place, size)
    if sound(data, r.Superblock, "sb_crc"):
        changed = replace(r.Superblock.decode(data), sb_fname=label)
        volume.device.write(place, sealed(changed, "sb_crc", size, data[r.Superblock.size :]))


def _own(volume: Volume, uid: int, gid: int, mode: int) -> None:
    place, size = root_place(volume), volume.shape.inode_size
    data = volume.device.read(place, size)
    root = r.Inode.decode(data)
    changed = replace(root, di_mode=root.di_mode & ~_PERMISSIONS | mode, di_uid=uid, di_gid=gid)
    if changed != root:
        volume.device.write(place, sealed(changed, "di_crc", size, data[r.Inode.size :]))
