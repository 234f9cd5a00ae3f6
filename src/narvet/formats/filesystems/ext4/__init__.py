"""ext4, as the Linux kernel documents it (Documentation/filesystems/ext4), from 2 MiB to 64 TiB.

Features: 64bit, extents, flex_bg, metadata_csum with its seed, journal, dir_index, sparse superblock copies,
extra_isize, bigalloc where units are larger than a block, and room to grow online. Not made here: encryption, quota,
external journals.
"""

from __future__ import annotations

from collections.abc import Iterator

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import FilesystemState, LinuxFilesystem
from narvet.formats.filesystems.ext4 import geometry, grow, shrink
from narvet.formats.filesystems.ext4.geometry import PlannedExt4
from narvet.formats.filesystems.ext4.grow import PlannedGrowth
from narvet.formats.filesystems.ext4.options import LEAST, MOST, Ext4Options
from narvet.formats.filesystems.ext4.shape import Shape
from narvet.formats.filesystems.ext4.shrink import PlannedShrinking
from narvet.formats.filesystems.trees import EditedTree, FileTree
from narvet.ground.extents import Extent
from narvet.ground.findings import Place


class NewExt4(PlannedExt4):
    """One that can be written; the writer is loaded when there is something to write."""

    def write(self, device: BlockDevice) -> None:
        """Write it to a device that reads as zeros."""
        from narvet.formats.filesystems.ext4.write import write

        write(device, self)


class Grown(PlannedGrowth):
    """One that is to be made larger; what does so is loaded when it is needed."""

    def write(self, device: BlockDevice) -> None:
        """Write it to a device that keeps back what lies before its old end."""
        from narvet.formats.filesystems.ext4.enlarge import enlarge

        enlarge(device, self)


class Shrunk(PlannedShrinking):
    """One that is to be made smaller; what does so is loaded when it is needed."""

    def write(self, device: BlockDevice) -> None:
        """Write it to a device that keeps everything back."""
        from narvet.formats.filesystems.ext4.shorten import shorten

        shorten(device, self)


class _Options(Ext4Options):
    """Its options, and what comes of them."""

    def plan(self, size: int) -> NewExt4:
        """Return one in `size` bytes; UnfitError if it cannot be made."""
        return geometry.plan(NewExt4, size, self)

    def unlike(self, planned: object, found: object) -> Iterator[tuple[str, str]]:
        """Yield the keys that a filesystem made otherwise does not follow."""
        if isinstance(planned, Shape) and isinstance(found, Shape):
            yield from super().unlike(planned, found)
            yield from grow.unlike(self, planned, found)

    def breakpoints(self) -> tuple[int, ...]:
        """Return the sizes at which its rules change."""
        return geometry.breakpoints(self)


class Ext4(LinuxFilesystem):
    """The filesystem behind `filesystem = "ext4"`."""

    name = "ext4"
    options = _Options
    mount_type = "ext4"
    least = LEAST
    most = MOST
    label_limit = 16

    def units(self, sector_size: int) -> tuple[int, ...]:
        """Return the allocation units that can be chosen: none below a sector."""
        return tuple(unit for unit in geometry.UNITS if unit >= sector_size)

    def read(self, device: BlockDevice, where: Place, *, deep: bool = True) -> FilesystemState | None:
        """Return what is found on a device that is not trusted."""
        from narvet.formats.filesystems.ext4.read import read

        return read(device, where, deep=deep)

    def correct(self, device: BlockDevice, wanted: FilesystemState) -> None:
        """Write label, owner and mode where they differ."""
        from narvet.formats.filesystems.ext4.correct import correct

        correct(device, wanted)

    def grown(self, state: FilesystemState, size: int) -> Grown:
        """Return it made larger; CannotChangeError where it cannot be."""
        return grow.grown(Grown, state, size)

    def grow_mounted(self, at: str, size: int) -> None:
        """Have the kernel make a mounted one larger."""
        from narvet.formats.filesystems.ext4.mounted import grow_mounted

        grow_mounted(at, size)

    def tree(self, device: BlockDevice) -> FileTree:
        """Return its files."""
        from narvet.formats.filesystems.ext4.files import files_of

        return files_of(device)

    def edited(self, device: BlockDevice, moment: int) -> EditedTree:
        """Return its files to be changed; CannotChangeError where they cannot be."""
        from narvet.formats.filesystems.ext4.edit import edited

        return edited(device, moment)

    def reached(self, device: BlockDevice, state: FilesystemState) -> FilesystemState:
        """Return its state with how far what it keeps reaches."""
        from narvet.formats.filesystems.ext4.reach import reached

        return reached(device, state)

    def shrunk(self, state: FilesystemState, size: int, *, moving: bool = False) -> Shrunk:
        """Return it made smaller; CannotChangeError where it cannot be."""
        return shrink.shrunk(Shrunk, state, size, moving=moving)

    unread = ("inode tables", "kept for the superuser", "held back by the kernel")

    def relied_on(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield the runs that a guest reads: not those of inodes that were never used, where it makes them zeros."""
        from narvet.formats.filesystems.ext4.maps import relied_on

        return relied_on(device)

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield runs that a sound filesystem keeps nothing in."""
        from narvet.formats.filesystems.ext4.maps import unused

        return unused(device)


FILESYSTEM = Ext4()
