"""What a service tells, checked: names that can stand in a path, counts that can be. Sizes are bytes."""

from __future__ import annotations

import re
from typing import Annotated, Literal, TypeVar

from msgspec import DecodeError, Meta

from narvet.ground.errors import ImageError
from narvet.ground.values import Frozen, field

_Name = Annotated[str, Meta(pattern=r"^[A-Za-z0-9._-]{1,100}$(?!\n)")]  # for `$` alone, a line may end there
_T = TypeVar("_T")
_Size = Annotated[int, Meta(ge=1, le=(1 << 63) - 1)]
_Count = Annotated[int, Meta(ge=0, le=(1 << 63) - 1)]


class VolumeClass(Frozen):
    """A kind of volume: its least and most size, the step between sizes, and operations a second."""

    name: _Name
    least: _Size
    most: _Size
    step: _Size
    operations: dict[str, Annotated[float, Meta(ge=0)]]

    def operations_of(self, size: int) -> int:
        """Return the operations a second that a volume of a size gets."""
        told = self.operations
        return int(min(told.get("base", 0) + told.get("each_gib", 0) * size / (1 << 30), told.get("most", 1 << 62)))

    def fit(self, size: int) -> int:
        """Return the smallest size from `size` on that can be ordered, if any can."""
        return max(-(-size // self.step) * self.step, self.least)


class Zone(Frozen):
    """A place of a service, with what it has."""

    name: _Name
    classes: tuple[VolumeClass, ...]


class Quota(Frozen):
    """What may be ordered in all, and what is already."""

    volumes: _Count
    bytes: _Count
    used_volumes: _Count = 0
    used_bytes: _Count = 0


class Offer(Frozen):
    """What a service has."""

    zones: tuple[Zone, ...]
    quota: Quota


class Machine(Frozen):
    """A guest of a service, with the volumes at its positions."""

    name: _Name
    zone: _Name
    running: bool
    positions: _Size
    volumes: dict[int, str]


State = Literal["making", "ready", "attaching", "attached", "detaching", "leaving", "failed"]


class Volume(Frozen):
    """A volume as it is now."""

    id: _Name
    zone: _Name
    kind: _Name = field(name="class")
    bytes: _Size
    state: State
    tags: dict[str, str]
    guest: _Name | None = None
    position: _Count | None = None


class Stored(Frozen):
    """Runs that may hold something, as offset and length; `more` lie behind them."""

    runs: tuple[tuple[_Count, _Size], ...]
    more: bool


class Fault(Frozen):
    """Why a service did not do something."""

    fault: str
    told: str


_PLACE = re.compile(r"(?:field `|`\$\.?)(?P<place>[^`]+)`")


def told(kind: type[_T], data: bytes, where: str) -> _T:
    """Return what a service told, as a value of a kind.

    Raises:
        ImageError: it tells something else.
    """
    from msgspec import json

    try:
        return json.decode(data, type=kind)
    except (DecodeError, UnicodeDecodeError, RecursionError) as error:
        place = _PLACE.search(str(error))
        what = place["place"] if place else "no JSON"
        raise ImageError(f"{where}: the service answers otherwise than services do, {what}") from None
