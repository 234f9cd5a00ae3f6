"""A sheet in parts that are looked at apart from one another: by host, and many disks of one in several parts.

What belongs together stays together: the members of pools, copies and children with what they come from, and disks with
the doors of their guests.
"""

from __future__ import annotations

import os
import zlib
from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from pathlib import Path

from narvet.ground.values import Frozen, field, replace
from narvet.model.estate import Disk, Estate, Store
from narvet.model.facts import Facts, OriginFacts
from narvet.model.pools import FoundPool
from narvet.observe.ledger import Histories, History
from narvet.plan.disks import image_path
from narvet.sheet.form import DiskForm, Sheet
from narvet.sheet.hosts import THIS_MACHINE, host_of_disk, host_of_guest, origin_of

_AT_ONCE = 250
"""Disks in a part; fewer are not worth another process."""


class Part(Frozen):
    """What of a sheet is looked at in one go: `disks` of it on one `host`, with the `deep` ones checked in full.

    The first part of a host has its stores and guests too; `known` are the names of the images of all its disks there,
    with their stores. `sheet` is no more of the sheet than it takes, and `path` where that is. `lends` are the images
    here that disks on other hosts are copies of, by disk; `away` are the disks here that come from other hosts.
    """

    host: str
    sheet: Sheet
    path: Path
    history: History
    disks: tuple[str, ...]
    deep: frozenset[str]
    is_first: bool = True
    known: tuple[tuple[str, str], ...] = field(default=())
    lends: tuple[tuple[str, str], ...] = field(default=())
    away: frozenset[str] = frozenset()


def parts_of(sheet: Sheet, path: Path, told: Histories, deep: frozenset[str]) -> Iterator[Part]:
    """Yield the parts of a sheet; at least one."""
    kept: dict[str, list[str]] = defaultdict(list)
    stores: dict[str, list[str]] = defaultdict(list)
    guests: dict[str, list[str]] = defaultdict(list)
    for name, disk in sheet.disk.items():
        kept[host_of_disk(sheet, disk)].append(name)
    for name, store in sheet.store.items():
        stores[store.host or THIS_MACHINE].append(name)
    for name in sheet.guest:
        guests[host_of_guest(sheet, name)].append(name)
    lends = _lends(sheet)
    away = frozenset(name for given in lends.values() for name, _ in given)
    known = (host for host in told.hosts if host in sheet.host)  # what was made there may still lie there
    for host in dict.fromkeys((*stores, *guests, *known, *lends)) or (THIS_MACHINE,):
        here = replace(sheet, store={name: sheet.store[name] for name in stores[host]})
        own = dict.fromkeys(guests[host])
        chunks = list(_chunks(sheet, kept[host], _absent(sheet, path, kept[host]) if host == THIS_MACHINE else set()))
        for number, names in enumerate(chunks):
            first = number == 0
            used = sheet.disk if len(own) == len(sheet.guest) else _used(sheet, names, own if first else {})
            some = replace(
                here,
                host={},
                disk=used if first else {name: sheet.disk[name] for name in names},
                guest={name: sheet.guest[name] for name in own} if first else {},
                pool=sheet.pool if first else {},
            )
            names_there = tuple(_known(sheet, kept[host])) if first else ()
            yield Part(
                host,
                some,
                path,
                told.of(host),
                tuple(names),
                deep & frozenset(names),
                first,
                names_there,
                tuple(lends[host]) if first else (),
                away & frozenset(names),
            )


def _lends(sheet: Sheet) -> dict[str, list[tuple[str, str]]]:
    """Return by host the disks on other hosts that are copies of images there, with these."""
    found: dict[str, list[tuple[str, str]]] = defaultdict(list)
    for name, form in sheet.disk.items() if sheet.host else ():
        origin = origin_of(sheet, form)
        if origin is not None and origin[0] != host_of_disk(sheet, form):
            found[origin[0]].append((name, origin[1]))
    return found


def _known(sheet: Sheet, names: Iterable[str]) -> Iterator[tuple[str, str]]:
    for name in names:
        form = sheet.disk[name]
        yield form.store, image_path("", name, form.format).removeprefix("/")


def _used(sheet: Sheet, names: Iterable[str], guests: Mapping[str, object]) -> dict[str, DiskForm]:
    """Return the disks of these names, and those of guests."""
    found = {name: sheet.disk[name] for name in names}
    found |= {name: form for name, form in sheet.disk.items() if form.guest in guests} if guests else {}
    return found


def _absent(sheet: Sheet, path: Path, names: Sequence[str]) -> set[str]:
    """Return the disks that there are no images of on this machine: nothing of them is worth another process."""
    if len(names) <= _AT_ONCE:
        return set()
    there = {}
    for name, store in sheet.store.items():
        try:
            there[name] = set(os.listdir(path.parent / store.path))  # noqa: PTH208 (only names)
        except OSError:
            there[name] = set()
    return {name for (store, image), name in zip(_known(sheet, names), names, strict=True) if image not in there[store]}


def _chunks(sheet: Sheet, names: Sequence[str], absent: Collection[str]) -> Iterator[Sequence[str]]:
    """Yield names of disks that may be looked at apart; the first ones, perhaps none, belong together.

    Of `absent` ones there is nothing to be looked at.
    """
    if len(names) <= _AT_ONCE:
        yield names
        return
    together, apart = list[str](), list[str]()
    doors = {name for name, form in sheet.guest.items() if form.door is not None}
    for name in names:
        form = sheet.disk[name]
        joined = form.guest in doors or any(part.pool for part in form.partition)
        (together if joined or form.copy_of or form.base or name in absent else apart).append(name)
    if any(sheet.disk[name].copy_of or sheet.disk[name].base for name in together):
        yield names  # what they come from may be any disk
        return
    yield together
    for at in range(0, len(apart), _AT_ONCE):
        yield apart[at : at + _AT_ONCE]


def merged(parts: Sequence[Part], found: Sequence[Facts], told: Histories) -> Facts:
    """Return what was found of all parts."""
    each = [_marked(part.host, one) if part.host else one for part, one in zip(parts, found, strict=True)]
    estates = [one.found for one in each]
    whole = told.whole
    return Facts(
        Estate(
            {name: disk for one in estates for name, disk in one.disks.items()},
            {name: guest for one in estates for name, guest in one.guests.items()},
            {name: store for one in estates for name, store in one.stores.items()},
            tuple(stray for one in estates for stray in one.strays),
            _put_together(estates),
        ),
        {name: origin for one in each for name, origin in one.origins.items()},
        whole.made,
        whole.moving,
        doors={name: door for one in each for name, door in one.doors.items()},
        plugged={path: into for one in each for path, into in one.plugged.items()},
        unread=frozenset(name for one in each for name in one.unread),
        left_roots=tuple(root for one in each for root in one.left_roots),
        volumes_asked=told.volumes_asked,
        begun_volumes=whole.begun,
    )


def _put_together(estates: Sequence[Estate]) -> dict[str, FoundPool]:
    """Return the pools that were found; one whose members lie on several hosts cannot be read there.

    Of two that have the same members the one counts of which more are on disks of the sheet.
    """
    found: dict[str, FoundPool] = {}
    disks = {name for one in estates for name in one.disks}
    for number, pool in (pair for one in estates for pair in one.pools.items()):
        other = found.get(number)
        if other is None:
            found[number] = pool
            continue
        if other.places.keys() & pool.places.keys():
            found[number] = max(pool, other, key=lambda one: sum(place.disk in disks for place in one.places.values()))
            continue
        newest = max(other, pool, key=lambda one: one.pool.seqno)
        stale = other.stale or pool.stale or other.pool != pool.pool
        found[number] = FoundPool(newest.pool, {**other.places, **pool.places}, stale=stale, is_apart=True)
    return found


def _marked(host: str, facts: Facts) -> Facts:
    """Return what was found on a host, which each store and image tells."""

    def store(one: Store) -> Store:
        shared = one.device < 0  # a service, whichever host asks
        return replace(one, host=host, device=one.device if shared else one.device << 32 | zlib.crc32(host.encode()))

    def disk(one: Disk) -> Disk:
        return replace(one, image=replace(one.image, host=host))

    def pool(one: FoundPool) -> FoundPool:
        own = found.disks
        places = {
            member: place if place.disk in own else replace(place, disk=f"{host}:{place.disk}")
            for member, place in one.places.items()
        }
        return replace(one, places=places)

    def origin(one: OriginFacts) -> OriginFacts:
        return replace(one, host=host, found=disk(one.found) if one.found else None)

    found = facts.found
    return replace(
        facts,
        origins={name: origin(one) for name, one in facts.origins.items()},
        found=replace(
            found,
            stores={name: store(one) for name, one in found.stores.items()},
            disks={name: disk(one) for name, one in found.disks.items()},
            strays=tuple(disk(one) for one in found.strays),
            pools={number: pool(one) for number, one in found.pools.items()},
        ),
    )
