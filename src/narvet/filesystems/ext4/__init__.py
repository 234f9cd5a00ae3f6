"""ext4, as the Linux kernel documents it (Documentation/filesystems/ext4), from 2 MiB to 64 TiB.

Features: 64bit, extents, flex_bg, metadata_csum with its seed, journal, dir_index, sparse superblock copies,
extra_isize, bigalloc where units are larger than a block, and room to grow online. Not made here: encryption, quota,
external journals.
"""

from __future__ import annotations

from narvet.filesystems.contract import InFolder
from narvet.filesystems.ext4.geometry import LEAST, MOST


class Ext4(InFolder):
    """The filesystem behind `filesystem = "ext4"`."""

    folder = __name__
    maps = "maps"
    name = "ext4"
    mount_type = "ext4"
    least = LEAST
    most = MOST
    label_limit = 16
    keys = frozenset({"block", "inode_each", "journal", "reserved"})


FILESYSTEM = Ext4()
