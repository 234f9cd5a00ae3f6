"""A disk removed for good: first what mounts it, then its image, last its place in the sheet.

In this order an interruption leaves no entry whose disk is missing, and the sheet names the disk until all is done, so
that retiring it again finishes what is left.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from narvet.block.leases import lease
from narvet.block.locks import exclusive_lock
from narvet.block.names import working_name
from narvet.block.publish import recover, replace_content, withdraw
from narvet.errors import RequestError
from narvet.guests.roots import remove_entries
from narvet.images import image_format
from narvet.images.contract import ImageFormat
from narvet.layout.compare import is_ours
from narvet.layout.facts import Facts, MountEntry, RootFacts
from narvet.layout.letters import registry_values
from narvet.layout.model import LaidDisk, Layout
from narvet.layout.mounts import mounting
from narvet.sheet.read import text_of
from narvet.sheet.strike import without_disk
from narvet.units import show_binary
from narvet.work.children import children_of
from narvet.work.steps import Step, WriteRegistryText


@dataclass(frozen=True)
class RemoveEntries:
    """Remove a disk's entries from a guest's fstab."""

    guest: str
    root: str
    entries: tuple[MountEntry, ...]
    guest_may_run = False

    @property
    def touches(self) -> str:
        """The fstab."""
        return f"{self.root}/etc/fstab"

    @property
    def summary(self) -> str:
        """The entries in a few words."""
        return f"{len(self.entries)} {'entry' if len(self.entries) == 1 else 'entries'} removed"

    def apply(self) -> dict[str, object]:
        """Remove them, all at once."""
        gone = remove_entries(self.root, self.entries)
        return {"did": "entries removed", "guest": self.guest, "removed": [entry.file for entry in gone]}


@dataclass(frozen=True)
class RemoveImage:
    """Remove a disk's image with all of its parts."""

    disk: str
    path: Path
    kind: ImageFormat
    stored: int
    guest_may_run = False

    @property
    def touches(self) -> str:
        """The image."""
        return str(self.path)

    @property
    def summary(self) -> str:
        """The image in a few words."""
        return f"image removed, {show_binary(self.stored)} stored"

    def apply(self) -> dict[str, object]:
        """Take the image its name, then remove it with its parts: what an interruption leaves is no image any more."""
        path = self.path
        with exclusive_lock(path):
            recover(path)
            if path.exists():
                parts = self.kind.own_parts(path)
                with lease(path, *parts, change=True) as held:
                    withdraw(path, parts, held.check)
        return {"did": "image removed", "disk": self.disk, "stored": self.stored}


@dataclass(frozen=True)
class StrikeOut:
    """Take a disk out of the sheet."""

    disk: str
    sheet: Path
    guest_may_run = True
    summary = "taken out of the sheet"

    @property
    def touches(self) -> str:
        """The sheet."""
        return str(self.sheet)

    def apply(self) -> dict[str, object]:
        """Write the sheet without the disk, all at once."""
        replace_content(self.sheet, without_disk(text_of(self.sheet), self.disk, str(self.sheet)).encode())
        return {"did": "taken out of the sheet", "disk": self.disk}


def retirement(sheet: Path, name: str, layout: Layout, facts: Facts) -> tuple[Step, ...]:
    """Return the steps that remove a disk for good.

    Raises:
        RequestError: there is no such disk, or something needs it; a line for each.
    """
    disk = next((one for one in layout.disks if one.name == name), None)
    if disk is None:
        raise RequestError(f'{sheet}: there is no disk "{name}" in the sheet')
    path = Path(disk.path)
    needed = list(_needed_by(disk, path, layout, facts))
    if needed:
        raise RequestError("\n".join(f"{sheet}: disk {name} stays: {reason}" for reason in needed))
    without_disk(text_of(sheet), name, str(sheet))
    todo: list[Step] = []
    root = facts.roots.get(disk.guest, RootFacts())
    there = facts.registry.get(disk.guest)
    unread = there.problem if there else next((one.message for one in root.findings if one.level == "error"), "")
    if unread:
        raise RequestError(f"{sheet}: disk {name} stays, as what mounts it cannot be read: {unread}")
    # A copy or child carries the ids of its origin, whose entries are not its own.
    entries = mounting(disk, root.entries) if root.path and disk.origin is None else ()
    if root.path and entries:
        todo.append(RemoveEntries(disk.guest, root.path, entries))
    left = registry_values(one for one in layout.disks if one is not disk).get(disk.guest, ())
    if there and there.values and there.values != left:
        todo.append(WriteRegistryText(disk.guest, there.path, left))
    if name in facts.images or os.path.lexists(working_name(path)):
        stored = facts.images[name].allocated if name in facts.images else 0
        todo.append(RemoveImage(name, path, image_format(disk.format), stored))
    return (*todo, StrikeOut(name, sheet))


def _needed_by(disk: LaidDisk, path: Path, layout: Layout, facts: Facts) -> Iterator[str]:
    """Yield who needs a disk as it is, or why its image is not Narvet's to remove."""
    image = facts.images.get(disk.name)
    if image is not None and not is_ours(disk, facts.origins.get(disk.name), image):
        yield f"{path} was not made for it; move that away, and retire the disk again"
    for other in layout.disks:
        origin = facts.origins.get(other.name)
        if origin is not None and origin.disk == disk.name and other.state != "as asked":
            yield f"disk {other.name} is to be a {other.origin.how if other.origin else 'copy'} of it"
    laid = (part.geometry.options for part in disk.partitions if part.geometry is not None)
    mounted = {str(folder.volume) for options in laid for folder in options.folders}
    for other in layout.disks:
        for part in other.partitions:
            if other is not disk and part.volume in mounted:
                yield f"disk {other.name} is mounted in a folder of it, at {part.at}"
    folders = {Path(store.path) for store in layout.stores if Path(store.path).is_dir()}
    for child in children_of(path, sorted(folders)) if path.exists() else ():
        yield f"{child} is a child of its image; fold or recast that first"
