"""The steps a layout asks for. Each names what it touches, whether the guest may run, and is done at most once.

The order matters: images first and entries last, so that an interruption never leaves an entry whose disk is missing.
Every step is whole or not there at all, so resuming means working the steps out again: what is done drops out.
"""

from __future__ import annotations

import os
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Protocol

from narvet.block.contract import BlockDevice
from narvet.block.leases import lease
from narvet.block.window import Window
from narvet.filesystems import filesystem
from narvet.guests.registry import write_registry
from narvet.guests.roots import add_entries, make_mount_point
from narvet.images import image_format
from narvet.images.chain import chain
from narvet.images.trust import NOTHING_SAID, Trust
from narvet.layout.compare import point_as_asked
from narvet.layout.facts import Facts, MountEntry, MountPointFacts, RegistryValue
from narvet.layout.model import LaidDisk, LaidPartition, Layout
from narvet.layout.mounts import missing_entries
from narvet.tables import table_format
from narvet.tables.contract import Partition, Table
from narvet.units import show_both
from narvet.work.making import new_image
from narvet.work.recast import recast, source_of


class Step(Protocol):
    """One piece of work."""

    @property
    def touches(self) -> str:
        """The path that changes."""

    @property
    def summary(self) -> str:
        """What is done there, in a few words."""

    @property
    def guest_may_run(self) -> bool:
        """Whether the guest may run meanwhile."""

    def apply(self) -> dict[str, object]:
        """Do it; return what the ledger keeps of it. Left undone if it raises."""


@dataclass(frozen=True)
class MakeImage:
    """Write a disk's image under a temporary name and give it its own when it is complete."""

    disk: LaidDisk
    trust: Trust = NOTHING_SAID
    guest_may_run = True

    @property
    def summary(self) -> str:
        """The image in a few words."""
        origin = f", a {self.disk.origin.how} of {self.disk.origin.path}" if self.disk.origin else ""
        return f"{show_both(self.disk.size)}, {self.disk.format}, {self.disk.space}{origin}"

    @property
    def touches(self) -> str:
        """The image."""
        return self.disk.path

    def apply(self) -> dict[str, object]:
        """Write the image; whatever stops it, nothing is left under either name but by a power cut."""
        kind, origin = image_format(self.disk.format), self.disk.origin
        source = Path(origin.path) if origin is not None else None
        with new_image(Path(self.disk.path), kind, like=source) as built:
            if source is not None and origin is not None and origin.how == "copy":
                trust = replace(self.trust, bases=self.trust.bases | {str(source)})
                recast(source_of(source, trust, self.disk.sector), built, kind, self.disk.making)
            else:
                files = self._base_files(source)
                with lease(*files, change=False) as held, kind.create(built, self.disk.making) as device:
                    self._fill(device)
                    held.check()
        return {"did": "image", "disk": self.disk.name, "size": self.disk.size, "id": self.disk.table_id}

    def _base_files(self, base: Path | None) -> list[Path]:
        """Return the files that a child's bases are kept in."""
        links = chain(base, self.trust) if base is not None else []
        return [file for link in links for file in (link.path, *link.kind.parts(link.path))]

    def _fill(self, device: BlockDevice) -> None:
        if self.disk.origin is not None:
            return
        if self.disk.table != "none":
            table_format(self.disk.table).write(device, _table(self.disk))
        for part in self.disk.partitions:
            if part.filesystem and part.geometry:
                filesystem(part.filesystem).write(Window(device, part.start, part.size), part.geometry)


def _table(disk: LaidDisk) -> Table:
    parts = (
        Partition(part.number, part.start, part.size, part.type, part.id, part.label, part.attributes)
        for part in disk.partitions
    )
    return Table(disk.table, disk.table_id or "", tuple(parts))


@dataclass(frozen=True)
class MakeMountPoint:
    """Make a mount point in a guest's root."""

    guest: str
    root: str
    part: LaidPartition
    owner_can_be_set: bool = True
    guest_may_run = True

    @property
    def summary(self) -> str:
        """The folder in a few words."""
        if not self.owner_can_be_set:
            return "mount point; only the superuser can give it its owner"
        return f"mount point, {self.part.owner} {self.part.mode:04o}"

    @property
    def touches(self) -> str:
        """The folder in the root."""
        return f"{self.root}{self.part.at}"

    def apply(self) -> dict[str, object]:
        """Make the folder, or correct its owner and mode."""
        make_mount_point(self.root, self.part.at or "", self.part.uid, self.part.gid, self.part.mode)
        return {"did": "mount point", "guest": self.guest, "at": self.part.at}


@dataclass(frozen=True)
class AddEntries:
    """Add the missing entries to a guest's fstab."""

    guest: str
    root: str
    entries: tuple[MountEntry, ...]
    guest_may_run = False

    @property
    def summary(self) -> str:
        """The entries in a few words."""
        return f"{len(self.entries)} {'entry' if len(self.entries) == 1 else 'entries'} added"

    @property
    def touches(self) -> str:
        """The fstab."""
        return f"{self.root}/etc/fstab"

    def apply(self) -> dict[str, object]:
        """Add them, all at once."""
        added = add_entries(self.root, self.entries)
        return {"did": "entries", "guest": self.guest, "added": [entry.file for entry in added]}


@dataclass(frozen=True)
class WriteRegistryText:
    """Write the text that brings a Windows guest its entries; the guest imports it."""

    guest: str
    touches: str
    values: tuple[RegistryValue, ...]
    guest_may_run = True

    @property
    def summary(self) -> str:
        """The text in a few words."""
        return f"registry text for {self.guest}, {len(self.values)} values"

    def apply(self) -> dict[str, object]:
        """Put it in place, all at once."""
        write_registry(Path(self.touches), self.values)
        return {"did": "registry text", "guest": self.guest, "values": [value.name for value in self.values]}


def steps(layout: Layout, facts: Facts) -> tuple[Step, ...]:
    """Return what is left to do for a layout, in order."""
    trust = _trust(layout)
    images: list[Step] = [MakeImage(disk, trust) for disk in layout.disks if disk.state == "to make"]
    folders: list[Step] = []
    lines: list[Step] = []
    for disk in layout.disks:
        root = facts.roots.get(disk.guest)
        if root is None or root.path is None or disk.runs == "windows":
            continue
        for part in disk.partitions:
            if part.at and _is_to_be_made(part, root.mount_points[part.at]):
                can_own = root.mount_points[part.at].owner_can_be_set
                folders.append(MakeMountPoint(disk.guest, root.path, part, can_own))
    for guest, wanted in layout.entries.items():
        root = facts.roots.get(guest)
        missing = missing_entries(wanted, root.entries) if root and root.path else ()
        if root and root.path and missing:
            lines.append(AddEntries(guest, root.path, missing))
    texts = [
        WriteRegistryText(guest, facts.registry[guest].path, values)
        for guest, values in layout.registry.items()
        if facts.registry[guest].values != values
    ]
    return (*images, *folders, *lines, *texts)


def _is_to_be_made(part: LaidPartition, there: MountPointFacts) -> bool:
    """Return whether a mount point is missing, or is an empty folder with another owner or mode that can be changed."""
    return not there.exists or (there.empty and there.owner_can_be_set and not point_as_asked(part, there))


def _trust(layout: Layout) -> Trust:
    """Return what a layout says of its images: their formats, and that they and their origins may be bases."""
    formats = {os.path.realpath(disk.path): disk.format for disk in layout.disks}
    origins = {os.path.realpath(disk.origin.path) for disk in layout.disks if disk.origin}
    return Trust(formats, frozenset({*formats, *origins}))
