"""Guests that are alike: a table with a `count` stands for so many guests, each with disks and pools of its own.

`[guest.pc] count = 40` stands for pc01 to pc40, and `[disk.scratch] guest = "pc"` for pc01-scratch to pc40-scratch. In
the texts of these tables `{n}` is the number, `{name}` the guest's name, and `{1-4}` goes round from 1 to 4. Pure.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

COUNT, LEFT_OUT, DIGITS = "count", "left_out", "digits"
MOST = 100_000
_MOST_DISKS = 1_000_000
_SIGN = re.compile(r"\{(?:(?P<word>n|name)|(?P<first>\d{1,6})-(?P<last>\d{1,6})|[^{}]*)\}")
Origins = Mapping[tuple[str, str], tuple[str, str]]
"""Of each table that was made from another: the kind and the name of that."""


class ManyError(ValueError):
    """A table cannot stand for many; `path` is where it is wrong."""

    def __init__(self, path: tuple[str, ...], message: str) -> None:
        super().__init__(message)
        self.path = path


def expanded(content: dict[str, Any]) -> tuple[dict[str, Any], Origins]:
    """Return the content of a sheet in which each guest has a table of its own, and what each was made from.

    Raises:
        ManyError: a table cannot stand for many.
    """
    guests = content.get("guest")
    if not isinstance(guests, dict) or not any(isinstance(one, dict) and COUNT in one for one in guests.values()):
        return content, {}
    made: dict[str, Any] = {}
    origins: dict[tuple[str, str], tuple[str, str]] = {}
    names: dict[str, list[tuple[int, str]]] = {}
    for name, form in guests.items():
        if not isinstance(form, dict) or COUNT not in form:
            _put(made, origins, ("guest", name), ("guest", name), form)
            continue
        numbers, width = _numbers(name, form)
        names[name] = [(number, f"{name}{number:0{width}}") for number in numbers]
        plain = {key: value for key, value in form.items() if key not in (COUNT, LEFT_OUT, DIGITS)}
        for number, own in names[name]:
            _put(made, origins, ("guest", own), ("guest", name), _filled(plain, number, own, width, ("guest", name)))
    result = {**content, "guest": made}
    pools = {name: form.get("guest") for name, form in _tables(content, "pool") if isinstance(form, dict)}
    for kind in ("disk", "pool"):
        if isinstance(content.get(kind), dict):
            result[kind] = _of_each(content, kind, names, pools, origins)
    return result, origins


def _of_each(
    content: dict[str, Any],
    kind: str,
    names: Mapping[str, list[tuple[int, str]]],
    pools: Mapping[str, Any],
    origins: dict[tuple[str, str], tuple[str, str]],
) -> dict[str, Any]:
    """Return the tables of disks or pools, those of many guests once for each."""
    made: dict[str, Any] = {}
    for name, form in _tables(content, kind):
        guest = form.get("guest") if isinstance(form, dict) else None
        if not isinstance(guest, str) or guest not in names:
            _put(made, origins, (kind, name), (kind, name), form)
            continue
        width = _width(guest, content["guest"][guest])
        for number, own in names[guest]:
            if len(made) >= _MOST_DISKS:
                raise ManyError((kind, name), f"{kind}.{name}: with it there are more than {_MOST_DISKS} {kind}s")
            filled = _filled({**form, "guest": own}, number, own, width, (kind, name))
            if kind == "disk":
                filled = _in_pools(filled, own, guest, pools)
            _put(made, origins, (kind, f"{own}-{name}"), (kind, name), filled)
    return made


def _tables(content: Mapping[str, Any], kind: str) -> Iterator[tuple[str, Any]]:
    tables = content.get(kind)
    yield from tables.items() if isinstance(tables, dict) else ()


def _put(
    made: dict[str, Any],
    origins: dict[tuple[str, str], tuple[str, str]],
    path: tuple[str, str],
    origin: tuple[str, str],
    form: Any,
) -> None:
    """Put a table among those that are made; `origin` is the one that it comes from, perhaps itself."""
    if path[1] in made:
        kind, name = origins.get(path, path)
        told = f"it stands for {path[1]} too, which there is already"
        if origin == path:
            told = f"{kind}.{name} stands for it too; leave it out there, or give it another name"
        raise ManyError(origin, f"{origin[0]}.{origin[1]}: {told}")
    made[path[1]] = form
    if origin != path:
        origins[path] = origin


def _numbers(name: str, form: Mapping[str, Any]) -> tuple[list[int], int]:
    """Return the numbers of the guests that a table stands for, and with how many digits they are written."""
    count, left_out = form[COUNT], form.get(LEFT_OUT, [])
    if not isinstance(count, int) or isinstance(count, bool) or not 1 <= count <= MOST:
        raise ManyError(("guest", name, COUNT), f"guest.{name}.{COUNT}: a number from 1 to {MOST} is expected")
    if not isinstance(left_out, list) or not all(isinstance(one, int) and 1 <= one <= count for one in left_out):
        raise ManyError(("guest", name, LEFT_OUT), f"guest.{name}.{LEFT_OUT}: numbers from 1 to {count} are expected")
    gone = set(left_out)
    return [number for number in range(1, count + 1) if number not in gone], _width(name, form)


def _width(name: str, form: Mapping[str, Any]) -> int:
    """Return with how many digits numbers are written at least."""
    digits = form.get(DIGITS, max(len(str(form[COUNT])), 2))
    if not isinstance(digits, int) or isinstance(digits, bool) or not 1 <= digits <= 6:
        raise ManyError(("guest", name, DIGITS), f"guest.{name}.{DIGITS}: a number from 1 to 6 is expected")
    return digits


def _filled(value: Any, number: int, name: str, width: int, origin: tuple[str, str]) -> Any:
    """Return a table with the number and the name of a guest in its texts; `origin` is where it comes from."""
    if isinstance(value, str):
        return _SIGN.sub(lambda sign: _shown(sign, number, name, width, origin), value) if "{" in value else value
    if isinstance(value, dict):
        return {key: _filled(one, number, name, width, origin) for key, one in value.items()}
    if isinstance(value, list):
        return [_filled(one, number, name, width, origin) for one in value]
    return value


def _shown(sign: re.Match[str], number: int, name: str, width: int, origin: tuple[str, str]) -> str:
    if sign["word"]:
        return name if sign["word"] == "name" else f"{number:0{width}}"
    first, last = int(sign["first"] or 1), int(sign["last"] or 0)
    if last < first:
        told = f"{sign[0][:40]} stands for nothing; only " + "{n}, {name} and {1-4} do, the last with any numbers"
        raise ManyError(origin, f"{origin[0]}.{origin[1]}: {told}")
    return f"{first + (number - 1) % (last - first + 1):0{len(sign['first'])}}"


def _in_pools(form: dict[str, Any], own: str, guest: str, pools: Mapping[str, Any]) -> dict[str, Any]:
    """Return a disk of one of many guests that is in its guest's own pools."""
    parts = form.get("partition")
    if not isinstance(parts, list):
        return form
    mine = [
        {**part, "pool": f"{own}-{part['pool']}"}
        if isinstance(part, dict) and isinstance(part.get("pool"), str) and pools.get(part["pool"]) == guest
        else part
        for part in parts
    ]
    return {**form, "partition": mine}
