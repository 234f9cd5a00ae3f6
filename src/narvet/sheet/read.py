"""Reading a sheet: TOML in, a validated model out; an error names file, line, key path and the nearest known key."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any
from uuid import uuid4

from pydantic import BaseModel, ValidationError

from narvet.ground.errors import RequestError, nearest
from narvet.sheet.form import DiskForm, Sheet, key_of
from narvet.sheet.lines import KeyPath, key_lines, nearest_line
from narvet.sheet.values import IN_BYTES

if TYPE_CHECKING:
    from pydantic_core import ErrorDetails

LARGEST_SHEET = 64 << 20  # a hundred thousand disks; anything larger is not a sheet
MOST_MESSAGES = 12
MOST_DOTS = 200  # in a line: reading a key costs the square of its parts


def read_sheet(path: Path) -> Sheet:
    """Return the sheet at `path`.

    Raises:
        RequestError: there is no such sheet, or it is not a valid one; one line for each thing that is wrong.
        OSError: the system does not let it be read.
    """
    return parse_sheet(text_of(path), str(path))


def text_of(path: Path) -> str:
    """Return the text of the sheet at `path`.

    Raises:
        RequestError: there is none, or it is no text of a sheet's size.
        OSError: the system does not let it be read.
    """
    if path.is_dir():
        raise RequestError(f"{path}: this is a folder; name the sheet in it")
    if path.exists() and not path.is_file():
        raise RequestError(f"{path}: this is not a plain file; name a sheet")
    try:
        with path.open("rb") as file:
            data = file.read(LARGEST_SHEET + 1)
    except FileNotFoundError:
        raise RequestError(f"{path}: there is no such sheet") from None
    if len(data) > LARGEST_SHEET:
        raise RequestError(f"{path}: it is larger than {LARGEST_SHEET} bytes, the most that a sheet may have")
    try:
        return data.decode()
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise RequestError(f"{path}, line {line}: not UTF-8 text, so not a sheet") from None


def parse_sheet(text: str, name: str) -> Sheet:
    """Return the sheet in `text`; `name` is what errors call the file."""
    for number, line in enumerate(text.split("\n"), 1):
        if line.count(".") > MOST_DOTS and not line.lstrip().startswith("#"):
            raise RequestError(
                f"{name}, line {number}: it has more than {MOST_DOTS} dots, the most that a line of a sheet may have"
            )
    try:
        content = tomllib.loads(text)
    except RecursionError:
        raise RequestError(f"{name}: not valid TOML: nested too deeply") from None
    except ValueError as error:  # not TOML, or a number of thousands of digits
        raise RequestError(f"{name}: not valid TOML: {str(error).partition(';')[0]}") from None
    return _sheet_of(content, name, text)


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


def _sheet_of(content: dict[str, Any], name: str, text: str) -> Sheet:
    """Return the sheet with such a content; errors name it, and the line of `text`."""
    sheet, faults = _validated(content)
    if sheet is None or faults:
        raise _refusal(name, text, faults)
    return _with_volumes(sheet)


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
    return _validated(content)[1]


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
    """Yield the key path and a message for every guest and store that a disk names and the sheet does not have."""
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


def _strays_of_member(sheet: Sheet, path: KeyPath, pool: str, guest: str) -> Iterator[tuple[KeyPath, str]]:
    known = sheet.pool.get(pool)
    if known is None:
        yield path, f'{_show(path)}: there is no pool "{pool}" in the sheet{nearest(pool, list(sheet.pool))}'
    elif known.guest != guest:
        yield path, f"{_show(path)}: pool {pool} is of guest {known.guest}, and this disk of guest {guest}"


def _refusal(name: str, text: str, faults: Iterable[tuple[KeyPath, str]]) -> RequestError:
    """Return the error that tells of all faults, each with its line, in the order of the lines."""
    lines = key_lines(text)
    placed = sorted((nearest_line(lines, path), words) for path, words in faults)
    messages = [f"{name}, line {line}: {words}" if line else f"{name}: {words}" for line, words in placed]
    if len(messages) > MOST_MESSAGES:
        messages = [*messages[:MOST_MESSAGES], f"{name}: and {len(messages) - MOST_MESSAGES} more"]
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
