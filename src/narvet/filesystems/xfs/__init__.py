"""XFS version 5, by the XFS Algorithms and Data Structures document and as the Linux kernel reads it.

Features: checksums, free-inode tree, inode tree counters, sparse inodes, big timestamps, file types in folders; from
300 MiB on also reverse mapping and reference counts. Not made here: real-time devices, external logs, quota.
"""

from __future__ import annotations

from collections.abc import Iterator

from narvet.block.contract import BlockDevice, Extent
from narvet.filesystems.contract import Capacity, FilesystemFacts, Options, Usual
from narvet.filesystems.xfs import geometry as _geometry
from narvet.filesystems.xfs.geometry import Geometry


class Xfs(Usual):
    """The filesystem behind `filesystem = "xfs"`."""

    name = "xfs"
    mount_type = "xfs"
    check_pass = 0  # its log is replayed by the mount itself
    least = _geometry.LEAST
    most = _geometry.MOST
    label_limit = 12
    keys = frozenset({"block", "journal"})

    def units(self, sector: int) -> tuple[int, ...]:
        """Return the block sizes."""
        return tuple(size for size in _geometry.UNITS if size >= sector)

    def geometry(self, size: int, options: Options) -> Geometry:
        """Work out where everything lies in `size` bytes."""
        return _geometry.plan(size, options)

    def capacity(self, geometry: Geometry) -> Capacity:
        """Return what the guest will report."""
        return _geometry.capacity(geometry)

    def footprint(self, geometry: Geometry) -> int:
        """Return the most bytes that writing it stores."""
        return _geometry.footprint(geometry)

    def breakpoints(self, options: Options) -> tuple[int, ...]:
        """Return the sizes at which its rules change."""
        return _geometry.breakpoints(options)

    def write(self, device: BlockDevice, geometry: Geometry) -> None:
        """Write it to a device that reads as zeros."""
        from narvet.filesystems.xfs.write import write

        write(device, geometry)

    def read(self, device: BlockDevice, where: str) -> FilesystemFacts | None:
        """Return what is found on a device that is not trusted."""
        from narvet.filesystems.xfs.read import read

        return read(device, where)

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield the free runs of every group."""
        from narvet.filesystems.xfs.read import unused

        return unused(device)


FILESYSTEM = Xfs()
