"""Disks of a sheet that were made earlier and are not where the sheet has them now: moved, renamed, or taken out. Pure.

A disk is known by the ids that follow from the sheet's identity and its name. Making it anew where its data exist
somewhere else would hide them, so that needs to be said.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from narvet.formats.tables import NAMES as TABLES
from narvet.formats.tables import table_format
from narvet.ground.findings import Finding, disk_place
from narvet.ground.rules import disks as rules
from narvet.ground.values import Frozen
from narvet.guests import guest_system
from narvet.model.estate import Disk
from narvet.model.facts import Facts, Recorded
from narvet.model.layout import PlannedDisk
from narvet.model.moves import Aspect, Difference
from narvet.sheet.resolved import ResolvedSheet


class Earlier(Frozen):
    """An image of a disk, by its name, where the sheet has none; `planned` is None if the sheet lacks the disk."""

    name: str
    image: Disk
    planned: PlannedDisk | None = None


def earlier_images(disks: tuple[PlannedDisk, ...], facts: Facts, sheet: ResolvedSheet) -> tuple[Earlier, ...]:
    """Return the images of disks that are elsewhere than the sheet has them, then those whose disks it lacks."""
    by_id = _by_id(facts.found.strays)
    moved = []
    for disk in disks:
        if disk.state in ("as asked", "to change") or disk.name in facts.anew:
            continue
        there = _elsewhere(disk, facts, by_id)
        if there is not None:
            moved.append(Earlier(disk.name, there, disk))
    claimed = {_place(one.image) for one in moved}
    left_over = (one for one in _left_over(disks, facts, sheet) if _place(one.image) not in claimed)
    return (*moved, *left_over)


def _place(image: Disk) -> tuple[str, str]:
    """Return the host that an image was found on, and where."""
    return image.image.host, image.path


def check_earlier(disks: Iterable[PlannedDisk], earlier: tuple[Earlier, ...], facts: Facts) -> Iterator[Finding]:
    """Yield an error for every disk that would be made although its data are elsewhere, and every image left over."""
    moved = {one.name: one for one in earlier if one.planned is not None}
    left_over = [one for one in earlier if one.planned is None]
    for disk in disks:
        if disk.name in moved:
            yield _moved(disk, moved[disk.name].image, facts.found.stores[disk.store].host)
        elif disk.state == "to make" and disk.name not in facts.anew:
            yield from _missing_or_renamed(disk, facts, left_over)
    for one in left_over:
        yield rules.disk_left_over.warning(disk_place(one.name), one.image.path, one.name)


def earlier_differences(earlier: Iterable[Earlier]) -> Iterator[Difference]:
    """Yield images that are not where the sheet has them as differences."""
    for one in earlier:
        if one.planned is not None:
            told = f"its image exists already, at {one.image.path}"
        else:
            told = f"{one.image.path} is the image of disk {one.name}, which the sheet no longer has"
        yield Difference(disk_place(one.name), Aspect.ORIGIN, "its place in the sheet", told)


def _by_id(strays: Iterable[Disk]) -> Mapping[str, Disk]:
    """Return the strays by the ids that guests know them by."""
    found: dict[str, Disk] = {}
    for stray in strays:
        for one in filter(None, (stray.table_id, *stray.content_ids)):
            found.setdefault(one, stray)
    return found


def _elsewhere(disk: PlannedDisk, facts: Facts, by_id: Mapping[str, Disk]) -> Disk | None:
    """Return the image that carries a disk's ids, but lies elsewhere; copies share theirs, so the ledger must tell."""
    if disk.origin is not None:
        made_at = {(one.host, one.path) for one in facts.ledger if one.disk == disk.name}
        return next((stray for stray in facts.found.strays if _place(stray) in made_at), None)
    ids = (disk.wanted.table_id, *disk.wanted.content_ids)
    return next((by_id[one] for one in ids if one and one in by_id), None)


def _moved(disk: PlannedDisk, there: Disk, host: str) -> Finding:
    kind = there.image.format
    if there.image.host != host:
        where = f"host {there.image.host}" if there.image.host else "this machine"
        remedy = f"set store back, or bring the file there to {disk.path} yourself"
        return rules.image_elsewhere.error(disk_place(disk.name), disk.name, f"{there.path} on {where}", kind, remedy)
    if kind not in (disk.wanted.image.format, "unknown"):
        remedy = f'set format = "{kind}", or recast it to {disk.path} and move {there.path} away'
    elif there.path.rpartition("/")[0] == disk.path.rpartition("/")[0]:
        remedy = f"name the disk {_stem(there.path)} again, or rename the file to {disk.path}"
    else:
        remedy = f"set store back, or move the file to {disk.path}"
    return rules.image_elsewhere.error(disk_place(disk.name), disk.name, there.path, kind, remedy)


def _missing_or_renamed(disk: PlannedDisk, facts: Facts, left_over: Iterable[Earlier]) -> Iterator[Finding]:
    made = next((one for one in facts.ledger if one.disk == disk.name and _same_id(one, disk)), None)
    guest = facts.found.guests.get(disk.guest)
    mounted = guest is not None and disk.origin is None and guest_system(disk.system).is_mounted(disk, guest)
    if made is not None or mounted:
        there = "" if made is None else f"{made.path} on host {made.host}" if made.host else made.path
        yield rules.image_missing.error(disk_place(disk.name), disk.name, disk.path, there)
        return
    alike = next((one for one in left_over if _alike(disk, one.image)), None)
    if alike is not None:
        yield rules.disk_renamed.error(disk_place(disk.name), alike.image.path, alike.name, disk.name)


def _stem(path: str) -> str:
    """Return the name of a file without its ending."""
    name = path.rpartition("/")[2]
    return name.rpartition(".")[0] or name


def _same_id(one: Recorded, disk: PlannedDisk) -> bool:
    return disk.origin is not None or one.table_id in ("", disk.wanted.table_id)


def _alike(disk: PlannedDisk, there: Disk) -> bool:
    if (there.size, there.table) != (disk.size, disk.wanted.table):
        return False
    found, wanted = ([(part.start, part.size) for part in one.partitions] for one in (there, disk.wanted))
    return found == wanted


def _left_over(disks: Iterable[PlannedDisk], facts: Facts, sheet: ResolvedSheet) -> Iterator[Earlier]:
    """Yield the strays that were made for disks the sheet no longer has."""
    names = {disk.name for disk in disks}
    origins = {one.path for one in facts.origins.values()}
    recorded = {(one.host, one.path): one for one in facts.ledger}
    for stray in facts.found.strays:
        name = _stem(stray.path)
        made = recorded.get(_place(stray))
        if made is not None and stray.table_id == made.table_id:
            name = made.disk
        elif not _derived(sheet, name, stray):
            continue
        if name not in names and stray.path not in origins:
            yield Earlier(name, stray)


def _derived(sheet: ResolvedSheet, name: str, stray: Disk) -> bool:
    """Return whether an image carries the ids that a disk of this name has in the sheet."""
    if stray.table in TABLES:
        return stray.table_id == table_format(stray.table).native_id(sheet.ids(name).table)
    return str(sheet.ids(name).filesystem(1)) in stray.content_ids
