"""A mounted xfs made larger by the kernel itself: its own calls for that (fs/xfs/libxfs/xfs_fs.h)."""

from __future__ import annotations

import os
import struct

_GEOMETRY = 0x80705864  # XFS_IOC_FSGEOMETRY_V1: _IOR('X', 100, struct xfs_fsop_geom_v1)
_GROW = 0x4010586E  # XFS_IOC_FSGROWFSDATA: _IOW('X', 110, struct xfs_growfs_data)
_GEOMETRY_SIZE, _MOST_INODES_AT = 112, 28  # bytes of the answer; where it has the share kept for inodes


def grow_mounted(at: str, size: int) -> None:
    """Have the kernel make the xfs that is mounted at a folder as many whole blocks large as `size` bytes have.

    Raises:
        OSError: the kernel refused.
    """
    import fcntl

    folder = os.open(at, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        told = fcntl.ioctl(folder, _GEOMETRY, bytes(_GEOMETRY_SIZE))
        (block_size,), (most_inodes,) = struct.unpack_from("I", told), struct.unpack_from("I", told, _MOST_INODES_AT)
        fcntl.ioctl(folder, _GROW, struct.pack("QI4x", size // block_size, most_inodes))
    finally:
        os.close(folder)
