"""XFS version 5, by the XFS Algorithms and Data Structures document and as the Linux kernel reads it.

Features: checksums, free-inode tree, inode tree counters, sparse inodes, big timestamps, file types in folders; from
300 MiB on also reverse mapping and reference counts. Not made here: real-time devices, external logs, quota.
"""

from __future__ import annotations

from collections.abc import Iterator

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import NEVER_CHECKED, FilesystemState, LinuxFilesystem
from narvet.formats.filesystems.trees import EditedTree, FileTree
from narvet.formats.filesystems.xfs import geometry, grow
from narvet.formats.filesystems.xfs.geometry import PlannedXfs
from narvet.formats.filesystems.xfs.grow import PlannedGrowth
from narvet.formats.filesystems.xfs.options import LEAST, MOST, XfsOptions
from narvet.formats.filesystems.xfs.shape import Shape
from narvet.ground.extents import Extent
from narvet.ground.findings import Place
from narvet.ground.units import show_both


class NewXfs(PlannedXfs):
    """One that can be written; the writer is loaded when there is something to write."""

    def write(self, device: BlockDevice) -> None:
        """Write it to a device that reads as zeros."""
        from narvet.formats.filesystems.xfs.write import write

        write(device, self)


class Grown(PlannedGrowth):
    """One that is to be made larger; what does so is loaded when it is needed."""

    def write(self, device: BlockDevice) -> None:
        """Write it to a device that keeps back what lies before its old end."""
        from narvet.formats.filesystems.xfs.enlarge import enlarge

        enlarge(device, self)


class _Options(XfsOptions):
    """Its options, and what comes of them."""

    def plan(self, size: int) -> NewXfs:
        """Return one in `size` bytes; UnfitError if it cannot be made."""
        return geometry.plan(NewXfs, size, self)

    def unlike(self, planned: object, found: object) -> Iterator[tuple[str, str]]:
        """Yield the keys that a filesystem made otherwise does not follow."""
        if isinstance(planned, Shape) and isinstance(found, Shape):
            yield from super().unlike(planned, found)
            if self.journal is not None and self.journal // found.block_size != found.log_blocks:
                yield "journal", f"its log has {show_both(found.log_blocks * found.block_size)}"

    def breakpoints(self) -> tuple[int, ...]:
        """Return the sizes at which its rules change."""
        return geometry.breakpoints(self)


class Xfs(LinuxFilesystem):
    """The filesystem behind `filesystem = "xfs"`."""

    name = "xfs"
    options = _Options
    mount_type = "xfs"
    least = LEAST
    most = MOST
    label_limit = 12
    check_pass = NEVER_CHECKED  # its log is replayed by the mount itself

    def units(self, sector_size: int) -> tuple[int, ...]:
        """Return the allocation units that can be chosen: none below a sector."""
        return tuple(unit for unit in geometry.UNITS if unit >= sector_size)

    def read(self, device: BlockDevice, where: Place, *, deep: bool = True) -> FilesystemState | None:
        """Return what is found on a device that is not trusted."""
        from narvet.formats.filesystems.xfs.read import read

        return read(device, where, deep=deep)

    def correct(self, device: BlockDevice, wanted: FilesystemState) -> None:
        """Write label, owner and mode where they differ."""
        from narvet.formats.filesystems.xfs.correct import correct

        correct(device, wanted)

    def grown(self, state: FilesystemState, size: int) -> Grown:
        """Return it made larger; CannotChangeError where it cannot be."""
        return grow.grown(Grown, state, size)

    def grow_mounted(self, at: str, size: int) -> None:
        """Have the kernel make a mounted one larger."""
        from narvet.formats.filesystems.xfs.mounted import grow_mounted

        grow_mounted(at, size)

    def tree(self, device: BlockDevice) -> FileTree:
        """Return its files."""
        from narvet.formats.filesystems.xfs.files import files_of

        return files_of(device)

    def edited(self, device: BlockDevice, moment: int) -> EditedTree:
        """Return its files to be changed; CannotChangeError where they cannot be."""
        from narvet.formats.filesystems.xfs.edit import edited

        return edited(device, moment)

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield runs that a sound filesystem keeps nothing in."""
        from narvet.formats.filesystems.xfs.read import unused

        return unused(device)


FILESYSTEM = Xfs()
