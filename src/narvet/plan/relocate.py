"""Disks whose image lies where the sheet had it before: in another store, under another name or ending. Pure.

Such an image counts as the disk's own, to be moved. It is known by its ids, and by where the ledger says it was made,
or where the sheet would have had it: a copy that somebody put anywhere else is not touched. A disk that started as a
copy has the ids of its origin, as others may: of it the ledger alone tells where it is. A child stays with its base.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from posixpath import normpath, split

from narvet.formats.filesystems import filesystem
from narvet.formats.images import NAMES as FORMATS
from narvet.formats.images import ending_of
from narvet.formats.tables import table_format
from narvet.ground.findings import has_errors
from narvet.ground.values import Frozen, replace
from narvet.model.estate import Disk
from narvet.model.facts import Facts, HostPath
from narvet.model.pools import FoundPool
from narvet.plan.disks import image_path
from narvet.sheet.resolved import ResolvedDisk, ResolvedSheet


class Relocated(Frozen):
    """Facts in which images that lie elsewhere count as found, and further ones of the same disks that cuts left."""

    facts: Facts
    left_behind: Mapping[str, tuple[Disk, ...]]


def relocated(sheet: ResolvedSheet, facts: Facts) -> Relocated:
    """Return facts with the images that are to be moved in their disks' places."""
    strays = {(one.image.host, normpath(one.path)): one for one in facts.found.strays}
    found, behind = dict(facts.found.disks), dict[str, tuple[Disk, ...]]()
    others = {(one.image.host, normpath(one.path)) for one in found.values()}
    if not strays:
        return Relocated(facts, behind)
    names: dict[str, str] = {}
    known = _Known(sheet, facts)
    for name, disk in sheet.disks.items():
        if disk.is_child or name in facts.anew:
            continue
        ids = _ids(disk, sheet) if disk.origin_path is None else known.ids(disk)
        cut = list(dict.fromkeys(place for one in reversed(_names(disk)) for place in facts.moving.get(one, ())))
        if name in found:
            left = [strays[place] for place in cut if place in strays and _carries(strays[place], ids)]
            if left and _carries(found[name], ids):
                behind[name] = tuple(left)
            continue
        places = [place for place in dict.fromkeys((*known.places(disk), *cut)) if place in strays]
        own = {place: strays[place] for place in places if place not in others and _carries(strays[place], ids)}
        whole = _whole(own, cut)
        if whole is not None:
            found[name] = own.pop(whole)
            names[found[name].image.place] = name
            if own:
                behind[name] = tuple(own.values())
    of_cuts = (one for left in behind.values() for one in left)
    taken = {(one.image.host, one.path) for one in (*found.values(), *of_cuts)}
    others_left = tuple(one for one in facts.found.strays if (one.image.host, one.path) not in taken)
    pools = {number: one for number, pool in facts.found.pools.items() if (one := _named(pool, names, found)).places}
    return Relocated(replace(facts, found=replace(facts.found, disks=found, strays=others_left, pools=pools)), behind)


def _whole(own: Collection[HostPath], cut: Sequence[HostPath]) -> HostPath | None:
    """Return which of several images of a disk is to be moved: the last one that a move made, if all are of moves.

    With copies that somebody else made among them nothing tells which one is the disk's.
    """
    if len(own) == 1:
        return next(iter(own))
    return next((place for place in reversed(cut) if place in own), None) if set(own) <= set(cut) else None


def _named(pool: FoundPool, names: Mapping[str, str], disks: Mapping[str, Disk]) -> FoundPool:
    """Return a pool with its members on the disks of a sheet, those that are to be moved among them, and no others."""
    places = {
        member: replace(place, disk=names.get(place.disk, place.disk))
        for member, place in pool.places.items()
        if place.disk in disks or place.disk in names
    }
    return replace(pool, places=places)


def _ids(disk: ResolvedDisk, sheet: ResolvedSheet) -> frozenset[str]:
    """Return the ids that a guest knows a disk by: of its table, else of its filesystem."""
    own = sheet.ids(disk.name)
    if disk.table is not None:
        return frozenset({table_format(disk.table).native_id(own.table)})
    kinds = [filesystem(part.filesystem) for part in disk.partitions if part.filesystem]
    return frozenset(kind.native_id(own.filesystem(1)) for kind in kinds)


def _carries(image: Disk, ids: Iterable[str]) -> bool:
    carried = {image.table_id} if image.table_id else set(image.content_ids)
    return not has_errors(image.findings) and bool(carried & set(ids))


def _names(disk: ResolvedDisk) -> tuple[str, ...]:
    return (disk.name, disk.was) if disk.was else (disk.name,)


class _Known:
    """Where the images of disks may lie besides their places, by names that the disks have or had."""

    def __init__(self, sheet: ResolvedSheet, facts: Facts) -> None:
        """Gather it: of stores only what lies there, as a sheet may have many, and many disks."""
        self._facts = facts
        self._made, self._usual = dict[str, list[HostPath]](), dict[str, list[HostPath]]()
        self._ids = dict[str, set[str]]()
        for one in facts.ledger:
            self._made.setdefault(one.disk, []).append((one.host, normpath(one.path)))
            self._ids.setdefault(one.disk, set()).update(filter(None, [one.table_id]))
        stores = {(facts.found.stores[name].host, normpath(facts.found.stores[name].path)) for name in sheet.stores}
        for host, path in ((one.image.host, normpath(one.path)) for one in facts.found.strays):
            folder, name = split(path)
            for ending in map(ending_of, FORMATS) if (host, folder) in stores else ():
                if name.endswith(ending):
                    self._usual.setdefault(name.removesuffix(ending), []).append((host, path))

    def places(self, disk: ResolvedDisk) -> Iterator[HostPath]:
        """Yield where something lies that may be the image of a disk, each once."""
        sources = (self._made, self._usual) if disk.origin_path is None else (self._made,)
        there = (place for known in sources for name in _names(disk) for place in known.get(name, ()))
        store = self._facts.found.stores[disk.store]
        here = store.host, normpath(image_path(store.path, disk.name, disk.format))
        yield from dict.fromkeys(place for place in there if place != here)

    def ids(self, disk: ResolvedDisk) -> frozenset[str]:
        """Return the ids that the ledger says a copy's table was made with: its origin's, while that is there."""
        made = frozenset().union(*(self._ids.get(name, ()) for name in _names(disk)))
        origin = self._facts.origins[disk.name].found
        return made if origin is None else made & {origin.table_id}
