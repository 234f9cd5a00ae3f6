"""The room in every store: what is there, what is promised to disks once they are full, what writing needs now."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from fractions import Fraction

from narvet.ground.findings import Finding, disk_place, store_place
from narvet.ground.rules import stores as rules
from narvet.ground.units import show_both
from narvet.ground.values import replace
from narvet.model.estate import Estate, Store
from narvet.model.layout import PlannedDisk, StoreCapacity
from narvet.sheet.machines import StoreForm
from narvet.sheet.resolved import ResolvedSheet


def plan_stores(sheet: ResolvedSheet, disks: Iterable[PlannedDisk], found: Estate) -> tuple[StoreCapacity, ...]:
    """Return the room in the sheet's stores."""
    kept_in = _by_store(disks)
    stores = tuple(_store(name, form, kept_in[name], found) for name, form in sheet.stores.items())
    return tuple(_with_others(store, stores, found.stores) for store in stores)


def check_stores(
    stores: tuple[StoreCapacity, ...], sheet: ResolvedSheet, disks: Iterable[PlannedDisk], found: Mapping[str, Store]
) -> Iterator[Finding]:
    """Yield what is to be said about the sheet's stores."""
    kept_in = _by_store(disks)
    for store in stores:
        there = found[store.name]
        yield from _folder_checks(store, there)
        if there.exists:
            yield from _beyond(store, sheet.stores[store.name], there)
            yield from _room_checks(store, stores)
            yield from _file_checks(there, kept_in[store.name])


def _by_store(disks: Iterable[PlannedDisk]) -> Mapping[str, list[PlannedDisk]]:
    kept_in: dict[str, list[PlannedDisk]] = defaultdict(list)
    for disk in disks:
        kept_in[disk.store].append(disk)
    return kept_in


def _store(name: str, form: StoreForm, disks: list[PlannedDisk], found: Estate) -> StoreCapacity:
    there = found.stores[name]
    present = sum(found.disks[disk.name].image.stored for disk in disks if disk.name in found.disks)
    room = there.free + present if form.room is None else form.room
    kept = room * form.keep_free // 1 if isinstance(form.keep_free, Fraction) else form.keep_free
    return StoreCapacity(
        name=name,
        path=there.path,
        room=room,
        kept=int(kept),
        promised=sum(disk.size for disk in disks),
        present=present,
        needed=sum(disk.needs for disk in disks),
        free=there.free,
        measured=form.room is None,
        host=form.host or "",
    )


def _with_others(store: StoreCapacity, stores: tuple[StoreCapacity, ...], found: Mapping[str, Store]) -> StoreCapacity:
    """Return a store that knows what those beside it, on the same filesystem, need now and may still take."""
    mine = found[store.name]
    beside = [
        other
        for other in stores
        if other.name != store.name and mine.exists and found[other.name].exists and mine.device
        and found[other.name].device == mine.device
    ]  # fmt: skip
    return replace(
        store,
        others_need=sum(other.needed for other in beside),
        others_promised=sum(max(other.promised - other.present, 0) for other in beside),
        beside=tuple(other.name for other in beside),
    )


def _beyond(store: StoreCapacity, form: StoreForm, there: Store) -> Iterator[Finding]:
    """Yield a note where a sheet gives a store more room than its filesystem has in all."""
    if form.room is not None and form.room > there.total:
        yield rules.store_room_beyond.note(store_place(store.name).key("room"), form.room, there.total, there.free)


def _folder_checks(store: StoreCapacity, there: Store) -> Iterator[Finding]:
    if not there.exists:
        yield rules.store_missing.error(store_place(store.name), store.path)
    elif not there.writable and store.needed:
        yield rules.store_not_writable.error(store_place(store.name), store.path)


def _room_checks(store: StoreCapacity, stores: tuple[StoreCapacity, ...]) -> Iterator[Finding]:
    where = store_place(store.name)
    most = min(store.free, store.room - store.kept - store.present)
    if store.needed > most:
        yield rules.store_without_room.error(where, store.needed, max(most, 0), _better(store, stores, store.needed))
    elif store.needed and store.needed + store.others_need > store.free:
        remedy = _better(store, stores, store.needed)
        names = _names(store.beside)
        yield rules.store_without_room.error(where, store.needed, max(most, 0), remedy, store.others_need, names)
    elif store.left < 0:
        beside = _names(store.beside) if store.measured and store.beside else ""
        usable, remedy = store.room - store.kept, _better(store, stores, -store.left)
        yield rules.store_overpromised.warning(where, store.promised, store.room, usable, -store.left, remedy, beside)


def _names(names: tuple[str, ...]) -> str:
    return f"{'store' if len(names) == 1 else 'stores'} {', '.join(names)}"


def _better(store: StoreCapacity, stores: tuple[StoreCapacity, ...], needed: int) -> str:
    """Return a remedy that names the store with the most room left, if it has enough."""
    shared = store.beside if store.measured else ()
    others = (one for one in stores if one.name not in (store.name, *shared))
    other = max(others, key=lambda one: one.left, default=None)
    if other is None or other.left < needed:
        return "make room there, or add a store that has it"
    return f"move disks to store {other.name}, which has {show_both(other.left)} left"


def _file_checks(there: Store, disks: list[PlannedDisk]) -> Iterator[Finding]:
    for disk in disks:
        if there.largest_file is not None and disk.size > there.largest_file:
            yield rules.image_over_file_limit.error(
                disk_place(disk.name), disk.size, there.filesystem, disk.store, there.largest_file
            )
