"""One disk of a sheet worked out: sizes, places, filesystems, ids, and what is to be said about them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

from narvet.filesystems import filesystem
from narvet.filesystems.contract import Filesystem, Options, UnfitError
from narvet.findings import Finding
from narvet.identity import derive
from narvet.images import image_format
from narvet.images.contract import ImageFormat, Making, misfits
from narvet.layout.facts import Facts, RootFacts
from narvet.layout.model import LaidDisk, LaidPartition, Piece
from narvet.layout.place import PartSize, Place, disk_size_for, pieces, place
from narvet.layout.usable import smallest_size
from narvet.sheet.model import DiskForm, PartitionForm, Sheet
from narvet.tables import table_format
from narvet.tables.contract import Bounds, Reserved, TableFormat, check_alignment
from narvet.units import align_up, show_binary, show_both

_LARGE = 1 << 62  # any disk large enough to ask a table how much it takes at either end
_LARGEST_ID = (1 << 32) - 2  # the largest user or group number; the next means "no one"


@dataclass(frozen=True)
class _Asked:
    """A partition as asked, with what the sheet leaves to defaults and to its guest filled in."""

    number: int
    form: PartitionForm
    label: str
    filesystem_label: str
    uid: int
    gid: int
    options: Options


def image_path(store_path: str, disk: str, form: DiskForm) -> str:
    """Return where a disk's image is kept."""
    return f"{store_path}/{disk}{image_format(form.format).suffix}"


def lay_disk(sheet: Sheet, name: str, form: DiskForm, facts: Facts, slot: str | None) -> tuple[LaidDisk, list[Finding]]:
    """Return a disk worked out and what is to be said about it."""
    found: list[Finding] = []
    where = f"disk.{name}"
    root = facts.roots.get(form.guest, RootFacts())
    table = None if form.table == "none" else table_format(form.table)
    asked = [_asked(sheet, name, index, form, root, found) for index in range(1, len(form.partition) + 1)]
    if table:
        found += _table_checks(table, form, asked, where)
    sizes, size = _sizes(form, table, asked, where, found)
    bounds = table.bounds(size, form.sector) if table else Bounds(0, size)
    reserved = table.reserved(size, form.sector) if table else ()
    ahead = _ahead(table, len(asked), form.sector)
    places = place(sizes, bounds, form.align, form.sector, ahead) if table else [Place(0, size)]
    if table and size > table.most(form.sector):
        found.append(_past_table(table, size, form.sector, f"{where}.size"))
    found += _place_checks(bounds, places, sizes, where) if table else []
    flash = sheet.store[form.store].flash
    partitions = tuple(
        _partition(sheet, name, one, spot, table, found, flash=flash) for one, spot in zip(asked, places, strict=True)
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
        table=form.table,
        table_id=_table_id(sheet, name, table) if table else None,
        partitions=partitions,
        pieces=_pieces(size, reserved, partitions),
        stores_now=image_format(form.format).footprint(making, written),
    )
    return disk, found


def _asked(sheet: Sheet, disk: str, number: int, form: DiskForm, root: RootFacts, found: list[Finding]) -> _Asked:
    part = form.partition[number - 1]
    where = f"disk.{disk}.partition {number}"
    owner = resolve_owner(part.owner, root)
    if owner is None:
        found.append(
            Finding(
                "owner-unknown", "error", f"{where}.owner",
                f'"{part.owner}" is not a user and group of guest {form.guest}'
                + ("" if root.users else ", whose users are not known without its root"),
                'correct the name, make the account in the guest first, or give numbers, such as "1200:1200"',
            )
        )  # fmt: skip
    label = part.label or (disk if len(form.partition) == 1 else f"{disk}-{number}")
    fs_label = label
    if part.filesystem != "none":
        kind = filesystem(part.filesystem)
        fs_label = _filesystem_label(kind, label, found, f"{where}.label", chosen=part.label is not None)
        found += _key_checks(kind, part, form.sector, where)
    uid, gid = owner or (0, 0)
    stripe = sheet.store[form.store].stripe
    options = Options(
        uuid=derive(sheet.identity, "disk", disk, "partition", number, "filesystem"),
        label=fs_label,
        purpose=part.purpose,
        sector=form.sector,
        uid=uid,
        gid=gid,
        mode=part.mode,
        made=sheet.dated,
        block=part.block,
        inode_each=part.inode_each,
        journal=part.journal,
        reserved=part.reserved,
        chunk=stripe.chunk if stripe else 0,
        stripe=stripe.chunk * stripe.disks if stripe else 0,
    )
    return _Asked(number, part, label, fs_label, uid, gid, options)


def _filesystem_label(kind: Filesystem[Any], label: str, found: list[Finding], where: str, *, chosen: bool) -> str:
    """Return the label as the filesystem stores it; one that nobody chose is made to fit."""
    stored = kind.stored_label(label)
    if stored is None and not chosen:
        stored = kind.stored_label("".join(sign if sign.isascii() and sign.isalnum() else "-" for sign in label))
    if stored is None:
        found.append(
            Finding(
                "label-not-possible", "error", where, f'"{label}" has characters that {kind.name} cannot store',
                "use letters and digits",
            )
        )  # fmt: skip
        return ""
    if not chosen:
        while kind.label_length(stored) > kind.label_limit:
            stored = stored[:-1]
    elif kind.label_length(stored) > kind.label_limit:
        found.append(_label_too_long(where, label, kind.name, kind.label_length(stored), kind.label_limit))
    return stored


def _key_checks(kind: Filesystem[Any], part: PartitionForm, sector: int, where: str) -> Iterator[Finding]:
    """Yield the keys that this filesystem does not heed, and an allocation unit it does not have."""
    for key in ("block", "inode_each", "journal", "reserved"):
        if getattr(part, key) is not None and key not in kind.keys:
            yield Finding(
                "key-not-heeded", "error", f"{where}.{key}", f"{kind.name} has no {key} to set", f"leave {key} out"
            )
    units = kind.units(sector)
    if part.block is not None and "block" in kind.keys and part.block not in units:
        known = ", ".join(show_binary(unit) for unit in units)
        yield Finding(
            "key-not-heeded", "error", f"{where}.block",
            f"{kind.name} cannot have allocation units of {show_binary(part.block)}; it can have {known}",
            "choose one of those, or leave block out",
        )  # fmt: skip


def resolve_owner(owner: str, root: RootFacts) -> tuple[int, int] | None:
    """Return uid and gid of "user" or "user:group"; a user alone brings the group of its account, or its own number."""
    user, _, group = owner.partition(":")
    if user.isdigit():
        uid, own_group = int(user), int(user)
    elif user in root.users:
        uid, own_group = root.users[user]
    else:
        return None
    gid = own_group if not group else int(group) if group.isdigit() else root.groups.get(group)
    if gid is None or max(uid, gid) > _LARGEST_ID:
        return None
    return uid, gid


def _table_checks(table: TableFormat, form: DiskForm, asked: list[_Asked], where: str) -> Iterator[Finding]:
    if len(asked) > table.most_partitions:
        yield Finding(
            "size-over-table", "error", where,
            f"{len(asked)} partitions are asked for; {table.name} holds {table.most_partitions}",
            "spread them over more disks",
        )  # fmt: skip
    for one in asked:
        length = table.label_length(one.label)
        if length > table.label_limit:
            place_ = f"{where}.partition {one.number}.label"
            yield _label_too_long(place_, one.label, table.name, length, table.label_limit)
    yield from check_alignment(form.align, f"{where}.align")


def _ahead(table: TableFormat | None, count: int, sector: int) -> list[int]:
    return [table.ahead(index, count, sector) if table else 0 for index in range(count)]


def _table_id(sheet: Sheet, disk: str, table: TableFormat) -> str:
    return table.known_as(derive(sheet.identity, "disk", disk, "table"))


def _part_id(sheet: Sheet, disk: str, table: TableFormat, index: int, number: int) -> str:
    known_as = derive(sheet.identity, "disk", disk, "partition", index)
    return table.part_known_as(_table_id(sheet, disk, table), known_as, number)


def _label_too_long(where: str, label: str, what: str, length: int, limit: int) -> Finding:
    return Finding(
        "label-too-long", "error", where, f'"{label}" takes {length}; {what} stores labels of at most {limit}',
        "choose a shorter label",
    )  # fmt: skip


def _sizes(
    form: DiskForm, table: TableFormat | None, asked: list[_Asked], where: str, found: list[Finding]
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
        size = align_up(fit(align_up(form.size, form.sector)), form.sector)
        if size != form.size:
            found.append(
                Finding(
                    "size-rounded", "note", f"{where}.size",
                    f"{form.size} bytes are not a size that {form.format} and sectors of {form.sector} can have; "
                    f"the disk has {size}",
                )
            )  # fmt: skip
        return sizes, size
    head = table.bounds(_LARGE, form.sector).first if table else 0
    runs = table.reserved(_LARGE, form.sector) if table else ()
    tail = runs[-1].size if len(runs) > 1 else 0
    fixed = [one for one in sizes if isinstance(one, int)]
    ahead = _ahead(table, len(asked), form.sector)
    return sizes, fit(disk_size_for(fixed, form.align, form.sector, head, tail, ahead))


def _solved(one: _Asked, wanted: int, step: int, where: str, found: list[Finding]) -> int:
    try:
        return smallest_size(filesystem(one.form.filesystem), one.options, wanted, step)
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
                f"{show_both(bounds.end)}, which is {over} bytes less",
                'give it size = "rest", or make the disk larger',
            )  # fmt: skip


def _partition(
    sheet: Sheet, disk: str, one: _Asked, spot: Place, table: TableFormat | None, found: list[Finding], *, flash: bool
) -> LaidPartition:
    form = one.form
    number = table.numbers(len(sheet.disk[disk].partition))[one.number - 1] if table else 0
    kind = None if form.filesystem == "none" else filesystem(form.filesystem)
    laid = LaidPartition(
        number=number,
        label=one.label,
        start=spot.start,
        size=spot.size,
        type=table.partition_type(kind.name if kind else None) if table else "",
        id=_part_id(sheet, disk, table, one.number, number) if table else "",
        filesystem=kind.name if kind else None,
        uuid=kind.known_as(one.options.uuid) if kind else None,
        at=form.at,
        owner=form.owner,
        uid=one.uid,
        gid=one.gid,
        mode=form.mode,
        needed=form.needed,
        mount_options=_mount_options(kind, one, flash=flash) if kind else (),
    )
    if kind is None or not laid.size:
        return laid
    try:
        geometry = kind.geometry(laid.size, replace(one.options, start=laid.start))
    except UnfitError as error:
        found.append(_unfit(error, laid.size, f"disk.{disk}.partition {one.number}"))
        return laid
    return replace(laid, geometry=geometry, shows=kind.capacity(geometry), footprint=kind.footprint(geometry))


def _mount_options(kind: Filesystem[Any], one: _Asked, *, flash: bool) -> tuple[str, ...]:
    """Return the mount options of an entry; those asked for stand in for those that the purpose would bring."""
    asked = one.form.options
    words = kind.mount_options(one.options if asked is None else replace(one.options, purpose="general"))
    return tuple(dict.fromkeys((*words, *(asked or ()), *(("discard",) if flash else ()))))


def _unfit(error: UnfitError, size: int, where: str) -> Finding:
    if error.remedy:
        return Finding("key-not-heeded", "error", where, str(error), error.remedy)
    if size > error.most:
        remedy = f"make the partition at most {show_both(error.most)}"
        return Finding("filesystem-too-large", "error", where, str(error), remedy)
    remedy = f"make the partition at least {show_both(error.least)}"
    return Finding("filesystem-too-small", "error", where, str(error), remedy)


def _pieces(size: int, reserved: tuple[Reserved, ...], parts: tuple[LaidPartition, ...]) -> tuple[Piece, ...]:
    return pieces(size, reserved, [(part.number, Place(part.start, part.size)) for part in parts])


def _format_checks(kind: ImageFormat, making: Making, where: str) -> Iterator[Finding]:
    """Yield what the image format does not allow."""
    for misfit in misfits(kind, making):
        yield Finding("size-over-format", "error", f"{where}.{misfit.key}", misfit.message, misfit.remedy)
