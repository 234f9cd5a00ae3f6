"""What is done for a Windows guest: the registry text that brings it its entries, which it imports itself."""

from __future__ import annotations

from pathlib import Path
from uuid import UUID

from narvet.block.names import sync_folder
from narvet.ground.units import counted
from narvet.ground.values import Frozen
from narvet.guests.windows.registry import write_registry
from narvet.guests.windows.root import SYSTEM_HIVE, change_registry, mount_folder, unmount_folder
from narvet.model.estate import RegistryValue, Root
from narvet.model.moves import Lies


class WriteRegistryText(Frozen):
    """Write the text that brings a Windows guest its entries; the guest may run, as it imports the text later."""

    guest: str
    touches: str
    values: tuple[RegistryValue, ...]
    is_change: bool = False
    online: bool = False
    guest_may_run = True
    comes_last = True
    lies_in = Lies.SHEET

    @property
    def summary(self) -> str:
        """The text in a few words."""
        return f"registry text for {self.guest}, {counted(len(self.values), 'value')}"

    def apply(self) -> dict[str, object]:
        """Put it in place, all at once."""
        write_registry(Path(self.touches), self.values, online=self.online)
        return {"did": "registry text", "guest": self.guest, "values": [value.name for value in self.values]}


class ChangeRegistry(Frozen):
    """Change the registry of a Windows guest in its root: values that tie letters and volumes to disks.

    Values without data are taken out. With `online` the guest no longer holds new disks offline.
    """

    guest: str
    root: Root
    values: tuple[RegistryValue, ...]
    online: bool = False
    is_change: bool = False
    guest_may_run = False
    comes_last = True
    lies_in = Lies.ROOT

    @property
    def touches(self) -> str:
        """The hive."""
        return self.root.shown(SYSTEM_HIVE)

    @property
    def summary(self) -> str:
        """The change in a few words."""
        put, gone = (sum(bool(one.data) is has for one in self.values) for has in (True, False))
        words = [f"{counted(put, 'value')} of the registry" if put else "", f"{gone} removed" if gone else ""]
        words.append("new disks online" if self.online else "")
        return ", ".join(word for word in words if word)

    def apply(self) -> dict[str, object]:
        """Change them, all at once."""
        done = change_registry(self.root, self.values, online=self.online)
        row: dict[str, object] = {"did": "registry", "guest": self.guest, "values": list(done)}
        return {**row, **self.root.recorded("windows")}


class MountFolder(Frozen):
    """Mount a volume in a folder of a Windows guest's own system volume, or take it out of there."""

    guest: str
    root: Root
    at: str
    volume: str
    removes: bool = False
    guest_may_run = False
    comes_last = False
    lies_in = Lies.ROOT

    @property
    def is_change(self) -> bool:
        """Whether a folder that is there goes."""
        return self.removes

    @property
    def summary(self) -> str:
        """The folder in a few words."""
        return "mount point no longer used" if self.removes else f"mount point of the volume {self.volume}"

    @property
    def touches(self) -> str:
        """The folder in the root."""
        return self.root.shown(self.at[2:].replace("\\", "/"))

    def apply(self) -> dict[str, object]:
        """Mount it, or remove the folder if it leads to that volume still."""
        if self.removes:
            gone = unmount_folder(self.root, self.at, UUID(self.volume))
            return {"did": "mount point removed" if gone else "mount point kept", "guest": self.guest, "at": self.at}
        mount_folder(self.root, self.at, UUID(self.volume))
        return {"did": "mount point", "guest": self.guest, "at": self.at}


class RemoveRegistryText(Frozen):
    """Remove a registry text of Narvet's whose values are in the guest's registry itself now."""

    guest: str
    touches: str
    guest_may_run = True
    is_change = True
    comes_last = True
    lies_in = Lies.SHEET
    summary = "registry text no longer used"

    def apply(self) -> dict[str, object]:
        """Remove it."""
        path = Path(self.touches)
        path.unlink(missing_ok=True)
        sync_folder(path.parent)
        return {"did": "registry text removed", "guest": self.guest}
