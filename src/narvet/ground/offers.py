"""Whether a value offers what a protocol asks for: looked up once for each type, since asking a protocol is slow."""

from __future__ import annotations

from typing import TypeVar

from typing_extensions import TypeIs

P = TypeVar("P")
_known: dict[tuple[type, type], bool] = {}


def offers(one: object, what: type[P]) -> TypeIs[P]:
    """Return whether a value offers everything that a protocol, checkable at run time, asks for.

    All values of a type are alike in that. No property is worked out but of the first value of a type.
    """
    key = type(one), what
    if key not in _known:
        _known[key] = isinstance(one, what)
    return _known[key]
