"""A short mark of everything that a review showed, so that a later write can tell whether that is still so. Pure.

The first two groups of letters stand for the disks: the sum of a number for each, and the sum of those numbers each
multiplied by a number made from the disk's name. So where a single disk is different, the quotient of the two
differences is its name's number, which tells the disk. The other groups stand for guests, stores and findings.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from functools import cache
from hashlib import blake2b
from operator import attrgetter
from typing import Any

from narvet.ground.errors import RequestError, printable
from narvet.ground.values import Frozen, part_names
from narvet.guests import guest_system
from narvet.model.estate import Partition
from narvet.model.layout import Layout, PlannedDisk, StoreCapacity
from narvet.model.moves import Difference
from narvet.model.pools import PlannedPool

_LETTERS = "0123456789abcdefghjkmnpqrstvwxyz"  # none that reads like another
_PRIME = (1 << 30) - 35
_WIDE, _NARROW = 6, 4  # letters of a group, five bits each
_FORM = re.compile(rf"[{_LETTERS}]{{6}}-[{_LETTERS}]{{6}}-[{_LETTERS}]{{4}}-[{_LETTERS}]{{4}}-[{_LETTERS}]{{4}}")


class Mark(Frozen):
    """What a review showed, as five numbers."""

    disks: int
    located: int
    guests: int
    stores: int
    findings: int

    def __str__(self) -> str:
        wide = (_spelt(number, _WIDE) for number in (self.disks, self.located))
        return "-".join([*wide, *(_spelt(number, _NARROW) for number in (self.guests, self.stores, self.findings))])


def mark_of(layout: Layout) -> Mark:
    """Return the mark of a layout; how much a store has free counts only by what is found about it."""
    disks = located = 0
    for name, number in _numbers(layout):
        disks, located = disks + number, located + _place(name) * number
    return Mark(
        disks % _PRIME,
        located % _PRIME,
        _short(_of_guests(layout)),
        _short(
            [
                *((one.name, one.path, one.host, one.kept, one.promised, _room(one)) for one in layout.stores),
                *sorted(layout.guest_hosts.items()),
            ]
        ),
        _short(sorted((one.rule, one.level, str(one.where)) for one in layout.findings)),
    )


def _numbers(layout: Layout) -> Iterator[tuple[str, int]]:
    """Yield the disks and pools, each with the number that stands for it."""
    moves: dict[str, list[Difference]] = {}
    for one in layout.differences:
        moves.setdefault(one.where.pool or one.where.name, []).append(one)
    for disk in layout.disks:
        yield f"disk {disk.name}", _number(*_of_disk(disk, moves.get(disk.name, ())))
    for pool in layout.pools:
        yield f"pool {pool.name}", _number(*_of_pool(pool, moves.get(pool.name, ())))


def _room(store: StoreCapacity) -> int | None:
    """Return the room that a sheet gives a store."""
    return None if store.measured else store.room


def read_mark(text: str) -> Mark:
    """Return the mark that is spelt so.

    Raises:
        RequestError: it is none.
    """
    if not _FORM.fullmatch(text):
        raise RequestError(f'"{printable(text)[:60]}" is not a mark; take the one that narvet review prints at its end')
    return Mark(*(_read(group) for group in text.split("-")))


def different(mark: Mark, layout: Layout) -> Iterator[str]:
    """Yield what a layout has that is not as it was when the mark was made."""
    now = mark_of(layout)
    if (now.disks, now.located) != (mark.disks, mark.located):
        yield _which_disk(mark, now, layout)
    if now.guests != mark.guests:
        yield "the entries, mount points or doors of guests"
    if now.stores != mark.stores:
        yield "the stores, or what is promised of them"
    if now.findings != mark.findings:
        yield "the findings"


def _which_disk(mark: Mark, now: Mark, layout: Layout) -> str:
    change, located = (now.disks - mark.disks) % _PRIME, (now.located - mark.located) % _PRIME
    for name in (*(f"disk {one.name}" for one in layout.disks), *(f"pool {one.name}" for one in layout.pools)):
        if change and _place(name) * change % _PRIME == located:
            return name
    return "the disks and pools, more than one of them"


def _of_disk(disk: PlannedDisk, moves: Iterable[Difference]) -> Iterator[object]:
    """Yield what a review shows of a disk, but for what changes while it is used."""
    plugged = disk.plugged.where if disk.plugged else ""
    yield disk.name, disk.guest, disk.store, disk.system, disk.origin, disk.state, disk.plugged_into, plugged
    yield _values(disk.plug)
    yield _image_values(disk.wanted.image)
    yield disk.wanted.table, disk.wanted.table_id
    for part in disk.wanted.partitions:
        yield from _of_partition(part)
    for one in moves:
        if one.where.kind == "disk":
            yield str(one.where), one.aspect.name, one.texts, one.by_guest


def _of_pool(pool: PlannedPool, moves: Iterable[Difference]) -> Iterator[object]:
    """Yield what a review shows of a pool."""
    becomes = pool.becomes
    yield from (pool.name, pool.guest, pool.state, becomes.id, becomes.extent)
    yield from ((place.disk, place.partition, place.size) for place in pool.members.values())
    for volume in pool.volumes:
        there = becomes.volume(volume.volume)
        yield (volume.volume, there.id, there.spread, there.width, there.chunk, pool.disks_of(there))
        yield from _of_partition(volume.wanted.partitions[0])
    yield from ((str(one.where), one.aspect.name, one.texts) for one in moves if one.where.kind == "pool")


def _of_partition(part: Partition) -> Iterator[object]:
    inside, shows = part.filesystem, part.capacity
    yield _values(part.entry)
    yield _values(part.mount) if part.mount else ()
    yield (shows.total, shows.free, shows.available) if shows else ()
    yield (inside.kind, inside.uuid, inside.label) if inside else ()


_image_values = attrgetter("path", "format", "size", "space", "sector_size", "block_size")


def _values(value: Any) -> tuple[object, ...]:
    """Return what a value is made of, which is quicker to write out than the value itself."""
    kind: Any = type(value)
    own: tuple[object, ...] = _getter(kind)(value)
    return own


@cache
def _getter(kind: Any) -> attrgetter[Any]:
    return attrgetter(*part_names(kind))


def _of_guests(layout: Layout) -> Iterator[object]:
    for name, guest in layout.guests.items():
        system = guest_system(layout.systems[name])
        points = tuple((at, *point.ownership) for at, point in guest.mount_points.items())
        yield name, layout.systems[name], guest.entries_path, system.entry_lines(guest), points
    for name, door in layout.doors.items():
        yield name, door.kind, door.is_open, door.runs, door.problem
    yield from ((str(one.where), one.aspect.name, one.texts) for one in layout.differences if one.where.kind == "guest")


def _number(*values: object) -> int:
    """Return a number that other values hardly have too."""
    return _hashed(values) % _PRIME


def _hashed(values: Iterable[object]) -> int:
    """Return a number of 128 bits; the values may be so many that they are not held at once."""
    digest = blake2b(digest_size=16)
    for value in values:
        digest.update(repr(value).encode("utf-8", "surrogateescape") + b"\n")
    return int.from_bytes(digest.digest())


def _place(name: str) -> int:
    """Return the number of a disk's name, not 0."""
    return _number("name", name) or 1


def _short(values: Iterable[object]) -> int:
    return _hashed(values) % (1 << 5 * _NARROW)


def _spelt(number: int, letters: int) -> str:
    return "".join(_LETTERS[number >> 5 * place & 31] for place in reversed(range(letters)))


def _read(group: str) -> int:
    return sum(_LETTERS.index(letter) << 5 * place for place, letter in enumerate(reversed(group)))
