"""What a service tells, checked: names that can stand in a path, counts that can be. Sizes are bytes."""

from __future__ import annotations

from typing import Annotated, Any, Literal, TypeVar

from pydantic import Field, TypeAdapter, ValidationError
from pydantic.dataclasses import dataclass

from narvet.ground.errors import ImageError

_Name = Annotated[str, Field(pattern=r"^[A-Za-z0-9._-]{1,100}$")]
_T = TypeVar("_T")
_Size = Annotated[int, Field(gt=0, lt=1 << 63)]
_Count = Annotated[int, Field(ge=0, lt=1 << 63)]


@dataclass(frozen=True)
class VolumeClass:
    """A kind of volume: its least and most size, the step between sizes, and operations a second."""

    name: _Name
    least: _Size
    most: _Size
    step: _Size
    operations: dict[str, Annotated[float, Field(ge=0, allow_inf_nan=False)]]

    def operations_of(self, size: int) -> int:
        """Return the operations a second that a volume of a size gets."""
        told = self.operations
        return int(min(told.get("base", 0) + told.get("each_gib", 0) * size / (1 << 30), told.get("most", 1 << 62)))

    def fit(self, size: int) -> int:
        """Return the smallest size from `size` on that can be ordered, if any can."""
        return max(-(-size // self.step) * self.step, self.least)


@dataclass(frozen=True)
class Zone:
    """A place of a service, with what it has."""

    name: _Name
    classes: tuple[VolumeClass, ...]


@dataclass(frozen=True)
class Quota:
    """What may be ordered in all, and what is already."""

    volumes: _Count
    bytes: _Count
    used_volumes: _Count = 0
    used_bytes: _Count = 0


@dataclass(frozen=True)
class Offer:
    """What a service has."""

    zones: tuple[Zone, ...]
    quota: Quota


@dataclass(frozen=True)
class Machine:
    """A guest of a service, with the volumes at its positions."""

    name: _Name
    zone: _Name
    running: bool
    positions: _Size
    volumes: dict[int, str]


State = Literal["making", "ready", "attaching", "attached", "detaching", "leaving", "failed"]


@dataclass(frozen=True)
class Volume:
    """A volume as it is now."""

    id: _Name
    zone: _Name
    kind: Annotated[_Name, Field(alias="class")]
    bytes: _Size
    state: State
    tags: dict[str, str]
    guest: _Name | None = None
    position: _Count | None = None


@dataclass(frozen=True)
class Stored:
    """Runs that may hold something, as offset and length; `more` lie behind them."""

    runs: tuple[tuple[_Count, _Size], ...]
    more: bool


@dataclass(frozen=True)
class Fault:
    """Why a service did not do something."""

    fault: str
    told: str


_ADAPTERS: dict[Any, TypeAdapter[Any]] = {}


def told(kind: type[_T], data: bytes, where: str) -> _T:
    """Return what a service told, as a value of a kind.

    Raises:
        ImageError: it tells something else.
    """
    adapter = _ADAPTERS.setdefault(kind, TypeAdapter(kind))
    try:
        found: _T = adapter.validate_json(data)
    except ValidationError as error:
        place = ".".join(str(part) for part in error.errors()[0]["loc"])
        raise ImageError(f"{where}: the service answers otherwise than services do, {place or 'no JSON'}") from None
    return found
