"""Everything that a plan needs to know, gathered: where the pure plan meets the world."""

from __future__ import annotations

import os
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path

from narvet.block.names import is_working_name, real_paths
from narvet.fleet.engine import all_of, engine
from narvet.fleet.standing import stay_inside
from narvet.fleet.wire import runs_elsewhere
from narvet.formats.images import image_format
from narvet.formats.images.chain import Link, chain, open_links
from narvet.formats.images.children import base_of
from narvet.formats.images.contract import ImageFormat
from narvet.formats.images.trust import Trust
from narvet.ground.errors import NarvetError, RequestError
from narvet.ground.findings import image_place
from narvet.ground.rules import images as rules
from narvet.ground.values import replace
from narvet.guests import guest_system
from narvet.guests.contract import GuestAsked
from narvet.guests.roots import root_asked
from narvet.hosts import door_of
from narvet.model.estate import Disk, Estate, Guest, Image, Store
from narvet.model.facts import Facts, HostPath, OriginFacts
from narvet.model.plugs import DoorState, Plugged
from narvet.model.pools import FoundPool
from narvet.observe.images import Look, is_image, survey
from narvet.observe.ledger import histories, ledger_path
from narvet.observe.parts import Part, merged, parts_of
from narvet.observe.pools import member_places, pools_on
from narvet.observe.stores import observe_service, observe_store
from narvet.plan.disks import image_path
from narvet.sheet.base import form_of
from narvet.sheet.contents import ContentForm
from narvet.sheet.form import DiskForm, Sheet
from narvet.sheet.machines import GuestForm


def observe(sheet: Sheet, path: Path, *, deep: frozenset[str] = frozenset()) -> Facts:
    """Return what is found of a sheet's stores, images and guests; its relative paths start where its file is.

    `deep` are the disks of which what exists is checked in full. What lies on hosts is looked at there, and what is
    much in parts, several at once.
    """
    told = histories(ledger_path(path))
    parts = list(parts_of(sheet, path, told, deep))
    found = all_of(look_at, [(part.host, (part,)) for part in parts])
    far = {host: engine().opens(host) for host in sheet.host if engine().is_far(host)}
    return replace(merged(parts, found, told), far=far)


@runs_elsewhere
def look_at(part: Part) -> Facts:
    """Return what is found of a part of a sheet."""
    sheet, path, told = part.sheet, part.path, part.history
    stay_inside(*_paths_of(part))
    doors = _doors(sheet, path.parent)
    in_use = {there.path for door in doors.values() if door.runs for there in door.plugged if there.path}
    folders = {name: str(path.parent / form.path) for name, form in sheet.store.items()}
    stores = {name: _store(part, name, folders[name]) for name in folders} if part.is_first else {}
    exists = {
        name: stores[name].exists if name in stores else Path(folder).is_dir() for name, folder in folders.items()
    }
    own = {name: sheet.disk[name] for name in part.disks}
    places = {name: image_path(folders[form.store], name, form.format) for name, form in own.items()}
    real = dict(zip(places.values(), real_paths(places.values()), strict=True))
    named = {name: form for name, form in own.items() if name not in part.away}
    formats = {real[places[name]]: form.format for name, form in own.items()}
    trust = _trust(formats, path.parent, (form.base or form.copy_of for form in named.values()), part.lends)
    deep = part.deep
    unread = frozenset(name for name in deep if real[places[name]] in in_use) if in_use else frozenset()
    disks = {
        name: _survey(Path(places[name]), trust, form, deep=name in deep and name not in unread)
        for name, form in own.items()
        if exists[form.store] and os.path.lexists(places[name])
    }
    strays, guests = tuple[Disk, ...](), dict[str, Guest]()
    left_roots: tuple[tuple[str, Guest], ...] = ()
    if part.is_first:
        elsewhere = (*(one.path for one in told.made), *(path for every in told.moving.values() for _, path in every))
        there = [folder for name, folder in folders.items() if exists[name]]
        known = [os.path.join(folders[store], name) for store, name in part.known]  # noqa: PTH118 (many)
        apart = real_paths(one for one in known if one not in real)
        strays = tuple(_strays(there, {*real.values(), *apart}, elsewhere, trust))
        guests = _guests(sheet, path, told.entries)
        left_roots = tuple(_left_roots(part, guests))
    found = Estate(
        disks, guests, stores, strays, {one.pool.id: one for one in _pools(part, disks, strays, trust, unread)}
    )
    return Facts(
        found,
        _origins(named, path.parent, places, disks, trust) | _lent(part.lends, trust),
        doors=doors,
        plugged=_plugged(doors, (*disks.values(), *strays)),
        unread=unread,
        left_roots=left_roots,
    )


def _paths_of(part: Part) -> Iterator[str]:
    """Yield the paths that a part of a sheet names."""
    for store in part.sheet.store.values():
        yield store.path
    yield from (path for _, path in part.lends)
    for name in part.disks:
        form = part.sheet.disk[name]
        if name in part.away:
            continue
        yield from (path for path in (form.copy_of, form.base) if path is not None)
    for guest in part.sheet.guest.values():
        root, door = guest.root_form, guest.door
        yield from (root.image, *root.members) if root else ()
        yield from (path for path in (door.qmp, door.ovf) if path is not None) if door else ()
    yield from (one.path for one in part.history.made)
    yield from (path for every in part.history.moving.values() for _, path in every)


def _store(part: Part, name: str, folder: str) -> Store:
    form, store = part.sheet.store[name], observe_store(folder)
    if form.service is None:
        return store
    return observe_service(store, form.service, str(part.sheet.identity), part.history.begun)


def _pools(
    part: Part, disks: Mapping[str, Disk], strays: Iterable[Disk], trust: Trust, unread: frozenset[str]
) -> tuple[FoundPool, ...]:
    """Return the pools whose members lie on the disks that were found, or on images that may be disks to be moved."""
    disks = {**disks, **_members_elsewhere(disks, _last_moved(strays, part.history.moving))}
    if not any(one.member for disk in disks.values() for one in disk.partitions):
        return ()
    smaller = any(isinstance(one.size, int) for pool in part.sheet.pool.values() for one in pool.volume)
    return pools_on(disks, trust, Look(bool(part.deep - unread), smaller))


def _last_moved(strays: Iterable[Disk], moving: Mapping[str, Sequence[HostPath]]) -> Iterator[Disk]:
    """Yield strays; of those that cut moves left of one disk only the last one, as `plan.relocate` takes it."""
    there = {os.path.normpath(one.path): one for one in strays}
    for every in moving.values():
        own = [(path, there[path]) for _, path in every if path in there]
        for number, (path, one) in enumerate(own):
            if any(later.content_ids == one.content_ids for _, later in own[number + 1 :]):
                there.pop(path, None)
    yield from there.values()


def _members_elsewhere(disks: Mapping[str, Disk], strays: Iterable[Disk]) -> dict[str, Disk]:
    """Return the strays, by their paths, with members that are on no disk and on no other stray."""
    apart = {one.path: one for one in strays if any(part.member for part in one.partitions)}
    if not apart:
        return {}
    seen = Counter(place.shape.id for place, _ in member_places(apart))
    seen.update(place.shape.id for place, _ in member_places(disks))
    twice = {place.disk for place, _ in member_places(apart) if seen[place.shape.id] > 1}
    return {path: one for path, one in apart.items() if path not in twice}


def _doors(sheet: Sheet, folder: Path) -> dict[str, DoorState]:
    """Return what is seen through the doors of a sheet's guests."""
    doors = {}
    for name, form in sheet.guest.items():
        if form.door is not None:
            kind, place = door_of(form.door, folder)
            doors[name] = kind.look(place, name)
    return doors


def _plugged(doors: Mapping[str, DoorState], found: Iterable[Disk]) -> dict[str, tuple[tuple[str, Plugged], ...]]:
    """Return which images that were found are plugged into which guests, by the paths they were found at."""
    if not any(door.plugged for door in doors.values()):
        return {}
    paths = {os.path.realpath(one.path): one.path for one in found}
    into: dict[str, tuple[tuple[str, Plugged], ...]] = {}
    for guest, door in doors.items():
        for there in door.plugged:
            if there.path in paths:
                into[paths[there.path]] = (*into.get(paths[there.path], ()), (guest, there))
    return into


def _guests(sheet: Sheet, path: Path, written: frozenset[str]) -> dict[str, Guest]:
    mount_points: dict[str, list[str]] = defaultdict(list)
    key_files: dict[str, list[str]] = defaultdict(list)
    for disk in sheet.disk.values():
        mount_points[disk.guest] += [part.at for part in disk.partition if part.at]
        key_files[disk.guest] += _key_files(disk.partition)
    for pool in sheet.pool.values():
        mount_points[pool.guest] += [volume.at for volume in pool.volume if volume.at]
        key_files[pool.guest] += _key_files(pool.volume)
    asked = (
        (
            form.runs,
            GuestAsked(name, form, path, tuple(mount_points[name]), written, sheet.dated, tuple(key_files[name])),
        )
        for name, form in sheet.guest.items()
    )
    return {one.name: guest_system(runs).observe(one) for runs, one in asked}


def _key_files(contents: Iterable[ContentForm]) -> list[str]:
    return [one.seal.key_file for one in contents if one.seal and one.seal.key_file]


def _left_roots(part: Part, guests: Mapping[str, Guest]) -> Iterator[tuple[str, Guest]]:
    """Yield the roots that entries of a sheet went into earlier and that are no guest's now, as far as they are there.

    That of a guest for which the sheet names none now may be its root still.
    """
    sheet, path, written = part.sheet, part.path, part.history.entries
    now = {(os.path.realpath(one.root.path), one.root.partition) for one in guests.values() if one.root}
    for name, keys in part.history.roots:
        try:
            form = form_of(GuestForm, keys)
            root = root_asked(GuestAsked(name, form, path, ()))
        except ValueError:  # the ledger is not as Narvet writes it
            continue
        here = root and (os.path.realpath(root.path), root.partition)
        unnamed = name in sheet.guest and sheet.guest[name].root is None
        if root is None or here in now or unnamed or not Path(root.path).exists() or _is_base(root.path, guests):
            continue
        found = guest_system(form.runs).observe(GuestAsked(name, form, path, (), written, sheet.dated))
        if found.root is not None and found.is_readable:
            yield form.runs, found


def _is_base(image: str, guests: Mapping[str, Guest]) -> bool:
    """Return whether an image is a base of a guest's root, which has what is in it then."""
    images = (one.root for one in guests.values() if one.root and one.is_readable and Path(one.root.path).is_file())
    return any(link.path.samefile(image) for root in images for link in chain(Path(root.path), root.trust)[1:])


def _sector_size(form: DiskForm) -> int | None:
    """Return the sector size that a sheet gives a disk; a copy or child has that of its origin."""
    return form.sector_size if form.copy_of is form.base is None else None


def _trust(
    formats: Mapping[str, str], folder: Path, origins: Iterable[str | None], lends: Iterable[tuple[str, str]]
) -> Trust:
    """Return what a sheet says of images: the formats of its disks by their real paths, and which images it names."""
    named = [folder / name for name in (*origins, *(path for _, path in lends)) if name is not None]
    return Trust(formats, frozenset({*formats, *(os.path.realpath(path) for path in named)}))


def _strays(folders: Iterable[str], known: set[str], elsewhere: Iterable[str], trust: Trust) -> Iterator[Disk]:
    """Yield what is found on the images that lie in folders, or `elsewhere`, and are at no disk's place.

    `known` are these places, links followed.
    """
    inside = list[Path]()
    for folder in {os.path.realpath(one): Path(one) for one in folders}.values():
        inside += sorted(folder.iterdir())
    seen: set[str] = set()
    every = (*inside, *map(Path, elsewhere))
    for path, real in zip(every, real_paths(map(str, every)), strict=True):
        if real in known or real in seen or is_working_name(path.name) or not path.is_file():
            continue
        seen.add(real)
        try:
            if is_image(path):
                yield survey(str(path), deep=False, reach=True, trust=replace(trust, by_content=True))
        except (NarvetError, OSError):  # not an image that can be read, so not one that could be missed
            continue


def _origins(
    disks: Mapping[str, DiskForm], folder: Path, places: Mapping[str, str], found: Mapping[str, Disk], trust: Trust
) -> dict[str, OriginFacts]:
    if not any(form.copy_of or form.base for form in disks.values()):
        return {}
    by_place = dict(zip(real_paths(places.values()), places, strict=True))
    origins = {}
    for name, form in disks.items():
        named = form.copy_of or form.base
        if named is not None:
            path = Path(os.path.realpath(folder / named))
            facts = _origin(path, Path(places[name]), form, found.get(name), trust)
            origins[name] = replace(facts, disk=by_place.get(str(path)))
    return origins


def _lent(lends: Iterable[tuple[str, str]], trust: Trust) -> dict[str, OriginFacts]:
    """Return what is known of images that disks on other hosts are copies of, each looked at once."""
    looked_at: dict[str, OriginFacts] = {}
    for _, path in lends:
        real = os.path.realpath(path)
        if real not in looked_at:
            looked_at[real] = _of_origin(Path(real), trust)
    return {name: looked_at[os.path.realpath(path)] for name, path in lends}


def _origin(path: Path, image: Path, form: DiskForm, made: Disk | None, trust: Trust) -> OriginFacts:
    base = made.image.base if made else None
    is_base = base is not None and os.path.realpath(base) == str(path)
    child = None if form.base is None else (image, image_format(form.format))
    return replace(_of_origin(path, trust, child), is_base=is_base)


def _of_origin(path: Path, trust: Trust, child: tuple[Path, ImageFormat] | None = None) -> OriginFacts:
    """Return what is known of an image that a disk is to be a copy of, or a `child` at a path in a format."""
    try:
        links = chain(path, trust)
        there = survey(str(path), deep=False, trust=trust)
        damaged = next((one.message for one in there.findings if rules.image_damaged.made(one)), None)
        if damaged is not None:
            return OriginFacts(str(path), problem=damaged)
        if child is not None:
            return OriginFacts(str(path), there, base=base_of(links[0], *child)[0])
        return OriginFacts(str(path), there, _data(links))
    except NarvetError as error:
        return OriginFacts(str(path), problem=str(error))


def _data(links: list[Link]) -> int:
    """Return the bytes of a disk that may hold data."""
    with open_links(links) as device:
        return sum(length for _, length in device.extents())


def _survey(path: Path, trust: Trust, form: DiskForm, *, deep: bool) -> Disk:
    """Return what lies where an image should be, even if that is no image at all."""
    sector_size = _sector_size(form)
    try:
        found = survey(str(path), deep=deep, trust=trust, sector_size=sector_size)
        if gets_smaller(form, found):
            found = survey(str(path), deep=deep, reach=True, trust=trust, sector_size=sector_size)
        return found
    except RequestError as error:
        said = rules.image_cannot_be_read.error(image_place(str(path)), str(error))
        return Disk(Image(str(path), "none", "full", 0), findings=(said,))


def gets_smaller(form: DiskForm, found: Disk) -> bool:
    """Return whether a sheet may ask for less than is there, so that it matters how far what is in it reaches."""
    if form.size is not None and form.size < found.size:
        return True
    there = [part for part in found.partitions if not found.is_set_aside(part)]
    numbered = {part.number: part for part in there}
    for asked, other in zip(form.partition, there, strict=False):
        part = numbered.get(asked.number) if asked.number else other
        if part is None or asked.size in (None, "rest"):
            continue
        if not isinstance(asked.size, int) or asked.size < part.size:
            return True
    return False
