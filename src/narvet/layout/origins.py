"""Disks that come from another image, as copies or as children: what they will be, and what is to be said about it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from narvet.findings import Finding
from narvet.identity import derive
from narvet.images import image_format
from narvet.images.contract import Making, misfits
from narvet.layout.disks import image_path
from narvet.layout.facts import Facts, PartitionFound, Survey
from narvet.layout.model import LaidDisk, LaidPartition, Origin
from narvet.layout.place import Place, pieces
from narvet.sheet.model import DiskForm, Sheet
from narvet.tables import table_format
from narvet.units import align_up, show_both, show_bytes


def lay_origin(
    sheet: Sheet, name: str, form: DiskForm, facts: Facts, slot: str | None
) -> tuple[LaidDisk, list[Finding]]:
    """Return a disk that is a copy or a child worked out, and what is to be said about it."""
    there, found = facts.origins[name], list[Finding]()
    where = f"disk.{name}.{'copy_of' if form.base is None else 'base'}"
    source = there.survey or facts.images.get(name)
    if there.problem and name not in facts.images:
        found.append(
            Finding("origin-unfit", "error", where, there.problem, "correct the path, or repair what is there")
        )
    kind = image_format(form.format)
    size, sector = _size(form, source, f"disk.{name}.size", found)
    making = Making(
        size, sector, form.space, derive(sheet.identity, "disk", name, "image"), sheet.dated, form.block,
        there.base, form.pieces, form.packed,
    )  # fmt: skip
    for misfit in misfits(kind, making):
        found.append(Finding("size-over-format", "error", f"disk.{name}.{misfit.key}", misfit.message, misfit.remedy))
    partitions = tuple(_partition(part) for part in source.partitions) if source else ()
    table = source.table if source else "none"
    reserved = table_format(table).reserved(size, sector) if table != "none" else ()
    places = [(part.number, Place(part.start, part.size)) for part in partitions]
    disk = LaidDisk(
        name=name,
        guest=form.guest,
        store=form.store,
        path=image_path(facts.stores[form.store].path, name, form),
        format=form.format,
        making=making,
        slot=slot,
        table=table,
        table_id=(source.table_id or None) if source else None,
        partitions=partitions,
        pieces=pieces(size, reserved, places),
        stores_now=kind.footprint(making, 0 if form.base else there.data),
        runs=sheet.guest[form.guest].runs,
        origin=Origin("copy" if form.base is None else "child", there.path),
    )
    return disk, found


def _size(form: DiskForm, source: Survey | None, where: str, found: list[Finding]) -> tuple[int, int]:
    """Return bytes and sector of the disk: its origin's, or larger if it is a copy and more is asked for."""
    there = source.size if source else form.size or form.sector
    sector = (source.sector if source else 0) or form.sector
    wanted = form.size or there
    if wanted < there:
        found.append(
            Finding(
                "origin-unfit", "error", where,
                f"the disk it is a copy of has {show_both(there)}, more than the {show_both(wanted)} asked for",
                "ask for at least as much, or leave size out",
            )
        )  # fmt: skip
    size = (
        wanted
        if form.base
        else align_up(image_format(form.format).fit(align_up(max(wanted, there), sector), form.block), sector)
    )
    if size != wanted and wanted >= there:
        message = f"{form.format} cannot have exactly {show_bytes(wanted)}; the disk gets {show_bytes(size)}"
        found.append(Finding("size-rounded", "note", where, message))
    return size, sector


def _partition(found: PartitionFound) -> LaidPartition:
    place, inside = found.place, found.filesystem
    return LaidPartition(
        number=place.number,
        label=place.label or (inside.label if inside else ""),
        start=place.start,
        size=place.size,
        type=place.type,
        id=place.id,
        filesystem=inside.kind if inside else None,
        uuid=inside.uuid if inside else None,
        at=None,
        owner="",
        uid=inside.uid or 0 if inside else 0,
        gid=inside.gid or 0 if inside else 0,
        mode=inside.mode or 0 if inside else 0,
        needed=False,
    )


def check_origins(disks: Iterable[LaidDisk], facts: Facts) -> Iterator[Finding]:
    """Yield what copies and children mean for the other disks of the sheet."""
    disks = [disk for disk in disks if disk.origin]
    carried: dict[tuple[str, str], str] = {}
    for disk in disks:
        there = facts.origins[disk.name]
        if there.disk is not None and disk.origin and disk.origin.how == "child":
            yield Finding(
                "base-in-use", "error", f"disk.{disk.name}.base",
                f"it is the image of disk {there.disk}, which its guest writes to; a base must not change",
                "take a copy of it as the base, or take that disk out of the sheet",
            )  # fmt: skip
        if not disk.table_id:
            continue
        other = carried.setdefault((disk.guest, disk.table_id), disk.name)
        if other != disk.name:
            yield Finding(
                "ids-twice", "warning", f"disk.{disk.name}",
                f"it carries the same table id and UUIDs as disk {other} of the same guest, which mixes them up",
                "give them to different guests, or attach one at a time",
            )  # fmt: skip
