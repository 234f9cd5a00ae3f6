"""Reading a sheet: TOML in, a validated model out; an error names file, line, key path and the nearest known key."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import islice
from pathlib import Path
from typing import Any

from narvet.ground.errors import RequestError, nearest, printable
from narvet.ground.values import replace
from narvet.sheet.base import form_of
from narvet.sheet.faults import Fault, faults_of, show_path
from narvet.sheet.files import SheetFiles, sheet_files, text_of
from narvet.sheet.form import DiskForm, Sheet
from narvet.sheet.hosts import host_of_disk, origin_of
from narvet.sheet.lines import KeyPath
from narvet.sheet.many import ManyError, expanded

MOST_MESSAGES = 12
_MOST_FAULTS = 1000  # that are looked for
_LONGEST = 600  # characters of a message


def read_sheet(path: Path) -> Sheet:
    """Return the sheet at `path`.

    Raises:
        RequestError: there is no such sheet, or it is not a valid one; one line for each thing that is wrong.
        OSError: the system does not let it be read.
    """
    return parse_sheet(text_of(path), path)


def parse_sheet(text: str, path: Path) -> Sheet:
    """Return the sheet in `text`, whose file is at `path`, or is going to be.

    Raises:
        RequestError: it is not a valid one; one line for each thing that is wrong.
    """
    files = sheet_files(text, path)
    sheet, faults = _validated(files.content)
    if sheet is None or faults:
        raise _refusal(files, faults)
    return _with_volumes(sheet)


def disk_of(content: Mapping[str, Any], name: str) -> DiskForm:
    """Return a disk with such keys, whose sizes are numbers of bytes; errors name it.

    Raises:
        RequestError: it is not valid; one line for each thing that is wrong.
    """
    try:
        return form_of(DiskForm, content, in_bytes=True)
    except ValueError:
        faults = faults_of(DiskForm, content, in_bytes=True)
        raise RequestError("\n".join(f"{name}: {_bounded(words)}" for _, words in faults)) from None


def _with_volumes(sheet: Sheet) -> Sheet:
    """Return a sheet whose disks in stores with a service are volumes."""
    ordered = {name for name, form in sheet.store.items() if form.service is not None}
    if not ordered:
        return sheet
    disks = {
        name: replace(form, asked_format="volume") if form.store in ordered and form.device is None else form
        for name, form in sheet.disk.items()
    }
    return replace(sheet, disk=disks)


def faults_in(content: dict[str, Any]) -> list[Fault]:
    """Return what is wrong with the content of a sheet: the path of a key, and a message that names it."""
    try:
        whole, _ = expanded(content)
    except ManyError as error:
        return [(error.path, str(error))]
    return _validated(whole)[1]


def _validated(content: dict[str, Any]) -> tuple[Sheet | None, list[Fault]]:
    try:
        sheet = form_of(Sheet, content)
    except ValueError:
        return None, list(islice(faults_of(Sheet, content), _MOST_FAULTS))
    return sheet, list(_strays(sheet))


_NOT_OF_VOLUMES = (
    "asked_format", "asked_space", "block", "pieces", "packed", "copy_of", "base", "was", "shared", "read_only",
    "slot", "serial", "hold", "ceiling", "floor", "give_back",
)  # fmt: skip


def _strays_of_volume(sheet: Sheet, name: str, disk: DiskForm) -> Iterator[Fault]:
    """Yield the keys of a disk that mean nothing, or cannot be, where a service hands its volume out."""
    store = sheet.store.get(disk.store)
    if store is None or store.service is None or disk.device is not None:
        return
    for key in disk.given(_NOT_OF_VOLUMES):
        path = ("disk", name, key)
        yield path, f"{show_path(path)}: a volume of a service has no such key; leave it out"
    for index, part in enumerate(disk.partition):
        if part.pool is not None:
            where = ("disk", name, "partition", index, "pool")
            yield where, f"{show_path(where)}: a volume of a service cannot be a member of a pool; leave it out"


def _strays(sheet: Sheet) -> Iterator[Fault]:
    """Yield the key path and a message for every name of something that the sheet does not have."""
    yield from _strays_of_hosts(sheet)
    for name, disk in sheet.disk.items():
        for kind, asked, known in (("guest", disk.guest, sheet.guest), ("store", disk.store, sheet.store)):
            if asked not in known and (kind == "guest" or disk.device is None):
                path = ("disk", name, kind)
                yield path, f'{show_path(path)}: there is no {kind} "{asked}" in the sheet{nearest(asked, list(known))}'
        yield from _strays_of_volume(sheet, name, disk)
        for index, part in enumerate(disk.partition):
            if part.pool is not None:
                yield from _strays_of_member(sheet, ("disk", name, "partition", index, "pool"), part.pool, disk.guest)
    joined = {part.pool for disk in sheet.disk.values() for part in disk.partition}
    for name, pool in sheet.pool.items():
        if pool.guest not in sheet.guest:
            path = ("pool", name, "guest")
            there = nearest(pool.guest, list(sheet.guest))
            yield path, f'{show_path(path)}: there is no guest "{pool.guest}" in the sheet{there}'
        if name not in joined:
            yield ("pool", name), f'pool.{name}: no partition is its member; give one pool = "{name}"'


def _strays_of_hosts(sheet: Sheet) -> Iterator[Fault]:
    """Yield the hosts that there are not, and pools and guests that lie on several hosts."""
    for kind, tables in (("store", sheet.store), ("guest", sheet.guest)):
        for name, form in tables.items():
            if form.host is not None and form.host not in sheet.host:
                path = (kind, name, "host")
                yield (
                    path,
                    f'{show_path(path)}: there is no host "{form.host}" in the sheet{nearest(form.host, sheet.host)}',
                )
    joined: dict[str, str | None] = {}
    for name, disk in sheet.disk.items() if sheet.host else ():
        store = sheet.store.get(disk.store)
        origin = origin_of(sheet, disk) if disk.base is not None else None
        if origin is not None and origin[0] != host_of_disk(sheet, disk):
            where = ("disk", name, "base")
            told = "a child lies on the host of its base; use copy_of, or a store that is there"
            yield where, f"{show_path(where)}: {told}"
        for index, part in enumerate(disk.partition):
            if part.pool is not None and store is not None and joined.setdefault(part.pool, store.host) != store.host:
                path_ = ("disk", name, "partition", index, "pool")
                told = f"other members of pool {part.pool} lie on another host; a pool is on one"
                yield path_, f"{show_path(path_)}: {told}"


def _strays_of_member(sheet: Sheet, path: KeyPath, pool: str, guest: str) -> Iterator[Fault]:
    known = sheet.pool.get(pool)
    if known is None:
        yield path, f'{show_path(path)}: there is no pool "{pool}" in the sheet{nearest(pool, list(sheet.pool))}'
    elif known.guest != guest:
        yield path, f"{show_path(path)}: pool {pool} is of guest {known.guest}, and this disk of guest {guest}"


def _bounded(words: str) -> str:
    """Return what is wrong as a line that a terminal can take, whatever the sheet has in it."""
    text = printable(words)
    return text if len(text) <= _LONGEST else f"{text[:_LONGEST]}…"


def _refusal(files: SheetFiles, faults: Sequence[Fault]) -> RequestError:
    """Return the error that tells of all faults, each with its file and line, in the order of these."""
    first = {files.written(path): (path, words) for path, words in reversed(faults)}.values()
    places = files.places(path for path, _ in first)
    placed = sorted((*place, words) for place, (_, words) in zip(places, first, strict=True))
    messages = [f"{where}: {_bounded(words)}" for _, _, where, words in placed[:MOST_MESSAGES]]
    if len(placed) > MOST_MESSAGES:
        left = "many" if len(faults) == _MOST_FAULTS else len(placed) - MOST_MESSAGES
        messages.append(f"{files.texts[0][0]}: and {left} more")
    return RequestError("\n".join(messages))
