"""A disk removed for good: first what mounts it, then its image, last its place in the sheet.

In this order an interruption leaves no entry whose disk is missing, and the sheet names the disk until all is done, so
that retiring it again finishes what is left.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

from narvet.apply.execute import carry_out, claiming, clear_stores, sheet_lock
from narvet.apply.places import places_of
from narvet.apply.pool import ChangePool
from narvet.apply.steps import Trusted
from narvet.block.files import Folder
from narvet.block.leases import lease
from narvet.block.locks import exclusive_lock
from narvet.block.names import working_name
from narvet.block.publish import recover, replace_content, withdraw
from narvet.fleet.engine import all_of
from narvet.fleet.standing import stay_inside
from narvet.fleet.wire import runs_elsewhere
from narvet.formats.images import image_format
from narvet.formats.images.chain import own_parts_of
from narvet.formats.images.children import children_of
from narvet.formats.images.contract import ImageSpec, IsOrdered
from narvet.formats.pools.tree import numbered, without_volume
from narvet.ground.errors import RequestError
from narvet.ground.findings import pool_place
from narvet.ground.offers import offers
from narvet.ground.rules import images
from narvet.ground.units import show_binary
from narvet.ground.values import Frozen, replace
from narvet.guests import guest_system
from narvet.model.estate import Disk, Guest
from narvet.model.layout import Layout, PlannedDisk
from narvet.model.moves import Lies, Step
from narvet.model.plugs import Plug
from narvet.model.pools import PlannedPool
from narvet.plan.diff import is_ours
from narvet.sheet.files import sheet_files, text_of
from narvet.sheet.read import read_sheet
from narvet.sheet.remove_disk import without_disk, without_volume_of
from narvet.usecases.layout import WorkedOut, check_names, work_out

Agree = Callable[[tuple[Step, ...]], bool]


class RemoveImage(Frozen):
    """Remove a disk's image with all of its parts."""

    disk: str
    guest: str
    path: Path
    format: str
    stored: int
    guest_may_run = False
    is_change = True
    comes_last = False
    lies_in = Lies.STORE

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
        path, kind = self.path, image_format(self.format)
        with exclusive_lock(path):
            recover(path)
            if path.exists():
                parts = own_parts_of(kind, path)
                with lease(path, *parts, change=True) as held:
                    if offers(kind, IsOrdered):
                        with Folder(path.parent) as files:
                            kind.give_back(files, path.name)
                    withdraw(path, parts, held.check)
        return {"did": "image removed", "disk": self.disk, "stored": self.stored}


class TakeOutOfSheet(Frozen):
    """Take a disk out of the sheet."""

    disk: str
    guest: str
    sheet: Path
    guest_may_run = True
    is_change = True
    comes_last = True
    lies_in = Lies.SHEET
    summary = "taken out of the sheet"

    @property
    def touches(self) -> str:
        """The sheet."""
        return str(self.sheet)

    def apply(self) -> dict[str, object]:
        """Write the sheet without the disk, all at once."""
        replace_content(self.sheet, without_disk(text_of(self.sheet), self.disk, str(self.sheet)).encode())
        return {"did": "taken out of the sheet", "disk": self.disk}


class TakeVolumeOut(Frozen):
    """Take a volume of a pool out of the sheet."""

    pool: str
    volume: str
    guest: str
    sheet: Path
    guest_may_run = True
    is_change = True
    comes_last = True
    lies_in = Lies.SHEET
    summary = "taken out of the sheet"

    @property
    def disk(self) -> str:
        """The volume with its pool, as something with a name."""
        return f"{self.pool}.{self.volume}"

    @property
    def touches(self) -> str:
        """The sheet."""
        return str(self.sheet)

    def apply(self) -> dict[str, object]:
        """Write the sheet without the volume, all at once."""
        text = without_volume_of(text_of(self.sheet), self.pool, self.volume, str(self.sheet))
        replace_content(self.sheet, text.encode())
        return {"did": "taken out of the sheet", "disk": self.disk}


def retire(sheet: Path, name: str, agree: Agree = lambda _: True, *, dry: bool = False) -> tuple[Step, ...]:
    """Remove a disk, or a volume by its name with that of its pool, for good; return the steps that were done.

    None are done if `agree`, called with them, says no.

    A `dry` call returns the steps that would be done.

    Raises:
        RequestError: there is no such disk, or something needs it; a line for each.
        RefusedError: the system refused a step, or somebody uses the image; the steps before it stay done.
    """
    with sheet_lock(sheet), claiming(sheet, known := read_sheet(sheet)) as run:
        found = work_out(sheet, known=known)
        if not dry:
            clear_stores(found.layout)
        todo = retirement(sheet, name, found)
        if dry:
            return todo
        if not agree(todo):
            return ()
        left_over = {one: image.image.host for one, image in found.layout.left_over.items()}
        carry_out(sheet, todo, lambda _: None, places_of(found.sheet, left_over), run)
    return todo


def retirement(sheet: Path, name: str, found: WorkedOut) -> tuple[Step, ...]:
    """Return the steps that remove a disk for good.

    Raises:
        RequestError: there is no such disk, or something needs it; a line for each.
    """
    layout, facts = found.layout, found.facts
    pool = next((one for one in layout.pools if name.startswith(f"{one.name}.")), None)
    if pool is not None and not any(one.name == name for one in layout.disks):
        return _volume_removed(sheet, pool, name.removeprefix(f"{pool.name}."), found)
    disk = next((one for one in layout.disks if one.name == name), None)
    if disk is None and name in layout.left_over:
        return _left_over(sheet, name, layout.left_over[name], found)
    if disk is None:
        check_names(sheet, [name], {one.name: one for one in layout.disks})
        raise RequestError(f"{sheet}: disk {name} is a real device; take it out of the sheet by hand")
    image = layout.found.disks.get(name)
    path = Path(image.path if image else disk.path)
    needed = list(_needed_by(disk, path, found))
    if needed:
        raise RequestError("\n".join(f"{sheet}: disk {name} stays: {reason}" for reason in needed))
    home = _home(sheet, name)
    without_disk(text_of(home), name, str(home))
    there = image or disk.wanted
    host = layout.found.stores[disk.store].host
    all_of(refuse_used, [(host, (str(path), there.image.format))])
    guest = facts.found.guests.get(disk.guest, Guest(disk.guest))
    unread = guest.problem or next((one.message for one in guest.findings if one.level == "error"), "")
    if unread:
        raise RequestError(f"{sheet}: disk {name} stays, as what mounts it cannot be read: {unread}")
    todo: list[Step] = list(_entries_removed(disk, guest, layout))
    recorded = any(one.disk == name for one in facts.ledger)  # also one that a cut removed, and told nobody of
    if image is not None or recorded or os.path.lexists(working_name(path)):
        kept = image.image.format if image else disk.wanted.image.format
        todo.append(RemoveImage(name, disk.guest, path, kept, image.image.stored if image else 0))
    return (*todo, TakeOutOfSheet(name, disk.guest, home))


def _home(sheet: Path, name: str, kind: str = "disk") -> Path:
    """Return the file of a sheet that has a disk or pool.

    Raises:
        RequestError: it is one of many that one table stands for.
    """
    files = sheet_files(text_of(sheet), sheet)
    origin = files.origins.get((kind, name))
    if origin is not None:
        raise RequestError(
            f"{sheet}: {kind} {name} is one of many, by {kind}.{origin[1]} and the count of its guest; put the number "
            "into left_out of that guest, or take the table out, and retire what is left over then"
        )
    return files.home((kind, name))


def _volume_removed(sheet: Path, pool: PlannedPool, name: str, found: WorkedOut) -> tuple[Step, ...]:
    """Return the steps that remove a volume of a pool for good.

    Raises:
        RequestError: there is no such volume, or the pool cannot be changed now; a line for each reason.
    """
    layout, place = found.layout, pool_place(pool.name, name)
    volume = next((one for one in pool.volumes if one.volume == name), None)
    before = pool.before
    there = before is not None and any(one.name == name for one in before.shown)
    if volume is None and not there:
        raise RequestError(f"{sheet}: there is no volume {name} in pool {pool.name}")
    reasons = [one.message for one in layout.findings if one.where == pool.place and one.level == "error"]
    if pool.state != "as asked" and there and not reasons:
        reasons = ["its pool is not as the sheet asks; write first"]
    if reasons:
        raise RequestError("\n".join(f"{sheet}: {place} stays: {one}" for one in reasons))
    todo: list[Step] = []
    home = sheet
    if volume is not None:
        home = _home(sheet, pool.name, "pool")
        without_volume_of(text_of(home), pool.name, name, str(home))
        guest = found.facts.found.guests.get(pool.guest, Guest(pool.guest))
        system = guest_system(volume.system)
        others = [one for one in layout.mountable if one.guest == pool.guest and one is not volume]
        todo += system.removal(volume, system.wanted(others, guest), guest)
    if before is not None and there:
        left = tuple(one for one in pool.volumes if one.volume != name)
        becomes = numbered(without_volume(before, name), found.sheet.dated)
        folders = tuple(store.path for store in layout.stores)
        after = replace(pool, becomes=becomes, volumes=left, transfers=(), state="to change")
        todo.append(ChangePool(after, folders, Trusted(layout, found.facts).of_pool(pool), (f"volume {name} removed",)))
    return (*todo, TakeVolumeOut(pool.name, name, pool.guest, home)) if volume is not None else tuple(todo)


@runs_elsewhere
def refuse_used(image: str, kind: str) -> None:
    """Raise RefusedError where somebody has an image open, before anything of it goes."""
    stay_inside(image)
    path = Path(image)
    if path.exists():
        with lease(path, *own_parts_of(image_format(kind), path), change=True):
            pass


@runs_elsewhere
def children_there(image: str, folders: Sequence[str]) -> list[str]:
    """Return the children of an image that lie beside it, or in other folders."""
    stay_inside(image, *folders)
    path = Path(image)
    there = {path.parent, *(Path(one) for one in folders if Path(one).is_dir())}
    return [str(one) for one in children_of(path, sorted(there))] if path.exists() else []


def _left_over(sheet: Path, name: str, image: Disk, found: WorkedOut) -> tuple[Step, ...]:
    """Return the steps that remove an image whose disk the sheet no longer has, with its entries in all guests."""
    layout, path, todo = found.layout, Path(image.path), list[Step]()
    for child in _children(path, image.image.host, layout):
        raise RequestError(f"{sheet}: disk {name} stays: {child} is a child of its image; fold or recast that first")
    for guest, wanted in layout.guests.items():
        spec = ImageSpec(image.size)
        disk = PlannedDisk(name, guest, layout.systems[guest], "", Plug(), image, spec, ())
        there = found.facts.found.guests.get(guest, Guest(guest))
        todo += guest_system(layout.systems[guest]).removal(disk, wanted, there)
    return (*todo, RemoveImage(name, "", path, image.image.format, image.image.stored))


def _children(path: Path, host: str, layout: Layout) -> list[str]:
    folders = [store.path for store in layout.stores if store.host == host]
    return all_of(children_there, [(host, (str(path), folders))])[0]


def _entries_removed(disk: PlannedDisk, guest: Guest, layout: Layout) -> Iterator[Step]:
    """Yield what takes a disk's entries from its guest; those of its other disks stay."""
    system = guest_system(disk.system)
    others = [one for one in layout.mountable if one.guest == disk.guest and one is not disk]
    yield from system.removal(disk, system.wanted(others, guest), guest)


def _needed_by(disk: PlannedDisk, path: Path, found: WorkedOut) -> Iterator[str]:
    """Yield who needs a disk as it is, or why its image is not Narvet's to remove."""
    layout, facts = found.layout, found.facts
    image = layout.found.disks.get(disk.name)
    is_empty = image is not None and any(map(images.volume_gone.made, image.findings))
    if image and not is_empty and not is_ours(disk.wanted, disk.origin, facts.origins.get(disk.name), image):
        yield f"{path} was not made for it; move that away, and retire the disk again"
    for old in layout.left_behind.get(disk.name, ()):
        yield f"a move that was cut off left {old.image.place} too; write the sheet, which removes that, first"
    if disk.plugged is not None:
        yield f"guest {disk.plugged_into} has it plugged in at {disk.plugged.where}; unmount and detach it first"
    for other in layout.disks:
        origin = facts.origins.get(other.name)
        if origin is not None and origin.disk == disk.name and other.state != "as asked":
            yield f"disk {other.name} is to be a {other.origin.how if other.origin else 'copy'} of it"
    yield from _mounted_inside(disk, layout)
    for pool in layout.pools:
        if any(one.disk == disk.name for one in (*pool.members.values(), *pool.leaving.values())):
            yield f"it is a member of pool {pool.name}; remove its pool key, write, and retire it then"
    for child in _children(path, layout.found.stores[disk.store].host, layout):
        yield f"{child} is a child of its image; fold or recast that first"


def _mounted_inside(disk: PlannedDisk, layout: Layout) -> Iterator[str]:
    """Yield the disks that are mounted in folders of a disk."""
    targets = {target for part in disk.wanted.partitions if part.new for _, target in part.new.state().links}
    for other in layout.disks:
        for part in other.wanted.partitions:
            mount = part.mount
            if other is not disk and mount is not None and any(mount.volume and mount.volume in one for one in targets):
                yield f"disk {other.name} is mounted in a folder of it, at {mount.at}"
