"""Requests put into a sheet: new tables written at its end, every byte before them kept. Pure.

A request is a flat row of keys as a table of requests has them: a disk's keys, those of its one partition, and what
a guest or store that the sheet does not have yet needs. Rows that name the same disk are its partitions, in order.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import lru_cache
from typing import Any
from uuid import UUID

import tomli
import tomlkit

from narvet.ground.errors import RequestError, nearest
from narvet.ground.values import Frozen, field
from narvet.sheet.base import Form, plain
from narvet.sheet.contents import PartitionForm
from narvet.sheet.form import DiskForm
from narvet.sheet.keys import Kind, flat_keys, keys_of
from narvet.sheet.lines import KeyPath
from narvet.sheet.machines import GuestForm, StoreForm
from narvet.sheet.many import expanded
from narvet.sheet.read import faults_in

_OF_STORE = "store_"  # stands before the keys of a new store
_KEYS_OF_GUEST = ("runs", "root", "version")
_SIZES = ("size", "usable")  # of the disk if it has one partition, else of each partition
_KEYS_OF_PARTITION = tuple(key for key in flat_keys(PartitionForm) if key not in _SIZES)
_NAMES = ("disk", "guest", "store")
_KEYS_OF_DISK = tuple(key for key in flat_keys(DiskForm) if key not in (*_NAMES, *_SIZES, *_KEYS_OF_PARTITION))
_WORDS = {"yes": True, "true": True, "1": True, "no": False, "false": False, "0": False}
_NEEDED = {"guest": "guest", "store": "store", "size": "1 TiB"}
_MOST_MESSAGES = 12
_LONGEST_NUMBER = 10  # digits


@lru_cache
def request_keys() -> dict[str, str]:
    """Return the keys that a request can have, with what each means in plain words."""
    of = {form: keys_of(form) for form in (DiskForm, PartitionForm, GuestForm, StoreForm)}
    found = {"disk": "name of the new disk; otherwise its label's, or its guest's"}
    found |= {key: of[DiskForm][key].meaning for key in (*_NAMES[1:], *_SIZES)}
    found |= {key: of[PartitionForm][key].meaning for key in _KEYS_OF_PARTITION}
    found |= {key: of[DiskForm][key].meaning for key in _KEYS_OF_DISK}
    found |= {key: f"of a new guest: {of[GuestForm][key].meaning}" for key in _KEYS_OF_GUEST}
    found |= {f"{_OF_STORE}{key}": f"of a new store: {of[StoreForm][key].meaning}" for key in flat_keys(StoreForm)}
    return {key: plain(meaning) for key, meaning in found.items()}


class Request(Frozen):
    """One row: where errors say it is, and its keys with their texts, empty ones left out.

    `columns` has the names of the columns that the keys stand in, where they stand in a table.
    """

    where: str
    keys: Mapping[str, str]
    columns: Mapping[str, str] = field(default_factory=dict)

    def at(self, key: str) -> str:
        """Return where errors say a key is."""
        return f"{self.where}, column {self.columns[key]}" if key in self.columns else self.where


class Drafted(Frozen):
    """The text of a sheet with requests put in, what of it was there `before`, and what is new.

    `disks`, `guests` and `stores` are the names of what is new, `store_paths` the stores' paths as the sheet has them.
    """

    text: str
    before: str
    disks: tuple[str, ...]
    guests: tuple[str, ...]
    stores: tuple[str, ...]
    store_paths: tuple[str, ...]


def new_sheet(title: str, identity: UUID) -> str:
    """Return the head of a new sheet."""
    titled = f"title    = {_value(title)}\n" if title else ""
    return f'sheet    = 1\n{titled}identity = "{identity}"\n'


def drafted(
    text: str, requests: Sequence[Request], name: str, beside: Mapping[str, Mapping[str, Any]] | None = None
) -> Drafted:
    """Return the text of a valid sheet with requests put in; `name` is what errors call the sheet.

    `beside` are the tables of the files that it includes, by kind and name.

    Raises:
        RequestError: a request cannot be put in; a line for each thing that is wrong.
    """
    put = _PutIn(text, beside)
    for disk, rows in _grouped(requests, set(put.content.get("disk", {}))).items():
        put.disk(disk, rows)
    _refuse(put.content, put.sources, name)
    return put.drafted()


def fault_of(text: str, request: Request, key: str) -> str:
    """Return what is wrong since a key was added to a request that is not complete yet; nothing if it can stand so."""
    without = Request(request.where, {one: value for one, value in request.keys.items() if one != key})
    before = set(_faults(text, without))
    return next((told for told in _faults(text, request) if told not in before), "")


def _faults(text: str, request: Request) -> list[str]:
    """Return what is wrong with a request, with something in place of what every disk needs."""
    needed = {name: value for name, value in _NEEDED.items() if name != "size" or "usable" not in request.keys}
    put = _PutIn(text)
    put.disk(request.keys.get("disk") or "new", [Request(request.where, {**needed, **request.keys})])
    return [told for _, told in faults_in(put.content)]


class _PutIn:
    """The content of a sheet while requests are put into it, and the tables that are new in its text."""

    def __init__(self, text: str, beside: Mapping[str, Mapping[str, Any]] | None = None) -> None:
        self._text = text
        self.content: dict[str, Any] = tomli.loads(text)
        for kind, tables in (beside or {}).items():
            self.content[kind] = {**tables, **self.content.get(kind, {})}
        every, _ = expanded(self.content)
        self._known = {kind: set(every.get(kind, {})) for kind in ("store", "guest", "disk")}
        self._tables: list[str] = []
        self._added: dict[str, list[str]] = {"store": [], "guest": [], "disk": []}
        self.sources: dict[KeyPath, Request] = {}

    def disk(self, disk: str, rows: Sequence[Request]) -> None:
        """Put in a disk, and what its rows need of new stores and guests."""
        for row in rows:
            store, guest = row.keys.get("store", ""), row.keys.get("guest", "")
            if store and store not in self._known["store"]:
                path = {"path": f"stores/{store}"}
                self._add("store", store, path | _typed(row, StoreForm, flat_keys(StoreForm), _OF_STORE), row)
            if guest and guest not in self._known["guest"]:
                self._add("guest", guest, _typed(row, GuestForm, _KEYS_OF_GUEST), row)
        self._add("disk", disk, _disk(rows), rows[0])
        for number, row in enumerate(rows):
            self.sources["disk", disk, "partition", number] = row

    def _add(self, kind: str, table: str, keys: Mapping[str, Any], source: Request) -> None:
        self._added[kind].append(table)
        self._known[kind].add(table)
        self.content.setdefault(kind, {})[table] = dict(keys)
        self.sources[kind, table] = source
        self._tables.append(_table(f"[{kind}.{_key(table)}]", {key: keys[key] for key in keys if key != "partition"}))
        for part in keys.get("partition", ()):
            self._tables.append(_table(f"[[{kind}.{_key(table)}.partition]]", part))

    def drafted(self) -> Drafted:
        """Return the sheet's text with the new tables at its end."""
        text, added = self._text, self._added
        end = "" if text.endswith("\n") or not text else "\n"
        return Drafted(
            text + end + "".join(f"\n{table}" for table in self._tables), text,
            tuple(added["disk"]), tuple(added["guest"]), tuple(added["store"]),
            tuple(str(self.content["store"][name]["path"]) for name in added["store"]),
        )  # fmt: skip


_INNER = ("partition", "volume")  # keys that are lists of tables


def with_tables(text: str, tables: Sequence[tuple[str, str, Mapping[str, Any]]], name: str) -> Drafted:
    """Return the text of a valid sheet with tables put in, each by its kind (store, guest, disk), name and keys.

    Raises:
        RequestError: the sheet would not be a valid one; a line for each thing that is wrong.
    """
    content: dict[str, Any] = tomli.loads(text)
    added: dict[str, list[str]] = {"store": [], "guest": [], "disk": [], "pool": []}
    parts: list[str] = []
    for kind, table, keys in tables:
        content.setdefault(kind, {})[table] = dict(keys)
        added[kind].append(table)
        parts.append(_table(f"[{kind}.{_key(table)}]", {key: keys[key] for key in keys if key not in _INNER}))
        parts += [_table(f"[[{kind}.{_key(table)}.{one}]]", part) for one in _INNER for part in keys.get(one, ())]
    _refuse(content, {}, name)
    end = "" if text.endswith("\n") or not text else "\n"
    paths = tuple(str(content["store"][one]["path"]) for one in added["store"])
    whole = text + end + "".join(f"\n{part}" for part in parts)
    return Drafted(whole, text, tuple(added["disk"]), tuple(added["guest"]), tuple(added["store"]), paths)


def _grouped(requests: Sequence[Request], known: set[str]) -> dict[str, list[Request]]:
    """Return the rows of each disk; one without a name is named after its label or its guest."""
    found: dict[str, list[Request]] = {}
    messages, last = [], dict[str, int]()
    for request in requests:
        strange = [key for key in request.keys if key not in request_keys()]
        messages += [f'{request.at(key)}: there is no key "{key}"{nearest(key, request_keys())}' for key in strange]
        name = request.keys.get("disk") or _free_name(request, lambda name: name in known or name in found, last)
        if name in known:
            messages.append(f'{request.where}: disk "{name}" is in the sheet already; give the new one another name')
        found.setdefault(name, []).append(request)
    if messages:
        raise _too_many(messages)
    return found


def _free_name(request: Request, taken: Callable[[str], bool], last: dict[str, int]) -> str:
    """Return a name for a disk, with a number where it is taken; `last` remembers the numbers given."""
    stem = request.keys.get("label") or request.keys.get("guest") or "disk"
    stem = "".join(sign if sign.isascii() and (sign.isalnum() or sign in "_.-") else "-" for sign in stem).strip("-._")
    stem = (stem or "disk")[:48].lower()
    while taken(name := f"{stem}-{last[stem]}" if stem in last else stem):
        last[stem] = last.get(stem, 1) + 1
    return name


def _disk(rows: Sequence[Request]) -> dict[str, Any]:
    """Return the keys of a disk, its partitions under "partition"."""
    whole: dict[str, Any] = {key: rows[0].keys[key] for key in ("guest", "store") if key in rows[0].keys}
    if len(rows) == 1:
        whole |= _typed(rows[0], DiskForm, _SIZES)
    for row in rows:
        whole |= _typed(row, DiskForm, _KEYS_OF_DISK)
    brought = "copy_of" in whole or "base" in whole
    parts = [_typed(row, PartitionForm, (*(_SIZES if len(rows) > 1 else ()), *_KEYS_OF_PARTITION)) for row in rows]
    return whole if brought and not any(parts) else {**whole, "partition": parts}


def _typed(row: Request, form: type[Form], keys: Iterable[str], named: str = "") -> dict[str, Any]:
    """Return some keys of a form with the values a row has for them, as a sheet has them; `named` stands before each
    key in the row.
    """
    kinds = keys_of(form)
    return {key: _value_of(row.keys[named + key], kinds[key].kind) for key in keys if named + key in row.keys}


def _value_of(text: str, kind: Kind) -> Any:
    """Return a text as a value of a kind; what is not of that kind stays text, for the form to refuse."""
    match kind:
        case Kind.LIST:
            return text.replace(",", " ").split()
        case Kind.WHOLE if text.isascii() and text.isdigit() and len(text) < _LONGEST_NUMBER:
            return int(text)
        case Kind.YES_OR_NO:
            return _WORDS.get(text.lower(), text)
        case _:
            return text


def _refuse(content: dict[str, Any], sources: Mapping[KeyPath, Request], name: str) -> None:
    """Raise an error for what is wrong with a sheet's new content, each thing at the row it comes from."""
    messages = []
    for path, told in faults_in(content):
        source = next((sources[path[:size]] for size in range(len(path), 0, -1) if path[:size] in sources), None)
        messages.append(f"{_place_of(path, source) if source else name}: {told}")
    if messages:
        raise _too_many(messages)


def _place_of(path: KeyPath, source: Request) -> str:
    """Return where in its table a request says something that is wrong, as closely as its path tells."""
    last = next((str(one) for one in reversed(path) if isinstance(one, str)), "")
    return source.at(f"{_OF_STORE}{last}" if path[0] == "store" else last)


def _too_many(messages: list[str]) -> RequestError:
    """Return the error of many messages, the first of them in full."""
    if len(messages) > _MOST_MESSAGES:
        messages = [*messages[:_MOST_MESSAGES], f"and {len(messages) - _MOST_MESSAGES} more"]
    return RequestError("\n".join(messages))


def _table(header: str, keys: Mapping[str, Any]) -> str:
    """Return a table as text, its values in one column."""
    width = max(map(len, keys), default=0)
    return "".join([f"{header}\n", *(f"{key:{width}} = {_value(value)}\n" for key, value in keys.items())])


def _value(value: Any) -> str:
    return _text(value) if isinstance(value, str) else str(tomlkit.item(value).as_string())


@lru_cache(maxsize=1 << 16)
def _text(value: str) -> str:
    """Return a text as a value; most of a table's cells are alike."""
    return str(tomlkit.item(value).as_string())


def _key(name: str) -> str:
    """Return a name as a key of a table."""
    plain = name.isascii() and name.replace("-", "").replace("_", "").isalnum()
    return name if plain else _value(name)
