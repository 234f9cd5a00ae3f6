"""What an NTFS is made with."""

from __future__ import annotations

from uuid import UUID

from narvet.formats.filesystems.contract import Folder, OwnedOptions, owner_mount_options
from narvet.ground.units import KIB, MIB, TIB

LEAST = 8 * MIB
MOST = 64 * TIB - 64 * KIB


class NtfsOptions(OwnedOptions, kw_only=True):
    """Options of NTFS: rights of Windows accounts, and volumes mounted in its folders.

    Owner and mode go into the mount of a Linux guest, as NTFS keeps only the rights of Windows accounts.
    """

    unit: int | None = None
    owner_sid: str = ""
    access: tuple[tuple[str, str], ...] = ()
    folders: tuple[Folder, ...] = ()

    def mount_options(self) -> tuple[str, ...]:
        """Return the options that give the root, and all in it, the owner and mode asked for."""
        return (*super().mount_options(), *owner_mount_options(self, usual=0o777))


def native_id(uuid: UUID) -> str:
    """Return the serial number of 64 bits, the upper half of a UUID, in small letters."""
    return f"{uuid.int >> 64:016x}"
