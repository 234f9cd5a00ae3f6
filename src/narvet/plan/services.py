"""Volumes that services hand out: what is ordered for a disk, and what keeps it from being ordered. Pure."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from posixpath import basename, splitext
from typing import TYPE_CHECKING

from narvet.formats.images.contract import ImageSpec, Order
from narvet.ground.findings import Finding, disk_place, store_place
from narvet.ground.rules import services as rules
from narvet.ground.values import replace
from narvet.model.estate import Store
from narvet.model.facts import Facts
from narvet.model.layout import PlannedDisk
from narvet.model.moves import Aspect, Difference
from narvet.sheet.machines import StoreForm
from narvet.sheet.resolved import ResolvedDisk, ResolvedSheet

if TYPE_CHECKING:
    from narvet.services.words import VolumeClass

VOLUME = "volume"
_FREELY = (Aspect.IMAGE, Aspect.ATTACHED)
"""What is done about a volume."""


def with_order(spec: ImageSpec, disk: ResolvedDisk, sheet: ResolvedSheet, facts: Facts) -> ImageSpec:
    """Return what an image is made by, with the order of a volume where a service has those of its store."""
    store = sheet.stores[disk.store]
    if store.service is None:
        return spec
    tags = (("sheet", str(sheet.identity)), ("disk", disk.was or disk.name), ("key", str(spec.id)))
    kind = class_of(store, facts.found.stores[disk.store])
    operations = kind.operations_of(spec.size) if kind else 0
    order = Order(store.service, store.zone or "", store.volume_class or "", str(spec.id), tags, operations)
    return replace(spec, order=order)


def class_of(form: StoreForm, there: Store) -> VolumeClass | None:
    """Return the class that a store's volumes are of, None where its service has none of that name in its zone."""
    zones = there.offer.zones if there.offer is not None else ()
    zone = next((one for one in zones if one.name == form.zone), None)
    return next((one for one in zone.classes if one.name == form.volume_class), None) if zone else None


def check_services(
    sheet: ResolvedSheet, disks: Sequence[PlannedDisk], facts: Facts, differences: Mapping[str, Sequence[Difference]]
) -> Iterator[Finding]:
    """Yield what keeps volumes from being ordered, attached, or as the sheet has them."""
    kept_in: dict[str, list[PlannedDisk]] = defaultdict(list)
    for disk in disks:
        kept_in[disk.store].append(disk)
    for name, form in sheet.stores.items():
        if form.service is not None:
            there = facts.found.stores[name]
            yield from _check_store(sheet, name, there, kept_in[name])
            yield from _check_ordered(name, there, disks, facts)
    yield from _check_count(sheet, facts, kept_in)
    for disk in disks:
        found = facts.found.disks.get(disk.name)
        if disk.spec.order is not None or (found is not None and found.image.format == VOLUME):
            yield from _check_changes(disk, differences[disk.name])


def _check_store(sheet: ResolvedSheet, name: str, there: Store, disks: list[PlannedDisk]) -> Iterator[Finding]:
    form, where = sheet.stores[name], store_place(name)
    if there.offer is None:
        yield rules.service_not_answering.error(where.key("service"), there.problem or "it was not asked")
        return
    zones = {one.name: one for one in there.offer.zones}
    zone = zones.get(form.zone or "")
    if zone is None:
        yield rules.not_offered.error(where.key("zone"), "zone", form.zone, ", ".join(zones))
        return
    kind = class_of(form, there)
    if kind is None:
        known = ", ".join(one.name for one in zone.classes)
        yield rules.not_offered.error(where.key("class"), "class", form.volume_class, known)
        return
    to_make = [disk for disk in disks if disk.state == "to make"]
    for disk in to_make:
        if not kind.least <= disk.size <= kind.most or disk.size % kind.step:
            yield rules.size_not_offered.error(
                disk_place(disk.name).key("size"), disk.size, kind.name, kind.least, kind.most, kind.step,
                kind.fit(disk.size),
            )  # fmt: skip
    guests = {one.name: one for one in there.machines}
    for disk in disks:
        guest = guests.get(disk.guest)
        if guest is None or guest.zone != zone.name:
            where_ = guest.zone if guest else ""
            yield rules.guest_not_there.error(disk_place(disk.name).key("guest"), disk.guest, zone.name, where_)


def _check_ordered(store: str, there: Store, disks: Sequence[PlannedDisk], facts: Facts) -> Iterator[Finding]:
    """Yield the volumes that a service has of a sheet, and of which no record is here."""
    own = {str(disk.spec.id): disk for disk in disks if disk.spec.order is not None}
    strays = {splitext(basename(one.path))[0] for one in facts.found.strays if one.image.format == VOLUME}
    for key, (number, name) in there.ordered.items():
        disk = own.get(key)
        if disk is None and name not in strays:
            yield rules.volume_left_over.warning(store_place(store), number, name)
        elif disk is not None and disk.state == "to make" and disk.name not in facts.begun_volumes:
            yield rules.volume_without_record.error(disk_place(disk.name), number, disk.path)


def _check_count(sheet: ResolvedSheet, facts: Facts, kept_in: Mapping[str, list[PlannedDisk]]) -> Iterator[Finding]:
    """Yield what keeps a service from making as many volumes as the stores that it has need in all."""
    needed: dict[int, int] = defaultdict(int)
    for name in sheet.stores:
        there = facts.found.stores[name]
        if there.offer is not None:
            quota = there.offer.quota
            to_make = (str(disk.spec.id) for disk in kept_in[name] if disk.state == "to make")
            needed[there.device] += sum(key not in there.ordered for key in to_make)
            left = max(quota.volumes - quota.used_volumes, 0)
            if needed[there.device] > left:
                yield rules.too_many_volumes.error(store_place(name), needed[there.device], left)


def _check_changes(disk: PlannedDisk, differences: Sequence[Difference]) -> Iterator[Finding]:
    """Yield the first thing about a volume that is to be changed and cannot be."""
    for one in differences:
        elsewhere = one.aspect is Aspect.ATTACHED and one.found is not None
        if one.answer.is_move and (one.aspect not in _FREELY or elsewhere):
            what = one.aspect.title or "something"
            yield rules.volume_cannot_change.error(disk_place(disk.name), what)
            return
