"""Reading a sheet: TOML in, a validated model out; an error names file, line, key path and the nearest known key."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any
from uuid import uuid4

from pydantic import BaseModel, ValidationError

from narvet.ground.errors import RequestError, nearest
from narvet.sheet.base import key_of
from narvet.sheet.files import SheetFiles, sheet_files, text_of
from narvet.sheet.form import DiskForm, Sheet
from narvet.sheet.hosts import host_of_disk, origin_of
from narvet.sheet.lines import KeyPath
from narvet.sheet.many import expanded
from narvet.sheet.values import IN_BYTES

if TYPE_CHECKING:
    from pydantic_core import ErrorDetails

MOST_MESSAGES = 12


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
        return DiskForm.model_validate(content, context=IN_BYTES)
    except ValidationError as error:
        faults = error.errors(include_url=False, include_context=False)
        raise RequestError("\n".join(f"{name}: {_words(_path(fault), fault)}" for fault in faults)) from None


def _with_volumes(sheet: Sheet) -> Sheet:
    """Return a sheet whose disks in stores with a service are volumes."""
    ordered = {name for name, form in sheet.store.items() if form.service is not None}
    if not ordered:
        return sheet
    disks = {
        name: form.model_copy(update={"format": "volume"}) if form.store in ordered and form.device is None else form
        for name, form in sheet.disk.items()
    }
    return sheet.model_copy(update={"disk": disks})


def faults_in(content: dict[str, Any]) -> list[tuple[KeyPath, str]]:
    """Return what is wrong with the content of a sheet: the path of a key, and a message that names it."""
    return _validated(expanded(content)[0])[1]


def _validated(content: dict[str, Any]) -> tuple[Sheet | None, list[tuple[KeyPath, str]]]:
    try:
        sheet = Sheet.model_validate(content)
    except ValidationError as error:
        faults = error.errors(include_url=False, include_context=False)
        return None, [(_path(fault), _words(_path(fault), fault)) for fault in faults]
    return sheet, list(_strays(sheet))


_NOT_OF_VOLUMES = (
    "format", "space", "block", "pieces", "packed", "copy_of", "base", "was", "shared", "read_only",
    "slot", "serial", "hold", "ceiling", "floor", "give_back",
)  # fmt: skip


def _strays_of_volume(sheet: Sheet, name: str, disk: DiskForm) -> Iterator[tuple[KeyPath, str]]:
    """Yield the keys of a disk that mean nothing, or cannot be, where a service hands its volume out."""
    store = sheet.store.get(disk.store)
    if store is None or store.service is None or disk.device is not None:
        return
    for field in _NOT_OF_VOLUMES:
        if field in disk.model_fields_set:
            path = ("disk", name, key_of(DiskForm, field))
            yield path, f"{_show(path)}: a volume of a service has no such key; leave it out"
    for index, part in enumerate(disk.partition):
        if part.pool is not None:
            where = ("disk", name, "partition", index, "pool")
            yield where, f"{_show(where)}: a volume of a service cannot be a member of a pool; leave it out"


def _strays(sheet: Sheet) -> Iterator[tuple[KeyPath, str]]:
    """Yield the key path and a message for every name of something that the sheet does not have."""
    yield from _strays_of_hosts(sheet)
    for name, disk in sheet.disk.items():
        for kind, asked, known in (("guest", disk.guest, sheet.guest), ("store", disk.store, sheet.store)):
            if asked not in known and (kind == "guest" or disk.device is None):
                path = ("disk", name, kind)
                yield path, f'{_show(path)}: there is no {kind} "{asked}" in the sheet{nearest(asked, list(known))}'
        yield from _strays_of_volume(sheet, name, disk)
        for index, part in enumerate(disk.partition):
            if part.pool is not None:
                yield from _strays_of_member(sheet, ("disk", name, "partition", index, "pool"), part.pool, disk.guest)
    joined = {part.pool for disk in sheet.disk.values() for part in disk.partition}
    for name, pool in sheet.pool.items():
        if pool.guest not in sheet.guest:
            path = ("pool", name, "guest")
            there = nearest(pool.guest, list(sheet.guest))
            yield path, f'{_show(path)}: there is no guest "{pool.guest}" in the sheet{there}'
        if name not in joined:
            yield ("pool", name), f'pool.{name}: no partition is its member; give one pool = "{name}"'


def _strays_of_hosts(sheet: Sheet) -> Iterator[tuple[KeyPath, str]]:
    """Yield the hosts that there are not, and pools and guests that lie on several hosts."""
    for kind, tables in (("store", sheet.store), ("guest", sheet.guest)):
        for name, form in tables.items():
            if form.host is not None and form.host not in sheet.host:
                path = (kind, name, "host")
                yield (
                    path,
                    f'{_show(path)}: there is no host "{form.host}" in the sheet{nearest(form.host, sheet.host)}',
                )
    joined: dict[str, str | None] = {}
    for name, disk in sheet.disk.items() if sheet.host else ():
        store = sheet.store.get(disk.store)
        origin = origin_of(sheet, disk) if disk.base is not None else None
        if origin is not None and origin[0] != host_of_disk(sheet, disk):
            where = ("disk", name, "base")
            yield where, f"{_show(where)}: a child lies on the host of its base; use copy_of, or a store that is there"
        for index, part in enumerate(disk.partition):
            if part.pool is not None and store is not None and joined.setdefault(part.pool, store.host) != store.host:
                path_ = ("disk", name, "partition", index, "pool")
                yield path_, f"{_show(path_)}: other members of pool {part.pool} lie on another host; a pool is on one"


def _strays_of_member(sheet: Sheet, path: KeyPath, pool: str, guest: str) -> Iterator[tuple[KeyPath, str]]:
    known = sheet.pool.get(pool)
    if known is None:
        yield path, f'{_show(path)}: there is no pool "{pool}" in the sheet{nearest(pool, list(sheet.pool))}'
    elif known.guest != guest:
        yield path, f"{_show(path)}: pool {pool} is of guest {known.guest}, and this disk of guest {guest}"


def _refusal(files: SheetFiles, faults: Sequence[tuple[KeyPath, str]]) -> RequestError:
    """Return the error that tells of all faults, each with its file and line, in the order of these."""
    first = {files.written(path): (path, words) for path, words in reversed(faults)}.values()
    places = files.places(path for path, _ in first)
    placed = sorted((*place, words) for place, (_, words) in zip(places, first, strict=True))
    messages = [f"{where}: {words}" for _, _, where, words in placed]
    if len(messages) > MOST_MESSAGES:
        messages = [*messages[:MOST_MESSAGES], f"{files.texts[0][0]}: and {len(messages) - MOST_MESSAGES} more"]
    return RequestError("\n".join(messages))


def _path(fault: ErrorDetails) -> KeyPath:
    return tuple(part for part in fault["loc"] if part != "[key]")


def _words(path: KeyPath, fault: ErrorDetails) -> str:
    kind, shown = fault["type"], _show(path)
    if kind == "extra_forbidden":
        table, key = path[:-1], str(path[-1])
        return f'{_show(table) or "the sheet"} has no key "{key}"{nearest(key, _known_keys(table))}'
    if kind == "missing" and path == ("identity",):
        return f'identity is missing; ids are derived from it: put in identity = "{uuid4()}"'
    if kind == "missing":
        return f"{shown} is missing"
    if kind == "literal_error":
        return f"{shown} is {fault['input']!r}, {fault['msg'].removeprefix('Input should be ')} expected"
    if kind == "string_pattern_mismatch":
        return f"{shown}: {fault['input']!r} has characters that are not allowed there, or too many"
    message = fault["msg"].removeprefix("Value error, ")
    return f"{shown}: {message}" if shown else message


def _show(path: KeyPath) -> str:
    """Return a key path as a person counts: disk.trials.partition 2.size."""
    text = ""
    for part in path:
        text += f" {part + 1}" if isinstance(part, int) else f".{part}"
    return text.removeprefix(".")


def _known_keys(path: KeyPath) -> list[str]:
    """Return the keys of the table at `path`."""
    model: type[BaseModel] = Sheet
    for part in path:
        inner = model.model_fields[part].annotation if part in model.model_fields else None
        model = next(iter(_forms(inner)), model)
    return [field.alias or name for name, field in model.model_fields.items()]


def _forms(annotation: Any) -> list[type[BaseModel]]:
    """Return the models inside a type such as `dict[str, StoreForm]`."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [form for inner in getattr(annotation, "__args__", ()) for form in _forms(inner)]
