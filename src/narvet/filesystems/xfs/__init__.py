"""XFS version 5, by the XFS Algorithms and Data Structures document and as the Linux kernel reads it.

Features: checksums, free-inode tree, inode tree counters, sparse inodes, big timestamps, file types in folders; from
300 MiB on also reverse mapping and reference counts. Not made here: real-time devices, external logs, quota.
"""

from __future__ import annotations

from narvet.filesystems.contract import InFolder
from narvet.filesystems.xfs.geometry import LEAST, MOST


class Xfs(InFolder):
    """The filesystem behind `filesystem = "xfs"`."""

    folder = __name__
    name = "xfs"
    mount_type = "xfs"
    check_pass = 0  # its log is replayed by the mount itself
    least = LEAST
    most = MOST
    label_limit = 12
    keys = frozenset({"block", "journal"})


FILESYSTEM = Xfs()
