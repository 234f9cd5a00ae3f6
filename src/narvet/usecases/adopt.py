"""Disks that exist already, taken into a sheet: its tables then ask for just what is there."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any
from uuid import UUID, uuid4

from narvet.apply.execute import sheet_lock
from narvet.block.publish import replace_content
from narvet.formats.filesystems import NAMES as FILESYSTEMS
from narvet.formats.filesystems import filesystem
from narvet.formats.images import ending_of
from narvet.formats.images.trust import Trust
from narvet.formats.pools.tree import Pool, PoolVolume, is_name, written_id
from narvet.formats.tables import table_format
from narvet.ground.errors import RequestError
from narvet.ground.offers import offers
from narvet.ground.units import GIB, KIB
from narvet.ground.values import Frozen
from narvet.guests import guest_system
from narvet.guests.contract import GuestAsked, GuestSystem, UnlocksSeals
from narvet.model.estate import NO_TABLE, Disk, FoundSystem, Guest, Partition
from narvet.observe.certainty import table_doubts
from narvet.observe.images import survey
from narvet.observe.ledger import ledger_path, record
from narvet.plan.diff import asked_of
from narvet.sheet.base import form_of
from narvet.sheet.draft import Drafted, new_sheet, with_tables
from narvet.sheet.files import text_of
from narvet.sheet.form import Sheet
from narvet.sheet.machines import GuestForm
from narvet.sheet.read import parse_sheet
from narvet.usecases.layout import work_out
from narvet.usecases.survey import survey_pools

_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9_.-]{0,63}")
_UNKNOWN = Trust(by_content=True)


class Adopted(Frozen):
    """What was put into the sheet, and what a person should know of it."""

    drafted: Drafted
    remarks: tuple[str, ...]


def adopt(
    sheet: Path,
    images: Sequence[Path],
    *,
    guest: str | None = None,
    title: str = "",
    identity: UUID | None = None,
    dry: bool = False,
) -> Adopted:
    """Put disks that exist into a sheet, or start one with them; nothing is written unless all of them fit.

    `guest` is the name of the guest that uses them; it may be left out where the sheet has just one. Mount points are
    those that its root or registry text tells; entries that are just as the sheet then asks become Narvet's own. Of a
    guest that is new, the one image that a system lives on is its root, and no disk.
    `title` and `identity` are those of a new sheet. A `dry` call writes nothing.

    Raises:
        RequestError: an image cannot be taken in, or the sheet is not valid.
    """
    with sheet_lock(sheet):
        if sheet.exists() and title:
            raise RequestError(f"{sheet}: it is there already; change its title in it")
        text = text_of(sheet) if sheet.exists() else new_sheet(title, identity or uuid4())
        form = parse_sheet(text, sheet)
        name = _guest(sheet, form, guest)
        root = _root_among(images) if name not in form.guest else None
        taking = _Taking(sheet, form, name, root)
        for image in images:
            if root is None or image != root[0]:
                taking.take(image)
        taking.take_pools()
        drafted = with_tables(text, taking.tables, str(sheet))
        if dry:
            return Adopted(drafted, tuple(taking.remarks))
        replace_content(sheet, drafted.text.encode())
        found = work_out(sheet)
        layout = found.layout
        system = guest_system(layout.systems[name])
        user = found.facts.found.guests.get(name, Guest(name))
        there = system.entry_lines(user)
        lines = [line for line in system.entry_lines(layout.guests[name]) if line in there]
        if lines:  # what the sheet now asks for is Narvet's to change from here on
            where = user.root.recorded(layout.systems[name]) if user.root else {}
            record(ledger_path(sheet), str(sheet), {"did": "entries", "guest": name, "lines": lines, **where})
        for disk in layout.disks:
            if disk.name in drafted.disks:
                what = {"did": "image", "disk": disk.name, "size": disk.size, "id": disk.wanted.table_id or None}
                record(ledger_path(sheet), disk.path, {**what, "asked": dict(asked_of(disk.wanted))})
        for pool in layout.pools:
            if any(one.disk in drafted.disks for one in pool.members.values()):
                asked = {one.volume: dict(asked_of(one.wanted)) for one in pool.volumes}
                record(ledger_path(sheet), str(sheet), {"did": "pool", "pool": pool.name, "asked": asked})
    return Adopted(drafted, tuple(taking.remarks))


def _guest(sheet: Path, form: Sheet, name: str | None) -> str:
    if name is not None:
        return name
    if len(form.guest) == 1:
        return next(iter(form.guest))
    raise RequestError(f"{sheet}: say which guest uses the disks, with --guest")


def _root_among(images: Sequence[Path]) -> tuple[Path, FoundSystem] | None:
    """Return the one image that a guest's system lives on, and that system; None where there is none, or several."""
    found = [(image, one) for image in images for one in survey(str(image), systems=True, trust=_UNKNOWN).systems]
    return found[0] if len(found) == 1 and len(images) > 1 else None


class _Taking:
    """The tables of a sheet for images, one after another; `root` is the image that its new guest's system lives on."""

    def __init__(self, sheet: Path, form: Sheet, guest: str, root: tuple[Path, FoundSystem] | None = None) -> None:
        self._sheet = sheet
        self._form = form
        self._guest = guest
        self._stores = {os.path.realpath(sheet.parent / one.path): name for name, one in form.store.items()}
        self._names = {*form.disk}
        self._taken: dict[str, Disk] = {}
        self.tables: list[tuple[str, str, Mapping[str, Any]]] = []
        self.remarks: list[str] = []
        of_guest = form.guest.get(guest)
        if of_guest is None and root is not None:
            image, lives = root
            path = os.path.relpath(os.path.realpath(image), os.path.realpath(sheet.parent)).replace(os.sep, "/")
            keys = {"runs": lives.runs, "root": path}
            self.tables.append(("guest", guest, keys))
            of_guest = form_of(GuestForm, keys)
            self.remarks.append(f"{image}: {lives.name} lives on it, so it is the root of guest {guest}, and no disk")
        elif of_guest is None:
            self.tables.append(("guest", guest, {}))
        self._system = guest_system(of_guest.runs if of_guest else GuestForm().runs)
        self._found = Guest(guest)
        if of_guest is not None:
            self._found = self._system.observe(GuestAsked(guest, of_guest, sheet, ()))

    def take(self, image: Path) -> None:
        """Add the tables of one image."""
        found = survey(str(image), deep=False, trust=_UNKNOWN)
        _check(image, found)
        name = image.stem
        if not _NAME.fullmatch(name) or name in self._names:
            why = "is in the sheet already" if name in self._names else "cannot be the name of a disk"
            raise RequestError(f'{image}: "{name}" {why}; give the file another name first')
        self._names.add(name)
        self._taken[str(image)] = found
        keys: dict[str, Any] = {"guest": self._guest, "store": self._store(image), "size": f"{found.size} B"}
        keys |= {"format": found.image.format, "table": found.table}
        if found.image.sector_size == 4096:
            keys["sector"] = 4096
        if found.table != NO_TABLE:
            keys["table_id"] = found.table_id
        parts = sorted(found.partitions, key=lambda part: part.number)
        if self._system.name == "windows" and found.table == "gpt":
            aside = next((part for part in parts if found.is_set_aside(part)), None)
            keys["set_aside"] = f"{aside.size if aside else 0} B"
            parts = [part for part in parts if part is not aside]
        numbers = table_format(found.table).numbers(len(parts)) if found.table != NO_TABLE else (0,)
        shift = 1 if len(parts) < len(found.partitions) else 0
        keys["partition"] = [
            dict(self._partition(found, part, number + shift if number else 0))
            for part, number in zip(parts, numbers, strict=True)
        ]
        self.tables.append(("disk", name, keys))

    def take_pools(self) -> None:
        """Add the tables of the pools that the images are members of.

        Raises:
            RequestError: a pool is not whole, or cannot be one of a sheet.
        """
        for found in survey_pools(tuple(self._taken.values()), deep=False):
            pool = found.pool
            for one in found.missing:
                hint = pool.member(one).hint
                told = f", which a guest had as {hint}" if hint else ""
                raise RequestError(f"pool {pool.name}: its member {one}{told} is on none of the images; name it, too")
            unfit = not is_name(pool.name) or not _NAME.fullmatch(pool.name) or "." in pool.name
            if unfit or pool.name in self._form.pool:
                raise RequestError(
                    f'pool "{pool.name}": a sheet cannot have a pool of this name; rename it in its guest'
                )
            keys: dict[str, Any] = {"guest": self._guest, "id": written_id(pool.id), "extent": f"{pool.extent} B"}
            if not 64 * KIB <= pool.extent <= GIB:
                del keys["extent"]
            keys["volume"] = []
            for volume in pool.shown:
                disk = found.volumes.get(volume.name)
                if volume.spread is None or disk is None or not _NAME.fullmatch(volume.name):
                    self.remarks.append(f"pool {pool.name}: volume {volume.name} is left to its guest")
                    continue
                keys["volume"].append(dict(self._volume(pool, volume, disk)))
            self.tables.append(("pool", pool.name, keys))

    def _volume(self, pool: Pool, volume: PoolVolume, disk: Disk) -> Iterator[tuple[str, Any]]:
        """Yield the keys of a volume."""
        yield "name", volume.name
        yield "size", f"{volume.count * pool.extent} B"
        if volume.spread != "linear":
            yield "spread", volume.spread
            yield "over", volume.width
        if volume.spread == "striped":
            yield "chunk", f"{volume.chunk} B"
        part = disk.partitions[0] if disk.partitions else None
        inside = part.filesystem if part else None
        known = inside is not None and inside.kind in FILESYSTEMS
        yield "filesystem", inside.kind if inside and known else "none"
        if part is not None:
            yield from self._sealed(disk, part)
        if inside is not None and part is not None and known:
            yield "label", inside.label
            yield "uuid", inside.uuid
            yield from _owner(self._system, inside.kind, part)
            yield from self._system.uses(disk, part, self._found)

    def _sealed(self, found: Disk, part: Partition) -> Iterator[tuple[str, Any]]:
        """Yield that something is sealed, if a passphrase opened it."""
        if part.seal is not None and part.filesystem is not None:
            system = self._system
            file = system.key_file(part, self._found) if offers(system, UnlocksSeals) else ""
            yield "sealed", {"key_file": file} if file else True
        elif part.seal is not None:
            what = f"partition {part.number}" if part.number else "it"
            told = f"{found.path}: {what} is sealed, and no passphrase was given that opens it; it is left to its guest"
            self.remarks.append(told)

    def _store(self, image: Path) -> str:
        folder = os.path.realpath(image.parent)
        if folder not in self._stores:
            stem = re.sub(r"[^A-Za-z0-9_-]", "-", Path(folder).name).strip("-") or "store"
            name, number = stem, 2
            while name in (*self._form.store, *self._stores.values()):
                name, number = f"{stem}-{number}", number + 1
            self._stores[folder] = name
            path = os.path.relpath(folder, os.path.realpath(self._sheet.parent)).replace(os.sep, "/")
            self.tables.append(("store", name, {"path": path}))
        return self._stores[folder]

    def _partition(self, found: Disk, part: Partition, number: int) -> Iterator[tuple[str, Any]]:
        """Yield the keys of a partition."""
        inside = part.filesystem
        pool = part.member.pool if part.member else None
        if pool is not None:
            yield "pool", pool.name
            if part.number:
                yield "size", f"{part.size} B"
                yield from [("number", part.number)] if part.number != number else []
                yield from [("id", part.entry.id)] if found.table == "gpt" else []
                yield "label", part.entry.label
            return
        if inside is not None and inside.kind not in FILESYSTEMS:
            self.remarks.append(
                f"{found.path}: partition {part.number} holds {inside.kind}, which is left to its guest"
            )
            inside = None
        if part.number:
            yield "size", f"{part.size} B"
            if part.number != number:
                yield "number", part.number
            if found.table == "gpt":
                yield "id", part.entry.id
        yield "filesystem", inside.kind if inside else "none"
        yield from self._sealed(found, part)
        label = inside.label if inside else part.entry.label
        yield "label", label
        if found.table == "gpt" and part.entry.label != label:
            yield "part_label", part.entry.label
        attributes = list(found.attributes(part))
        if attributes or self._system.name == "windows":
            yield "attributes", attributes
        if inside is not None:
            yield "uuid", inside.uuid
            yield from _owner(self._system, inside.kind, part)
            yield from self._system.uses(found, part, self._found)


def _owner(system: GuestSystem, kind: str, part: Partition) -> Iterator[tuple[str, Any]]:
    inside = part.filesystem
    if inside is None or system.owners_need_rights or not filesystem(kind).keeps_owner or inside.mode is None:
        return
    if (inside.uid, inside.gid) != (0, 0):
        yield "owner", f"{inside.uid}:{inside.gid}"
    if inside.mode != 0o755:
        yield "mode", f"{inside.mode:04o}"


def _check(image: Path, found: Disk) -> None:
    """Raise RequestError where a disk cannot be taken into a sheet."""
    doubts = table_doubts(found)
    if doubts:
        raise RequestError(f"{image}: {doubts[0]}; it is not taken in")
    if found.image.base is not None:
        raise RequestError(f"{image}: it is a child of {found.image.base}; fold it, or recast it, to take it in")
    if not found.partitions:
        raise RequestError(f"{image}: nothing on it is known; it is not taken in")
    ending = ending_of(found.image.format)
    if image.suffix != ending:
        raise RequestError(f"{image}: a {found.image.format} image of a sheet ends in {ending}; rename the file first")
