"""What values are made of: a class that is `Frozen` lists its parts, and never changes once it is made.

    class Place(Frozen):
        kind: str
        name: str = ""

There are hundreds of such classes, and a review makes some forty values for each disk; so they are structs of the
`msgspec` package, whose classes and values are made in compiled code. `Draft` is the same for what changes while work
goes on and is seen by nobody else. The few values that carry along something that is not compared or not shown are
dataclasses.

The garbage collector does not follow values, which saves memory and time: their parts are older than they are, so that
nothing in them leads back to them. A value of which that is not so says `gc=True`.
"""

from __future__ import annotations

import dataclasses
from typing import TYPE_CHECKING, Any, dataclass_transform

from msgspec import Struct, field, structs

__all__ = ["Draft", "Frozen", "field", "is_frozen", "part_names", "replace"]


@dataclass_transform(frozen_default=True, field_specifiers=(field,))
class Frozen(Struct, frozen=True, gc=False):
    """A value that never changes, equal to another of its class with equal parts."""


@dataclass_transform(field_specifiers=(field,))
class Draft(Struct):
    """What one piece of work changes while it goes on."""


if TYPE_CHECKING:
    from dataclasses import replace  # alike, and type checkers know it
else:

    def replace(value: Any, /, **parts: Any) -> Any:
        """Return a value with other parts; it may be a record too."""
        if isinstance(value, Struct):
            return structs.replace(value, **parts)
        own = getattr(value, "__replace__", None)
        return own(**parts) if own else dataclasses.replace(value, **parts)


def part_names(kind: type) -> tuple[str, ...]:
    """Return the names of the parts of a class of values, in order.

    Raises:
        TypeError: it is no such class.
    """
    if issubclass(kind, Struct):
        return kind.__struct_fields__
    return tuple(one.name for one in dataclasses.fields(kind))  # type: ignore[arg-type]


def is_frozen(kind: type) -> bool:
    """Return whether a class is one of values that never change."""
    if issubclass(kind, Struct):
        return kind.__struct_config__.frozen
    return dataclasses.is_dataclass(kind) and kind.__setattr__ is not object.__setattr__
