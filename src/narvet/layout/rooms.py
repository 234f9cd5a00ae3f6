"""The room in every store: what is there, what is promised to disks once they are full, what writing needs now."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from fractions import Fraction

from narvet.findings import Finding
from narvet.layout.facts import Facts, StoreFacts
from narvet.layout.model import LaidDisk, LaidStore
from narvet.sheet.model import Sheet, StoreForm
from narvet.units import show_both, show_bytes


def lay_stores(sheet: Sheet, disks: Iterable[LaidDisk], facts: Facts) -> tuple[tuple[LaidStore, ...], list[Finding]]:
    """Return the sheet's stores and what is to be said about them."""
    kept_in: dict[str, list[LaidDisk]] = defaultdict(list)
    for disk in disks:
        kept_in[disk.store].append(disk)
    stores = tuple(_store(name, form, facts.stores[name], kept_in[name], facts) for name, form in sheet.store.items())
    stores = tuple(_with_others(store, stores, facts.stores) for store in stores)
    found: list[Finding] = []
    for store in stores:
        there = facts.stores[store.name]
        found += _folder_checks(store, there)
        if there.exists:
            found += _beyond(store, sheet.store[store.name], there)
            found += _room_checks(store, stores)
            found += _file_checks(there, kept_in[store.name])
    return stores, found


def _store(name: str, form: StoreForm, there: StoreFacts, disks: list[LaidDisk], facts: Facts) -> LaidStore:
    present = sum(facts.images[disk.name].allocated for disk in disks if disk.name in facts.images)
    room = there.free + present if form.room is None else form.room
    kept = room * form.keep_free // 1 if isinstance(form.keep_free, Fraction) else form.keep_free
    return LaidStore(
        name=name,
        path=there.path,
        room=room,
        kept=int(kept),
        promised=sum(disk.size for disk in disks),
        present=present,
        needed=sum(disk.stores_now for disk in disks if disk.name not in facts.images),
        free=there.free,
        measured=form.room is None,
    )


def _with_others(store: LaidStore, stores: tuple[LaidStore, ...], facts: Mapping[str, StoreFacts]) -> LaidStore:
    """Return a store that knows what those beside it, on the same filesystem, need now and may still take."""
    mine = facts[store.name]
    beside = [
        other
        for other in stores
        if other.name != store.name and mine.exists and facts[other.name].exists and mine.device
        and facts[other.name].device == mine.device
    ]  # fmt: skip
    return replace(
        store,
        others_need=sum(other.needed for other in beside),
        others_promised=sum(max(other.promised - other.present, 0) for other in beside),
        beside=tuple(other.name for other in beside),
    )


def _beyond(store: LaidStore, form: StoreForm, there: StoreFacts) -> Iterator[Finding]:
    """Yield a note where a sheet gives a store more room than its filesystem has in all."""
    if form.room is not None and form.room > there.total:
        yield Finding(
            "store-room-beyond", "note", f"store.{store.name}.room",
            f"the sheet gives it {show_both(form.room)}; its filesystem has {show_both(there.total)}, "
            f"{show_both(there.free)} of it free",
            "correct room, or leave it out",
        )  # fmt: skip


def _folder_checks(store: LaidStore, there: StoreFacts) -> Iterator[Finding]:
    where = f"store.{store.name}"
    if not there.exists:
        yield Finding(
            "store-missing", "error", where, f"there is no folder {store.path}", "make the folder, or correct path"
        )
    elif not there.writable and store.needed:
        yield Finding(
            "store-not-writable", "error", where, f"{store.path} cannot be written to by this user",
            "get write permission there, or use another store",
        )  # fmt: skip


def _room_checks(store: LaidStore, stores: tuple[LaidStore, ...]) -> Iterator[Finding]:
    where = f"store.{store.name}"
    most = min(store.free, store.room - store.kept - store.present)
    beside = f", and as much as {show_both(store.others_need)} goes to {_names(store.beside)} beside it"
    if store.needed > most or (store.needed and store.needed + store.others_need > store.free):
        yield Finding(
            "store-without-room", "error", where,
            f"writing needs {show_both(store.needed)} now; there is room for {show_both(max(most, 0))}"
            + (beside if store.needed <= most else ""),
            _better(store, stores, store.needed),
        )  # fmt: skip
    elif store.left < 0:
        yield Finding(
            "store-overpromised", "warning", where,
            f"its disks promise {show_both(store.promised)}; of its {show_both(store.room)}, "
            f"{show_both(store.room - store.kept)} may be filled, which is {show_both(-store.left)} too little"
            + (f", as {_names(store.beside)} shares its filesystem" if store.measured and store.beside else ""),
            _better(store, stores, -store.left),
        )  # fmt: skip


def _names(names: tuple[str, ...]) -> str:
    return f"store{'' if len(names) == 1 else 's'} {', '.join(names)}"


def _better(store: LaidStore, stores: tuple[LaidStore, ...], needed: int) -> str:
    """Return a remedy that names the store with the most room left, if it has enough."""
    shared = store.beside if store.measured else ()
    others = (one for one in stores if one.name not in (store.name, *shared))
    other = max(others, key=lambda one: one.left, default=None)
    if other is None or other.left < needed:
        return "make room there, or add a store that has it"
    return f"move disks to store {other.name}, which has {show_both(other.left)} left"


def _file_checks(there: StoreFacts, disks: list[LaidDisk]) -> Iterator[Finding]:
    for disk in disks:
        if there.largest_file is not None and disk.size > there.largest_file:
            yield Finding(
                "image-over-file-limit", "error", f"disk.{disk.name}",
                f"its image has {show_bytes(disk.size)}; a file on the {there.filesystem} of store {disk.store} "
                f"has at most {show_bytes(there.largest_file)}",
                "use a store on a filesystem with larger files, or make the disk smaller",
            )  # fmt: skip
