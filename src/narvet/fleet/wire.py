"""What goes to other processes and hosts and comes back: Narvet's own values and calls, nothing that is code.

A value goes as msgpack: plain ones as they are, all others as lists that begin with a number for their kind. Narvet's
frozen values and errors go as the name of their class and their parts; a reader makes these and nothing else. So
a sender can ask for Narvet's own work, and for nothing else.
"""

from __future__ import annotations

from collections.abc import Callable
from enum import Enum
from functools import cache
from importlib import import_module
from pathlib import Path
from types import MappingProxyType
from typing import Any, TypeVar
from uuid import UUID

from narvet.ground.errors import ImageError, NarvetError
from narvet.ground.records import Record
from narvet.ground.values import Frozen, is_frozen, part_names

C = TypeVar("C", bound=Callable[..., Any])
_MARK = "_narvet_runs_elsewhere"
_OWN = "narvet."
_LIST, _TUPLE, _SET, _FROZEN, _DICT, _MAP, _ID, _PATH, _LARGE, _MADE = range(10)
_MOST_DEEP = 60
_LEAST, _MOST = -(1 << 63), 1 << 64  # numbers that msgpack has
_MANY: dict[type, int] = {list: _LIST, tuple: _TUPLE, set: _SET, frozenset: _FROZEN}


def runs_elsewhere(call: C) -> C:
    """Let a function be called from another process or host; its arguments come from there."""
    setattr(call, _MARK, True)
    return call


def packed(value: object) -> bytes:
    """Return a value as it goes over the wire."""
    import msgpack

    data: bytes = msgpack.packb(_plain(value), unicode_errors="surrogateescape")
    return data


def unpacked(data: bytes) -> Any:
    """Return a value that came over the wire, which is not trusted.

    Raises:
        ImageError: it holds something that is none of Narvet's values.
    """
    import msgpack

    try:
        told = msgpack.unpackb(data, unicode_errors="surrogateescape", strict_map_key=False)
        return _value(told, 0)
    except ImageError:
        raise
    except Exception as error:  # whatever a hostile message makes its reader raise
        raise ImageError(f"a message is none of Narvet's: {type(error).__name__}") from None


def call_packed(call: Callable[..., object], *args: object) -> bytes:
    """Return a call as it goes over the wire; `call` is a function that `runs_elsewhere`."""
    return packed((f"{call.__module__}:{call.__qualname__}", args))


def answered(data: bytes) -> Any:
    """Carry a call out that came over the wire, and return what it returned.

    Raises:
        ImageError: it is no such call.
    """
    told = unpacked(data)
    if not (isinstance(told, tuple) and len(told) == 2 and isinstance(told[0], str) and isinstance(told[1], tuple)):
        raise ImageError("a message is no call of Narvet's")
    call = _found(told[0])
    if getattr(call, _MARK, False) is not True:
        raise ImageError("a message asks for something that is not done for others")
    return call(*told[1])


def _plain(value: Any) -> Any:
    """Return a value as msgpack has it."""
    kind = type(value)
    if value is None or kind in (str, bytes, bool, float):
        return value
    if kind is int:
        return value if _LEAST <= value < _MOST else [_LARGE, f"{value:x}"]
    return _marked(value, kind)


def _marked(value: Any, kind: type) -> list[Any]:
    """Return a value that msgpack does not have, as a list that begins with its kind's number."""
    if kind in _MANY:
        return [_MANY[kind], *map(_plain, value)]
    if kind is dict or kind is MappingProxyType:
        pairs = (_plain(one) for pair in value.items() for one in pair)
        return [_DICT if kind is dict else _MAP, *pairs]
    if kind is UUID:
        return [_ID, value.bytes]
    if isinstance(value, Path):
        return [_PATH, str(value)]
    name = f"{kind.__module__}:{kind.__qualname__}"
    if _value_kind(name) is not kind:
        raise TypeError(f"{name} does not go over the wire")
    return [_MADE, name, *map(_plain, _parts(value, kind))]


def _parts(value: Any, kind: Any) -> tuple[Any, ...]:
    """Return what a value is made of."""
    if isinstance(value, Enum):
        return (value.name,)
    if isinstance(value, NarvetError | tuple):
        return value.args if isinstance(value, NarvetError) else tuple(value)
    return tuple(getattr(value, one) for one in _names(kind))


def _value(told: Any, depth: int) -> Any:
    """Return the value that a message tells of, `depth` values deep inside it."""
    if not isinstance(told, list):
        if isinstance(told, str | bytes | int | float) or told is None:
            return told
        raise ImageError("a message holds something that is no value")
    if depth > _MOST_DEEP:
        raise ImageError("a message is nested too deeply")
    sign, *parts = told
    if sign in (_ID, _PATH, _LARGE):
        (part,) = parts
        return UUID(bytes=part) if sign == _ID else Path(part) if sign == _PATH else int(part, 16)
    if sign == _MADE:
        return _made(parts[0], [_value(one, depth + 1) for one in parts[1:]])
    inside = (_value(one, depth + 1) for one in parts)
    if sign in (_DICT, _MAP):
        found = dict(zip(inside, inside, strict=True))
        return found if sign == _DICT else MappingProxyType(found)
    return _KINDS[sign](inside)


_KINDS: dict[int, Callable[[Any], Any]] = {sign: kind for kind, sign in _MANY.items()}


def _made(name: Any, parts: list[Any]) -> Any:
    """Return the value of a class of Narvet's with these parts."""
    kind: Any = _value_kind(str(name))
    if issubclass(kind, NarvetError | tuple):
        return kind(*parts)
    if issubclass(kind, Enum):
        return kind[parts[0]]
    if issubclass(kind, Frozen | Record):
        return kind(**dict(zip(_names(kind), parts, strict=True)))
    made = kind.__new__(kind)
    for key, value in zip(part_names(kind), parts, strict=True):
        object.__setattr__(made, key, value)
    return made


@cache
def _names(kind: type) -> tuple[str, ...]:
    return tuple(row.name for row in kind.rows) if issubclass(kind, Record) else part_names(kind)


@cache
def _value_kind(name: str) -> type:
    """Return the class of a name if making one of it does nothing else.

    Raises:
        ImageError: it is no such class.
    """
    kind = _found(name)
    if isinstance(kind, type) and f"{kind.__module__}:{kind.__qualname__}" == name:
        if issubclass(kind, NarvetError | Enum) or (issubclass(kind, tuple) and hasattr(kind, "_fields")):
            return kind
        if issubclass(kind, Record) or is_frozen(kind):
            return kind
    raise ImageError(f"a message holds {name[:100]}, which is none of Narvet's values")


def _found(name: str) -> Any:
    """Return what a module of Narvet's has under a name; modules that are not Narvet's are not even loaded.

    Raises:
        ImageError: there is no such module or name.
    """
    module, _, inside = name.partition(":")
    parts = inside.split(".")
    if not module.startswith(_OWN) or not all(part.isidentifier() for part in (*module.split("."), *parts)):
        raise ImageError(f"a message names {name[:100]}, which is none of Narvet's")
    try:
        found: Any = import_module(module)  # which waits where another thread is at it
        for part in parts:
            found = vars(found)[part]
    except (ImportError, KeyError, TypeError):
        raise ImageError(f"a message names {name[:100]}, which there is not") from None
    return found
