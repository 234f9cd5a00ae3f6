"""NTFS, version 3.1, by the published documentation of its on-disk structures.

Written: all files that describe a volume, access rights included. Not made here: compression, encryption, journals of
changes; these are the guest's.
"""

from __future__ import annotations

from collections.abc import Iterator
from uuid import UUID

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import FilesystemState, ForWindows
from narvet.formats.filesystems.ntfs import geometry, grow, shrink
from narvet.formats.filesystems.ntfs.geometry import PlannedNtfs
from narvet.formats.filesystems.ntfs.grow import PlannedGrowth
from narvet.formats.filesystems.ntfs.options import LEAST, MOST, NtfsOptions, native_id
from narvet.formats.filesystems.ntfs.shrink import PlannedShrinking
from narvet.formats.filesystems.trees import EditedTree, FileTree
from narvet.ground.extents import Extent
from narvet.ground.findings import Place


class NewNtfs(PlannedNtfs):
    """One that can be written; the writer is loaded when there is something to write."""

    def write(self, device: BlockDevice) -> None:
        """Write it to a device that reads as zeros."""
        from narvet.formats.filesystems.ntfs.write import write

        write(device, self)


class Grown(PlannedGrowth):
    """One that is to be made larger; what does so is loaded when it is needed."""

    def write(self, device: BlockDevice) -> None:
        """Write it to a device that keeps back what lies before its old end."""
        from narvet.formats.filesystems.ntfs.enlarge import enlarge

        enlarge(device, self)


class Shrunk(PlannedShrinking):
    """One that is to be made smaller; what does so is loaded when it is needed."""

    def write(self, device: BlockDevice) -> None:
        """Write it to a device that keeps everything back."""
        from narvet.formats.filesystems.ntfs.shorten import shorten

        shorten(device, self)


class _Options(NtfsOptions):
    """Its options, and what comes of them."""

    def plan(self, size: int) -> NewNtfs:
        """Return one in `size` bytes; UnfitError if it cannot be made."""
        return geometry.plan(NewNtfs, size, self)

    def breakpoints(self) -> tuple[int, ...]:
        """Return the sizes at which its rules change."""
        return geometry.breakpoints(self)


class Ntfs(ForWindows):
    """The filesystem behind `filesystem = "ntfs"`."""

    name = "ntfs"
    options = _Options
    mount_type = "ntfs3"
    least = LEAST
    most = MOST
    label_limit = 32
    keeps_rights = True
    holds_mounts = True

    def native_id(self, uuid: UUID) -> str:
        """Return the serial number of 64 bits."""
        return native_id(uuid)

    def label_length(self, label: str) -> int:
        """Return the UTF-16 units of a label."""
        return len(label.encode("utf-16-le")) // 2

    def units(self, sector_size: int) -> tuple[int, ...]:
        """Return the allocation units that can be chosen: none below a sector."""
        return tuple(unit for unit in geometry.UNITS if unit >= sector_size)

    def read(self, device: BlockDevice, where: Place, *, deep: bool = True) -> FilesystemState | None:
        """Return what is found on a device that is not trusted."""
        from narvet.formats.filesystems.ntfs.read import read

        return read(device, where, deep=deep)

    def correct(self, device: BlockDevice, wanted: FilesystemState) -> None:
        """Write label, owner and mode where they differ."""
        from narvet.formats.filesystems.ntfs.correct import correct

        correct(device, wanted)

    def grown(self, state: FilesystemState, size: int) -> Grown:
        """Return it made larger; CannotChangeError where it cannot be."""
        return grow.grown(Grown, state, size)

    def reached(self, device: BlockDevice, state: FilesystemState) -> FilesystemState:
        """Return its state with how far what it keeps reaches."""
        from narvet.formats.filesystems.ntfs.shorten import reached

        return reached(device, state)

    def shrunk(self, state: FilesystemState, size: int, *, moving: bool = False) -> Shrunk:
        """Return it made smaller; CannotChangeError where it cannot be."""
        return shrink.shrunk(Shrunk, state, size, moving=moving)

    def tree(self, device: BlockDevice) -> FileTree:
        """Return its files."""
        from narvet.formats.filesystems.ntfs.tree import files_of

        return files_of(device)

    def edited(self, device: BlockDevice, moment: int) -> EditedTree:
        """Return its files to be changed; CannotChangeError where they cannot be."""
        from narvet.formats.filesystems.ntfs.change import edited

        return edited(device, moment)

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield runs that a sound filesystem keeps nothing in."""
        from narvet.formats.filesystems.ntfs.maps import unused

        return unused(device)


FILESYSTEM = Ntfs()
