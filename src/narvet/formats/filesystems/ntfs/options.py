"""What an NTFS is made with."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING
from uuid import UUID

from narvet.formats.filesystems.contract import Folder, OwnedOptions, owner_mount_options
from narvet.ground.units import KIB, MIB, TIB

if TYPE_CHECKING:
    from narvet.formats.filesystems.ntfs.geometry import NewNtfs

LEAST = 8 * MIB
MOST = 64 * TIB - 64 * KIB


@dataclass(frozen=True, kw_only=True)
class NtfsOptions(OwnedOptions):
    """Options of NTFS: rights of Windows accounts, and volumes mounted in its folders.

    Owner and mode go into the mount of a Linux guest, as NTFS keeps only the rights of Windows accounts.
    """

    unit: int | None = None
    owner_sid: str = ""
    access: tuple[tuple[str, str], ...] = ()
    folders: tuple[Folder, ...] = ()

    def plan(self, size: int) -> NewNtfs:
        """Return an NTFS to be made in `size` bytes; UnfitError if it cannot be."""
        from narvet.formats.filesystems.ntfs import geometry

        return geometry.plan(size, self)

    def breakpoints(self) -> tuple[int, ...]:
        """Return the sizes at which its rules change."""
        from narvet.formats.filesystems.ntfs import geometry

        return geometry.breakpoints(self)

    def mount_options(self) -> tuple[str, ...]:
        """Return the options that give the root, and all in it, the owner and mode asked for."""
        return (*super().mount_options(), *owner_mount_options(self, usual=0o777))


def native_id(uuid: UUID) -> str:
    """Return the serial number of 64 bits, the upper half of a UUID, in small letters."""
    return f"{uuid.int >> 64:016x}"
