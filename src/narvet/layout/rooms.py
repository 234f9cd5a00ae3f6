"""The room in every store: what is there, what is promised to disks once they are full, what writing needs now."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
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
    found: list[Finding] = []
    for store in stores:
        found += _folder_checks(store, facts.stores[store.name])
        if facts.stores[store.name].exists:
            found += _room_checks(store, stores)
            found += _file_checks(facts.stores[store.name], kept_in[store.name])
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
    )


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
    if store.needed > most:
        yield Finding(
            "store-without-room", "error", where,
            f"writing needs {show_both(store.needed)} now; there is room for {show_both(max(most, 0))}",
            _better(store, stores, store.needed),
        )  # fmt: skip
    elif store.left < 0:
        yield Finding(
            "store-overpromised", "warning", where,
            f"its disks promise {show_both(store.promised)}; of its {show_both(store.room)}, "
            f"{show_both(store.room - store.kept)} may be filled, which is {show_both(-store.left)} too little",
            _better(store, stores, -store.left),
        )  # fmt: skip


def _better(store: LaidStore, stores: tuple[LaidStore, ...], needed: int) -> str:
    """Return a remedy that names the store with the most room left, if it has enough."""
    other = max((one for one in stores if one.name != store.name), key=lambda one: one.left, default=None)
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
