"""ext4, as the Linux kernel documents it (Documentation/filesystems/ext4), from 2 MiB to 64 TiB.

Features: 64bit, extents, flex_bg, metadata_csum with its seed, journal, dir_index, sparse superblock copies,
extra_isize, and room to grow online. Not made here: bigalloc, encryption, quota, external journals.
"""

from __future__ import annotations

from collections.abc import Iterator

from narvet.block.contract import BlockDevice, Extent
from narvet.filesystems.contract import Capacity, FilesystemFacts, Options, Usual
from narvet.filesystems.ext4 import geometry as _geometry
from narvet.filesystems.ext4.geometry import Geometry


class Ext4(Usual):
    """The filesystem behind `filesystem = "ext4"`."""

    name = "ext4"
    mount_type = "ext4"
    least = _geometry.LEAST
    most = _geometry.MOST
    label_limit = 16
    keys = frozenset({"block", "inode_each", "journal", "reserved"})

    def units(self, sector: int) -> tuple[int, ...]:
        """Return the block sizes, and the clusters that are made of 4 KiB blocks."""
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
        from narvet.filesystems.ext4.write import write

        write(device, geometry)

    def read(self, device: BlockDevice, where: str) -> FilesystemFacts | None:
        """Return what is found on a device that is not trusted."""
        from narvet.filesystems.ext4.read import read

        return read(device, where)

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield the free runs of the groups that have been written to."""
        from narvet.filesystems.ext4.maps import unused

        return unused(device)


FILESYSTEM = Ext4()
