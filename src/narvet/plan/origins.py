"""Disks that come from another image, as copies or as children: what they will be, and what is to be said about it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from uuid import UUID

from narvet.formats.images import image_format
from narvet.formats.images.contract import ImageSpec
from narvet.formats.tables import table_format
from narvet.ground.extents import Extent
from narvet.ground.findings import Finding, disk_place
from narvet.ground.rules import disks as rules
from narvet.ground.rules import images as image_rules
from narvet.ground.units import align_up
from narvet.model.estate import NO_TABLE, Disk, Image
from narvet.model.facts import Facts, OriginFacts
from narvet.model.layout import PlannedDisk
from narvet.plan.disks import PlannedImage, check_violations
from narvet.plan.place import pieces
from narvet.sheet.resolved import ResolvedDisk


def plan_origin(
    disk: ResolvedDisk, path: str, origin: OriginFacts, existing: Disk | None, image_id: UUID, dated: int
) -> tuple[PlannedImage, tuple[Finding, ...]]:
    """Return a disk that is a copy or a child planned, at `path`, and what is to be said about it.

    `existing` is what its image holds already; `dated` is seconds since 1970.
    """
    source = origin.found or existing
    kind = image_format(disk.format)
    size, sector_size = _size(disk, source)
    spec = ImageSpec(
        size, sector_size, disk.space, image_id, dated, disk.block_size, origin.base, disk.pieces, disk.packed
    )
    table = source.table if source else NO_TABLE
    partitions = source.partitions if source else ()
    reserved = table_format(table).reserved(size, sector_size) if table != NO_TABLE else ()
    image = Image(
        path=path,
        format=disk.format,
        space=disk.space,
        size=size,
        sector_size=sector_size,
        stored=kind.footprint(spec, 0 if disk.is_child else origin.data),
        block_size=spec.block_size or 0,
        base=origin.path if disk.is_child else None,
    )
    wanted = Disk(image, table, source.table_id if source else "", partitions)
    places = tuple((part.number, Extent(part.start, part.size)) for part in partitions)
    found = tuple(_checks(disk, origin, existing, source, spec))
    return PlannedImage(wanted, spec, pieces(size, reserved, places)), found


def _checks(
    disk: ResolvedDisk, origin: OriginFacts, existing: Disk | None, source: Disk | None, spec: ImageSpec
) -> Iterator[Finding]:
    if origin.problem and existing is None:
        yield rules.origin_unfit.error(disk.place.key("base" if disk.is_child else "copy_of"), origin.problem)
    yield from _size_checks(disk, source, spec.size)
    yield from check_violations(image_format(disk.format), spec, disk.place)


def _size(disk: ResolvedDisk, source: Disk | None) -> tuple[int, int]:
    """Return bytes and sector size of the disk: its origin's, or larger if it is a copy and more is asked for."""
    there = source.size if source else disk.size or disk.sector_size
    sector_size = (source.image.sector_size if source else 0) or disk.sector_size
    wanted = disk.size or there
    if disk.is_child:
        return wanted, sector_size
    fit = image_format(disk.format).fit
    return align_up(fit(align_up(max(wanted, there), sector_size), disk.block_size), sector_size), sector_size


def _size_checks(disk: ResolvedDisk, source: Disk | None, size: int) -> Iterator[Finding]:
    where, there = disk.place.key("size"), source.size if source else disk.size or disk.sector_size
    wanted = disk.size or there
    if wanted < there:
        yield rules.copy_too_small.error(where, there, wanted)
    elif size != wanted:
        yield image_rules.size_rounded.note(where, disk.format, wanted, size)


def check_origins(disks: Iterable[PlannedDisk], facts: Facts) -> Iterator[Finding]:
    """Yield what copies and children mean for the other disks of the sheet."""
    carried: dict[tuple[str, str], str] = {}
    for disk in disks:
        if disk.origin is None:
            continue
        there, place = facts.origins[disk.name], disk_place(disk.name)
        if there.disk is not None and disk.origin.how == "child":
            yield rules.base_in_use.error(place.key("base"), there.disk)
        if not disk.wanted.table_id:
            continue
        other = carried.setdefault((disk.guest, disk.wanted.table_id), disk.name)
        if other != disk.name:
            yield rules.ids_twice.warning(place, other)
