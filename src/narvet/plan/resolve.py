"""From a sheet as it was written to one with every default settled by its guests' systems; what those cannot use."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import count
from uuid import UUID

from narvet.formats.filesystems import NAMES as FILESYSTEMS
from narvet.formats.filesystems import filesystem
from narvet.formats.pools.allot import Kind
from narvet.formats.tables import table_format
from narvet.ground.errors import RequestError
from narvet.ground.findings import Finding, Place, disk_place, guest_place, pool_place
from narvet.ground.offers import offers
from narvet.ground.rules import disks as disk_rules
from narvet.ground.rules import filesystems as filesystem_rules
from narvet.ground.rules import guests as rules
from narvet.ground.units import KIB
from narvet.ground.values import Frozen, replace
from narvet.guests import guest_system
from narvet.guests.contract import ChecksDisks, DiskAsked, GuestSystem, PartitionAsked, PartitionDefaults
from narvet.model.plugs import Plug, Rates
from narvet.sheet.base import key_of
from narvet.sheet.contents import ContentForm, PartitionForm, VolumeForm
from narvet.sheet.form import DiskForm, RatesForm, Sheet
from narvet.sheet.machines import GuestForm
from narvet.sheet.resolved import ResolvedDisk, ResolvedPartition, ResolvedPool, ResolvedSheet, ResolvedVolume

_NONE = "none"
_USUAL_MODE = 0o755
_USUAL_CHUNK = 64 * KIB


class Settled(Frozen):
    """A sheet in which everything is settled, and what is to be said of what it asked for."""

    sheet: ResolvedSheet
    findings: tuple[Finding, ...]


def settled(sheet: Sheet) -> Settled:
    """Return a sheet in which everything is settled; the sheet as it was written is not needed any more."""
    return Settled(resolve(sheet), tuple(check_asked(sheet)))


def resolve(sheet: Sheet) -> ResolvedSheet:
    """Return a sheet in which everything is settled; of too many partitions for a table, the first ones."""
    disks = {
        name: resolve_disk(name, _asked(sheet, name), flash=sheet.store[form.store].flash)
        for name, form in sheet.disk.items()
    }
    pools = {name: _pool(sheet, name) for name in sheet.pool}
    return ResolvedSheet(sheet.identity, sheet.title, sheet.dated, sheet.store, sheet.guest, disks, pools)


def _pool(sheet: Sheet, name: str) -> ResolvedPool:
    form = sheet.pool[name]
    guest = sheet.guest[form.guest]
    system = guest_system(guest.runs)
    volumes = []
    for index, one in enumerate(form.volume, 1):
        defaults = system.partition_defaults(PartitionAsked(guest, one))
        label = one.name if one.label is None else one.label
        content = _content(one, index, index, label, defaults)
        volumes.append(ResolvedVolume(one.name, one.was, _kind(one), content))
    own = form.pool_id.replace("-", "") if form.pool_id else None
    return ResolvedPool(name, pool_place(name), form.guest, form.extent, own, tuple(volumes))


def _kind(form: VolumeForm) -> Kind:
    if form.spread == "linear":
        return Kind()
    return Kind(form.spread, form.over or 2, (form.chunk or _USUAL_CHUNK) if form.spread == "striped" else 0)


def _asked(sheet: Sheet, name: str) -> DiskAsked:
    form = sheet.disk[name]
    return DiskAsked(sheet.guest[form.guest], form, disk_place(name))


def resolve_disk(name: str, asked: DiskAsked, *, flash: bool = False) -> ResolvedDisk:
    """Return a disk in which everything is settled; `name` is what its label follows from where none is given.

    `flash` is whether the storage below it is.
    """
    system, form = guest_system(asked.guest.runs), asked.disk
    defaults = system.disk_defaults(asked)
    table = None if defaults.table == _NONE else defaults.table
    most = table_format(table).most_partitions if table else len(form.partition)
    positions = _positions(form, table, before=1 if defaults.set_aside else 0)
    return ResolvedDisk(
        name=name,
        was=form.was,
        place=asked.place,
        guest=form.guest,
        store=form.store,
        size=form.size,
        format=form.format,
        space=form.space,
        block_size=form.block,
        pieces=form.pieces,
        packed=form.packed,
        origin_path=form.copy_of or form.base,
        is_child=form.base is not None,
        plug=_plug(form, flash=flash),
        table=table,
        table_id=form.table_id,
        fixed_ids=_fixed_ids(form, table, positions, asked.place),
        set_aside=defaults.set_aside,
        align=form.align,
        sector_size=form.sector_size,
        partitions=tuple(
            _partition(name, asked, index, position, system) for index, position in enumerate(positions[:most], 1)
        ),
    )


def _plug(form: DiskForm, *, flash: bool) -> Plug:
    return Plug(
        slot=form.slot,
        serial=form.serial or "",
        read_only=form.read_only,
        shared=form.shared,
        hold=form.hold,
        ceiling=_rates(form.ceiling),
        floor=_rates(form.floor),
        flash=flash if form.flash is None else form.flash,
        gives_back=form.space == "thin" if form.give_back is None else form.give_back,
    )


_NO_RATES = Rates()


def _rates(form: RatesForm | None) -> Rates:
    return Rates(form.operations, form.bytes_) if form else _NO_RATES


def _positions(form: DiskForm, table: str | None, before: int) -> list[int]:
    """Return the place of each partition of a sheet among those of the table, from 1.

    One with a number has the place of that, so that it can stand anywhere in the sheet; the others take what is left,
    in order. `before` partitions that no one asked for come first.
    """
    if not any(part.number for part in form.partition):
        return list(range(1, len(form.partition) + 1))
    numbers = table_format(table).numbers(len(form.partition)) if table else ()
    places: dict[int, int] = {}
    for index, part in enumerate(form.partition):
        number = part.number - before if part.number else 0
        place = numbers.index(number) + 1 if number in numbers else number
        if place > 0 and place not in places.values():
            places[index] = place
    free = (place for place in count(1) if place not in places.values())
    return [places[index] if index in places else next(free) for index in range(len(form.partition))]


def _fixed_ids(
    form: DiskForm, table: str | None, positions: list[int], place: Place
) -> dict[tuple[str | int, ...], UUID]:
    """Return the UUIDs that stand for the ids that a sheet gives a disk itself."""
    fixed: dict[tuple[str | int, ...], UUID] = {}
    try:
        fixed |= _of_keys(form, table, positions)
    except ValueError as error:
        raise RequestError(f"{place}: an id in it is none: {error}") from None
    return fixed


def _of_keys(form: DiskForm, table: str | None, positions: list[int]) -> dict[tuple[str | int, ...], UUID]:
    fixed: dict[tuple[str | int, ...], UUID] = {}
    if form.table_id is not None and table is not None:
        fixed["table",] = table_format(table).uuid_of(form.table_id)
    for index, part in zip(positions, form.partition, strict=True):
        if part.id is not None:
            fixed["partition", index] = UUID(part.id)
        if part.uuid is not None and part.filesystem in FILESYSTEMS:
            fixed["partition", index, "filesystem"] = filesystem(part.filesystem).uuid_of(part.uuid.lower())
    return fixed


def _partition(name: str, asked: DiskAsked, index: int, position: int, system: GuestSystem) -> ResolvedPartition:
    disk, form = asked.disk, asked.disk.partition[index - 1]
    alone = len(disk.partition) == 1
    label = form.label if form.label is not None else (name if alone else f"{name}-{position}")
    defaults = system.partition_defaults(PartitionAsked(asked.guest, form))
    kept = replace(defaults, filesystem=_NONE) if form.pool else defaults
    return _content(form, index, position, label, kept, form, usable=disk.usable if alone else None)


def _content(
    form: ContentForm,
    index: int,
    position: int,
    label: str,
    defaults: PartitionDefaults,
    part: PartitionForm | None = None,
    usable: int | None = None,
) -> ResolvedPartition:
    """Return what lies on a partition or volume, settled; `part` is the form if it is a partition.

    `usable` is what must be filled of it where the form itself does not say.
    """
    return ResolvedPartition(
        index=index,
        position=position,
        number=part.number if part else None,
        id=part.id.lower() if part and part.id else None,
        uuid=form.uuid.lower() if form.uuid else None,
        label=label,
        label_is_chosen=form.label is not None,
        part_label=label if part is None or part.part_label is None else part.part_label,
        size=form.size or "rest",
        usable=form.usable or usable,
        filesystem=None if defaults.filesystem == _NONE else defaults.filesystem,
        purpose=form.purpose,
        at=form.at,
        owner=defaults.owner,
        mode=_USUAL_MODE if form.mode is None else form.mode,
        access=tuple(part.access.items()) if part else (),
        attributes=defaults.attributes if part else (),
        needed=form.needed,
        move_files=form.move_files,
        mount_options=form.options,
        unit=form.block,
        inode_each=form.inode_each,
        journal=form.journal,
        reserved=form.reserved,
        pool=part.pool if part else None,
        seal=form.seal,
    )


def check_asked(sheet: Sheet) -> Iterator[Finding]:
    """Yield what a sheet, as it was written, asks of guests whose systems cannot give it."""
    for name, guest in sheet.guest.items():
        system = guest_system(guest.runs)
        yield from _unused(guest, system.unused_keys[GuestForm], guest_place(name), system)
    for name in sheet.disk:
        yield from check_disk_asked(_asked(sheet, name))


def check_disk_asked(asked: DiskAsked) -> Iterator[Finding]:
    """Yield what a disk, as it was written, asks of a guest whose system cannot give it."""
    system, form, place = guest_system(asked.guest.runs), asked.disk, asked.place
    yield from _too_many(form, place, system.disk_defaults(asked).table)
    if offers(system, ChecksDisks):
        yield from system.check_disk(asked)
    yield from _unused(form, system.unused_keys[DiskForm], place, system)
    for index, part in enumerate(form.partition, 1):
        yield from _unused(part, system.unused_keys[PartitionForm], place.part(index), system)
        if part.at is not None and not system.can_mount_at(part.at):
            reason = f"{part.at} is not a mount point that {system.name} guests have"
            where = place.part(index).key("at")
            yield rules.mount_point_not_possible.error(where, reason, system.mount_point_hint)


def _too_many(form: DiskForm, place: Place, table: str) -> Iterator[Finding]:
    most = len(form.partition) if table == _NONE else table_format(table).most_partitions
    if len(form.partition) > most:
        yield disk_rules.size_over_table.error(place, len(form.partition), table, most)


def _unused(
    form: GuestForm | DiskForm | PartitionForm, names: Iterable[str], place: Place, system: GuestSystem
) -> Iterator[Finding]:
    for name in names:
        if form.has(name):
            key = key_of(type(form), name)
            yield filesystem_rules.key_means_nothing.error(place.key(key), key, system.name)
