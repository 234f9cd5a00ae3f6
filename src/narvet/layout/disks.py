"""One disk of a sheet worked out: sizes, places, filesystems, ids, and what is to be said about them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from types import MappingProxyType
from typing import Any

from narvet.filesystems import filesystem
from narvet.filesystems.contract import Filesystem, Folder, UnfitError
from narvet.findings import Finding
from narvet.identity import derive
from narvet.images import image_format
from narvet.images.contract import ImageFormat, Making, misfits
from narvet.layout.asked import Asked, ask, label_too_long
from narvet.layout.facts import DEFAULT_SECTOR, Facts, RootFacts, sector_not_recorded
from narvet.layout.letters import Key, volume_id
from narvet.layout.model import LaidDisk, LaidPartition, Piece
from narvet.layout.place import PartSize, Place, disk_size_for, pieces, place
from narvet.layout.usable import smallest_size
from narvet.sheet.model import DiskForm, Sheet
from narvet.tables import table_format
from narvet.tables.contract import Bounds, Reserved, TableFormat, check_alignment
from narvet.units import align_up, show_both, show_bytes

_LARGE = 1 << 62  # any disk large enough to ask a table how much it takes at either end


def image_path(store_path: str, disk: str, form: DiskForm) -> str:
    """Return where a disk's image is kept."""
    return f"{store_path}/{disk}{image_format(form.format).suffix}"


def lay_disk(
    sheet: Sheet,
    name: str,
    form: DiskForm,
    facts: Facts,
    slot: str | None,
    folders: Mapping[Key, tuple[Folder, ...]] = MappingProxyType({}),
) -> tuple[LaidDisk, list[Finding]]:
    """Return a disk of a settled sheet worked out and what is to be said about it; `folders` by partition."""
    found: list[Finding] = []
    where = f"disk.{name}"
    form = _within_table(form, where, found)
    root = facts.roots.get(form.guest, RootFacts())
    table = None if form.table == "none" else table_format(form.table or "")
    asked = [
        ask(sheet, name, index, form, root, folders.get((name, index), ()), found)
        for index in range(1, len(form.partition) + 1)
    ]
    if table:
        found += _table_checks(table, form, asked, where)
    sizes, size = _sizes(form, table, asked, where, found)
    bounds = table.bounds(size, form.sector) if table else Bounds(0, size)
    reserved = table.reserved(size, form.sector) if table else ()
    ahead = _ahead(table, len(asked), form.sector)
    aside = _set_aside(sheet, name, form, table, bounds.first) if table and form.set_aside else ()
    bounds = replace(bounds, first=aside[0].end) if aside else bounds
    places = place(sizes, bounds, form.align, form.sector, ahead) if table else [Place(0, size)]
    if table and size > table.most(form.sector):
        found.append(_past_table(table, size, form.sector, f"{where}.size"))
    found += _place_checks(bounds, places, sizes, where) if table else []
    partitions = (
        *aside,
        *(
            _partition(sheet, name, one, spot, table, len(aside), found)
            for one, spot in zip(asked, places, strict=True)
        ),
    )
    making = Making(
        size=size,
        sector=form.sector,
        space=form.space,
        id=derive(sheet.identity, "disk", name, "image"),
        made=sheet.dated,
        block=form.block,
        pieces=form.pieces,
        packed=form.packed,
    )
    found += _format_checks(image_format(form.format), making, where)
    written = sum(run.size for run in reserved) + sum(part.footprint for part in partitions)
    disk = LaidDisk(
        name=name,
        guest=form.guest,
        store=form.store,
        path=image_path(facts.stores[form.store].path, name, form),
        format=form.format,
        making=making,
        slot=slot,
        table=form.table or "",
        table_id=_table_id(sheet, name, table) if table else None,
        partitions=partitions,
        pieces=_pieces(size, reserved, partitions),
        stores_now=image_format(form.format).footprint(making, written),
        runs=sheet.guest[form.guest].runs,
    )
    return disk, found


def _set_aside(sheet: Sheet, disk: str, form: DiskForm, table: TableFormat, first: int) -> tuple[LaidPartition]:
    """Return the partition that Windows expects ahead of all others, for what it may need later."""
    known_as = derive(sheet.identity, "disk", disk, "aside")
    kept = LaidPartition(
        number=1,
        label="set aside",
        start=align_up(first, form.align),
        size=align_up(form.set_aside or 0, form.sector),
        type=table.aside,
        id=table.part_known_as(_table_id(sheet, disk, table), known_as, 1),
        filesystem=None, uuid=None, at=None, owner="", uid=0, gid=0, mode=0, needed=False,
    )  # fmt: skip
    return (kept,)


def _within_table(form: DiskForm, where: str, found: list[Finding]) -> DiskForm:
    """Return a disk with no more partitions than its table holds; those left out cost nothing further."""
    most = len(form.partition) if form.table == "none" else table_format(form.table or "").most_partitions
    if len(form.partition) > most:
        found.append(
            Finding(
                "size-over-table", "error", where,
                f"{len(form.partition)} partitions are asked for; {form.table} holds {most}",
                "spread them over more disks",
            )
        )  # fmt: skip
    return form.model_copy(update={"partition": form.partition[:most]})


def _table_checks(table: TableFormat, form: DiskForm, asked: list[Asked], where: str) -> Iterator[Finding]:
    for one in asked:
        length = table.label_length(one.label)
        if length > table.label_limit:
            place_ = f"{where}.partition {one.number}.label"
            yield label_too_long(place_, one.label, table.name, length, table.label_limit)
    yield from check_alignment(form.align, f"{where}.align")


def _ahead(table: TableFormat | None, count: int, sector: int) -> list[int]:
    return [table.ahead(index, count, sector) if table else 0 for index in range(count)]


def _table_id(sheet: Sheet, disk: str, table: TableFormat) -> str:
    return table.known_as(derive(sheet.identity, "disk", disk, "table"))


def _part_id(sheet: Sheet, disk: str, table: TableFormat, index: int, number: int) -> str:
    return table.part_known_as(_table_id(sheet, disk, table), volume_id(sheet, disk, index), number)


def _sizes(
    form: DiskForm, table: TableFormat | None, asked: list[Asked], where: str, found: list[Finding]
) -> tuple[list[PartSize], int]:
    """Return what each partition takes, with `usable` solved, and the size of the disk."""
    sizes: list[PartSize] = []
    for one in asked:
        wanted = one.form.usable or (form.usable if len(asked) == 1 else None)
        if wanted:
            sizes.append(_solved(one, wanted, form.align, f"{where}.partition {one.number}", found))
        else:
            sizes.append(one.form.size or "rest")
    fit = image_format(form.format).fit
    if form.size is not None:
        size = align_up(fit(align_up(form.size, form.sector), form.block), form.sector)
        if size != form.size:
            found.append(
                Finding(
                    "size-rounded", "note", f"{where}.size",
                    f"{form.format} with {form.sector}-byte sectors cannot have exactly {show_bytes(form.size)}; "
                    f"the disk gets {show_bytes(size)}",
                )
            )  # fmt: skip
        return sizes, size
    head = table.bounds(_LARGE, form.sector).first if table else 0
    head = align_up(head, form.align) + form.set_aside if form.set_aside else head
    runs = table.reserved(_LARGE, form.sector) if table else ()
    tail = runs[-1].size if len(runs) > 1 else 0
    fixed = [one for one in sizes if isinstance(one, int)]
    ahead = _ahead(table, len(asked), form.sector)
    return sizes, fit(disk_size_for(fixed, form.align, form.sector, head, tail, ahead), form.block)


def _solved(one: Asked, wanted: int, step: int, where: str, found: list[Finding]) -> int:
    try:
        return smallest_size(filesystem(one.form.filesystem or ""), one.options, wanted, step)
    except UnfitError as error:
        found.append(
            Finding("filesystem-too-large", "error", f"{where}.usable", str(error), "ask for less, or for two disks")
        )
        return wanted


def _past_table(table: TableFormat, size: int, sector: int, where: str) -> Finding:
    return Finding(
        "size-over-table", "error", where,
        f"{table.name} reaches {show_both(table.most(sector))} with sectors of {sector} bytes; the disk has "
        f"{show_both(size)}, whose rest no partition could use",
        'use table = "gpt", or a smaller disk',
    )  # fmt: skip


def _place_checks(bounds: Bounds, places: list[Place], sizes: list[PartSize], where: str) -> Iterator[Finding]:
    if bounds.end <= bounds.first:
        yield Finding(
            "disk-too-small", "error", where, "the disk cannot hold even its partition table", "make the disk larger"
        )
        return
    for number, (spot, size) in enumerate(zip(places, sizes, strict=True), 1):
        if not spot.size:
            yield Finding(
                "rest-is-empty", "error", f"{where}.partition {number}",
                "nothing is left for it on the disk", "make the disk larger or another partition smaller",
            )  # fmt: skip
        elif spot.start + spot.size > bounds.end and size != "rest":
            over = spot.start + spot.size - bounds.end
            yield Finding(
                "partition-past-end", "error", f"{where}.partition {number}",
                f"it would end at {show_both(spot.start + spot.size)}; partitions may use the disk up to "
                f"{show_both(bounds.end)}, which is {show_bytes(over)} less",
                'give it size = "rest", or make the disk larger',
            )  # fmt: skip


def _partition(
    sheet: Sheet, disk: str, one: Asked, spot: Place, table: TableFormat | None, before: int, found: list[Finding]
) -> LaidPartition:
    """Return a partition laid out; `before` partitions that no one asked for come first."""
    form, disk_form = one.form, sheet.disk[disk]
    runs, flash = sheet.guest[disk_form.guest].runs, sheet.store[disk_form.store].flash
    number = table.numbers(len(disk_form.partition))[one.number - 1] + before if table else 0
    kind = None if form.filesystem == "none" else filesystem(form.filesystem or "")
    known = table.attributes if table else {}
    laid = LaidPartition(
        number=number,
        label=one.label,
        start=spot.start,
        size=spot.size,
        type=table.partition_type(kind.name if kind else None, runs) if table else "",
        id=_part_id(sheet, disk, table, one.number, number) if table else "",
        filesystem=kind.name if kind else None,
        uuid=kind.known_as(one.options.uuid) if kind else None,
        at=form.at,
        owner=(form.owner or "") if runs == "linux" or form.filesystem == "ntfs" else "",
        uid=one.uid,
        gid=one.gid,
        mode=form.mode or 0,
        needed=form.needed,
        mount_options=_mount_options(kind, one, flash=flash) if kind else (),
        index=one.number,
        attributes=sum(known.get(name, 0) for name in form.attributes or ()),
        volume=str(volume_id(sheet, disk, one.number)) if runs == "windows" else "",
        access=tuple(form.access.items()),
    )
    if kind is None or not laid.size:
        return laid
    try:
        geometry = kind.geometry(laid.size, replace(one.options, start=laid.start))
    except UnfitError as error:
        found.append(_unfit(error, laid.size, f"disk.{disk}.partition {one.number}"))
        return laid
    return replace(laid, geometry=geometry, shows=kind.capacity(geometry), footprint=kind.footprint(geometry))


def _mount_options(kind: Filesystem[Any], one: Asked, *, flash: bool) -> tuple[str, ...]:
    """Return the mount options of an entry; those asked for stand in for those that the purpose would bring."""
    asked = one.form.options
    words = kind.mount_options(one.options if asked is None else replace(one.options, purpose="general"))
    return tuple(dict.fromkeys((*words, *(asked or ()), *(("discard",) if flash else ()))))


def _unfit(error: UnfitError, size: int, where: str) -> Finding:
    if error.remedy:
        return Finding("key-without-effect", "error", where, str(error), error.remedy)
    if size > error.most:
        remedy = f"make the partition at most {show_both(error.most)}"
        return Finding("filesystem-too-large", "error", where, str(error), remedy)
    remedy = f"make the partition at least {show_both(error.least)}"
    return Finding("filesystem-too-small", "error", where, str(error), remedy)


def _pieces(size: int, reserved: tuple[Reserved, ...], parts: tuple[LaidPartition, ...]) -> tuple[Piece, ...]:
    return pieces(size, reserved, [(part.number, Place(part.start, part.size)) for part in parts])


def _format_checks(kind: ImageFormat, making: Making, where: str) -> Iterator[Finding]:
    """Yield what the image format does not allow, and what it does not record."""
    if making.sector != DEFAULT_SECTOR and not kind.records_sector:
        yield sector_not_recorded(kind.name, making.sector, f"{where}.sector")
    for misfit in misfits(kind, making):
        yield Finding("size-over-format", "error", f"{where}.{misfit.key}", misfit.message, misfit.remedy)
