"""What is done in a Linux guest's root: mount points made, entries added to its fstab and removed from it."""

from __future__ import annotations

from narvet.formats.filesystems.trees import Owner
from narvet.formats.seals.keyring import keyring
from narvet.ground.errors import RefusedError
from narvet.ground.units import counted
from narvet.ground.values import Frozen
from narvet.guests.linux.crypttab import Unlocks, crypttab_line
from narvet.guests.linux.fstab import fstab_line
from narvet.guests.linux.root import (
    CRYPTTAB,
    FSTAB,
    change_entries,
    change_unlocks,
    make_mount_point,
    place_key,
    remove_entries,
    remove_key,
    remove_mount_point,
)
from narvet.model.estate import MountEntry, MountPoint, Root
from narvet.model.moves import Lies


class MakeMountPoint(Frozen):
    """Make a mount point in a guest's root, or give it owner and mode."""

    guest: str
    root: Root
    at: str
    wanted: MountPoint
    owner_can_be_set: bool = True
    is_change: bool = False
    guest_may_run = True
    is_brief = True
    comes_last = False
    lies_in = Lies.ROOT

    @property
    def summary(self) -> str:
        """The folder in a few words."""
        if not self.owner_can_be_set:
            return "mount point; only the superuser can give it its owner"
        return f"mount point, {self.wanted.uid}:{self.wanted.gid} {self.wanted.mode:04o}"

    @property
    def touches(self) -> str:
        """The folder in the root."""
        return self.root.shown(self.at)

    def apply(self) -> dict[str, object]:
        """Make the folder, or correct its owner and mode."""
        make_mount_point(self.root, self.at, Owner(*self.wanted.ownership))
        return {"did": "mount point", "guest": self.guest, "at": self.at}


class _FstabStep(Frozen):
    """A change of a guest's fstab. A guest that runs may be writing to it too."""

    guest: str
    root: Root
    entries: tuple[MountEntry, ...]
    guest_may_run = False
    is_brief = True
    comes_last = True
    lies_in = Lies.ROOT

    @property
    def touches(self) -> str:
        """The fstab."""
        return self.root.shown(FSTAB)


class ChangeEntries(_FstabStep):
    """Add the missing entries to a guest's fstab, change Narvet's own, and remove those that nothing asks for."""

    changed: tuple[tuple[MountEntry, MountEntry], ...] = ()
    surplus: tuple[MountEntry, ...] = ()

    @property
    def is_change(self) -> bool:
        """Whether entries that are there change or go."""
        return bool(self.changed or self.surplus)

    @property
    def summary(self) -> str:
        """The entries in a few words."""
        counts = ((len(self.entries), "added"), (len(self.changed), "changed"), (len(self.surplus), "removed"))
        told = [(count, what) for count, what in counts if count]
        first = f"{counted(told[0][0], 'entry', 'entries')} {told[0][1]}"
        return ", ".join([first, *(f"{count} {what}" for count, what in told[1:])])

    def apply(self) -> dict[str, object]:
        """Change them, all at once."""
        written = change_entries(self.root, self.entries, self.changed, self.surplus)
        return {
            "did": "entries",
            "guest": self.guest,
            "lines": [fstab_line(entry) for entry in written],
            "removed": [fstab_line(entry) for entry in self.surplus],
            **self.root.recorded("linux"),
        }


class RemoveMountPoint(Frozen):
    """Remove the folder that a disk was mounted in, if nothing is in it."""

    guest: str
    root: Root
    at: str
    guest_may_run = False
    is_change = True
    comes_last = False
    lies_in = Lies.ROOT
    summary = "mount point no longer used"

    @property
    def touches(self) -> str:
        """The folder in the root."""
        return self.root.shown(self.at)

    def apply(self) -> dict[str, object]:
        """Remove it; what is not empty stays."""
        gone = remove_mount_point(self.root, self.at)
        return {"did": "mount point removed" if gone else "mount point kept", "guest": self.guest, "at": self.at}


class ChangeUnlocks(Frozen):
    """Add lines to a guest's crypttab, change Narvet's own, and remove those that nothing asks for."""

    guest: str
    root: Root
    becomes: Unlocks
    guest_may_run = False
    comes_last = True
    lies_in = Lies.ROOT

    @property
    def touches(self) -> str:
        """The crypttab."""
        return self.root.shown(CRYPTTAB)

    @property
    def is_change(self) -> bool:
        """Whether lines that are there change or go."""
        return bool(self.becomes.changed or self.becomes.surplus)

    @property
    def summary(self) -> str:
        """The lines in a few words."""
        becomes = self.becomes
        counts = ((becomes.missing, "added"), (becomes.changed, "changed"), (becomes.surplus, "removed"))
        return ", ".join(f"{counted(len(own), 'line')} {what}" for own, what in counts if own)

    def apply(self) -> dict[str, object]:
        """Change them, all at once."""
        change_unlocks(self.root, self.becomes)
        new = (*self.becomes.missing, *(one for one, _ in self.becomes.changed))
        return {
            "did": "unlocks",
            "guest": self.guest,
            "lines": [crypttab_line(one) for one in new],
            "removed": [crypttab_line(one) for one in self.becomes.surplus],
            **self.root.recorded("linux"),
        }


class _KeyFileStep(Frozen):
    """A change of a key file in a guest's root."""

    guest: str
    root: Root
    at: str
    guest_may_run = False
    comes_last = True
    lies_in = Lies.ROOT

    @property
    def touches(self) -> str:
        """The file in the root."""
        return self.root.shown(self.at)


class PlaceKey(_KeyFileStep):
    """Put the key file of a sealed volume into a guest's root, once the volume is there."""

    uuid: str
    owner_can_be_set: bool = True
    needs_keys = True
    is_change = False

    @property
    def summary(self) -> str:
        """The file in a few words."""
        if not self.owner_can_be_set:
            return "key file, 0600; only the superuser can give it to the guest's"
        return "key file, 0:0 0600"

    def apply(self) -> dict[str, object]:
        """Write it; what it holds is told to nobody."""
        content = keyring().file(self.uuid)
        if content is None:
            raise RefusedError(f"{self.touches}: no passphrase that was given opens the volume that it is for")
        place_key(self.root, self.at, content)
        return {"did": "key file", "guest": self.guest, "at": self.at}


class RemoveKey(_KeyFileStep):
    """Remove a key file that opens nothing any more."""

    is_change = True
    summary = "key file no longer used"

    def apply(self) -> dict[str, object]:
        """Remove it."""
        remove_key(self.root, self.at)
        return {"did": "key file removed", "guest": self.guest, "at": self.at}


class RemoveEntries(_FstabStep):
    """Remove the entries of a disk from a guest's fstab."""

    is_change = True

    @property
    def summary(self) -> str:
        """The entries in a few words."""
        return f"{counted(len(self.entries), 'entry', 'entries')} removed"

    def apply(self) -> dict[str, object]:
        """Remove them, all at once."""
        gone = remove_entries(self.root, self.entries)
        return {"did": "entries removed", "guest": self.guest, "removed": [entry.file for entry in gone]}
