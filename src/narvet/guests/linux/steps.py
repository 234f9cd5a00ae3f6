"""What is done in a Linux guest's root: mount points made, entries added to its fstab and removed from it."""

from __future__ import annotations

from dataclasses import dataclass

from narvet.ground.units import counted
from narvet.guests.linux.root import FSTAB, add_entries, make_mount_point, remove_entries
from narvet.model.estate import MountEntry, MountPoint


@dataclass(frozen=True)
class MakeMountPoint:
    """Make a mount point in a guest's root, or give it owner and mode."""

    guest: str
    root: str
    at: str
    wanted: MountPoint
    owner_can_be_set: bool = True
    guest_may_run = True
    comes_last = False

    @property
    def summary(self) -> str:
        """The folder in a few words."""
        if not self.owner_can_be_set:
            return "mount point; only the superuser can give it its owner"
        return f"mount point, {self.wanted.uid}:{self.wanted.gid} {self.wanted.mode:04o}"

    @property
    def touches(self) -> str:
        """The folder in the root."""
        return f"{self.root}{self.at}"

    def apply(self) -> dict[str, object]:
        """Make the folder, or correct its owner and mode."""
        make_mount_point(self.root, self.at, *self.wanted.ownership)
        return {"did": "mount point", "guest": self.guest, "at": self.at}


@dataclass(frozen=True)
class _FstabStep:
    """A change of a guest's fstab. A guest that runs may be writing to it too."""

    guest: str
    root: str
    entries: tuple[MountEntry, ...]
    guest_may_run = False
    comes_last = True

    @property
    def touches(self) -> str:
        """The fstab."""
        return f"{self.root}/{FSTAB}"


class AddEntries(_FstabStep):
    """Add the missing entries to a guest's fstab."""

    @property
    def summary(self) -> str:
        """The entries in a few words."""
        return f"{counted(len(self.entries), 'entry', 'entries')} added"

    def apply(self) -> dict[str, object]:
        """Add them, all at once."""
        added = add_entries(self.root, self.entries)
        return {"did": "entries", "guest": self.guest, "added": [entry.file for entry in added]}


class RemoveEntries(_FstabStep):
    """Remove the entries of a disk from a guest's fstab."""

    @property
    def summary(self) -> str:
        """The entries in a few words."""
        return f"{counted(len(self.entries), 'entry', 'entries')} removed"

    def apply(self) -> dict[str, object]:
        """Remove them, all at once."""
        gone = remove_entries(self.root, self.entries)
        return {"did": "entries removed", "guest": self.guest, "removed": [entry.file for entry in gone]}
