"""Disks of a sheet that were made earlier and are not where the sheet has them now: moved, renamed, or taken out. Pure.

A disk is known by the ids that follow from the sheet's identity and its name. Making it anew where its data exist
somewhere else would hide them, so that needs to be said.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from uuid import UUID

from narvet.findings import Finding
from narvet.identity import derive
from narvet.layout.facts import Facts, Recorded, Survey
from narvet.layout.model import LaidDisk
from narvet.layout.mounts import mounting
from narvet.tables import NAMES as TABLES
from narvet.tables import table_format


def check_earlier(disks: Iterable[LaidDisk], facts: Facts, identity: UUID) -> Iterator[Finding]:
    """Yield an error for every disk that would be made although its data are elsewhere, and every image left over."""
    disks = tuple(disks)
    by_id = _by_id(facts.strays)
    left_over = _left_over(disks, facts, identity)
    claimed: set[str] = set()
    for disk in disks:
        if disk.state == "as asked" or disk.name in facts.anew:
            continue
        there = _elsewhere(disk, facts, by_id)
        if there is not None:
            claimed.add(there.path)
            yield _moved(disk, there)
        elif disk.state == "to make":
            yield from _missing_or_renamed(disk, facts, left_over)
    for path, (name, _) in left_over.items():
        if path not in claimed:
            yield Finding(
                "disk-left-over", "warning", f"disk.{name}",
                f"{path} is the image of disk {name}, which the sheet no longer has",
                "put the disk back into the sheet, and retire it if it is no longer needed; or move the image away",
            )  # fmt: skip


def _by_id(strays: Iterable[Survey]) -> Mapping[str, Survey]:
    """Return the strays by the ids that guests know them by."""
    found: dict[str, Survey] = {}
    for stray in strays:
        ids = [stray.table_id, *(part.filesystem.uuid for part in stray.partitions if part.filesystem)]
        for one in filter(None, ids):
            found.setdefault(one, stray)
    return found


def _elsewhere(disk: LaidDisk, facts: Facts, by_id: Mapping[str, Survey]) -> Survey | None:
    """Return the image that carries a disk's ids, but lies elsewhere; copies share theirs, so the ledger must tell."""
    if disk.origin is not None:
        made_at = {one.path for one in facts.ledger if one.disk == disk.name}
        return next((stray for stray in facts.strays if stray.path in made_at), None)
    ids = [disk.table_id, *(part.uuid for part in disk.partitions)]
    return next((by_id[one] for one in ids if one and one in by_id), None)


def _moved(disk: LaidDisk, there: Survey) -> Finding:
    if there.format not in (disk.format, "unknown"):
        way_out = f'set format = "{there.format}", or recast it to {disk.path} and move {there.path} away'
    elif there.path.rpartition("/")[0] == disk.path.rpartition("/")[0]:
        way_out = f"name the disk {_stem(there.path)} again, or rename the file to {disk.path}"
    else:
        way_out = f"set store back, or move the file to {disk.path}"
    return Finding(
        "image-elsewhere", "error", f"disk.{disk.name}",
        f"its image exists already, at {there.path}, of format {there.format}; a new one would be empty",
        f"{way_out}; if a new one is meant, write with --anew {disk.name}",
    )  # fmt: skip


def _missing_or_renamed(disk: LaidDisk, facts: Facts, left_over: Mapping[str, tuple[str, Survey]]) -> Iterator[Finding]:
    made = next((one for one in facts.ledger if one.disk == disk.name and _same_id(one, disk)), None)
    root = facts.roots.get(disk.guest)
    entries = mounting(disk, root.entries) if root is not None and disk.origin is None else ()
    if made is not None or entries:
        told = f"the ledger says that it was made at {made.path}" if made else "its guest mounts it"
        yield Finding(
            "image-missing", "error", f"disk.{disk.name}", f"{told}, but its image is gone; a new one would be empty",
            f"put the image back at {disk.path}; if it is gone for good, write with --anew {disk.name}",
        )  # fmt: skip
        return
    for path, (name, there) in left_over.items():
        if _alike(disk, there):
            yield Finding(
                "disk-renamed", "error", f"disk.{disk.name}",
                f"it would be made empty, but {path} is the image of disk {name}, which the sheet no longer has, and "
                "is laid out alike",
                f"name the disk {name} again; if a new one is meant, write with --anew {disk.name}",
            )  # fmt: skip
            return


def _stem(path: str) -> str:
    """Return the name of a file without its ending."""
    name = path.rpartition("/")[2]
    return name.rpartition(".")[0] or name


def _same_id(one: Recorded, disk: LaidDisk) -> bool:
    return disk.origin is not None or one.table_id in ("", disk.table_id)


def _alike(disk: LaidDisk, there: Survey) -> bool:
    if (there.size, there.table) != (disk.size, disk.table):
        return False
    found = [(part.place.start, part.place.size) for part in there.partitions]
    return found == [(part.start, part.size) for part in disk.partitions]


def _left_over(disks: Iterable[LaidDisk], facts: Facts, identity: UUID) -> dict[str, tuple[str, Survey]]:
    """Return the strays that were made for disks the sheet no longer has: by path, the disk's name and the survey."""
    names = {disk.name for disk in disks}
    origins = {one.path for one in facts.origins.values()}
    recorded = {one.path: one for one in facts.ledger}
    found = {}
    for stray in facts.strays:
        name = _stem(stray.path)
        made = recorded.get(stray.path)
        if made is not None and stray.table_id == made.table_id:
            name = made.disk
        elif not _derived(identity, name, stray):
            continue
        if name not in names and stray.path not in origins:
            found[stray.path] = (name, stray)
    return found


def _derived(identity: UUID, name: str, stray: Survey) -> bool:
    """Return whether an image carries the ids that a disk of this name has in the sheet."""
    if stray.table in TABLES:
        return stray.table_id == table_format(stray.table).known_as(derive(identity, "disk", name, "table"))
    uuid = str(derive(identity, "disk", name, "partition", 1, "filesystem"))
    return any(part.filesystem and part.filesystem.uuid == uuid for part in stray.partitions)
