"""What goes over the wire, as JSON; sizes are bytes."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

Name = Annotated[str, Field(min_length=1, max_length=100, pattern=r"^[A-Za-z0-9._-]+$")]
Bytes = Annotated[int, Field(gt=0, lt=1 << 63)]


class Word(BaseModel):
    """What all of these have: nothing that is not known."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


class Operations(Word):
    """Operations a second that a volume gets: `base`, and `each_gib` for each GiB, at most `most`."""

    base: int = Field(ge=0)
    each_gib: float = Field(default=0, ge=0)
    most: int = Field(gt=0)


class VolumeClass(Word):
    """A kind of volume: its least and most size, the step between sizes, and what it can do."""

    name: Name
    least: Bytes
    most: Bytes
    step: Bytes
    operations: Operations


class Zone(Word):
    """A place; volumes and guests of one zone can be brought together."""

    name: Name
    classes: tuple[VolumeClass, ...]


class Quota(Word):
    """What may be ordered in all, and what is already."""

    volumes: int = Field(ge=0)
    bytes: int = Field(ge=0)
    used_volumes: int = Field(default=0, ge=0)
    used_bytes: int = Field(default=0, ge=0)


class Offer(Word):
    """What there is to order."""

    zones: tuple[Zone, ...]
    quota: Quota


class Guest(Word):
    """A machine of the service: its zone, whether it runs, how many positions it has, and the volumes at them."""

    name: Name
    zone: Name
    running: bool = False
    positions: int = Field(default=16, gt=0, le=1024)
    volumes: dict[int, str] = Field(default_factory=dict)


class Order(Word):
    """A volume that is wanted."""

    zone: Name
    volume_class: Name = Field(alias="class")
    bytes: Bytes
    tags: dict[Name, Annotated[str, Field(max_length=500)]] = Field(default_factory=dict, max_length=50)


State = Literal["making", "ready", "attaching", "attached", "detaching", "leaving", "failed"]


class Volume(Word):
    """A volume as it is now; `guest` and `position` are where it is attached, or is about to be."""

    id: Name
    zone: Name
    volume_class: Name = Field(alias="class")
    bytes: Bytes
    state: State
    tags: dict[str, str] = Field(default_factory=dict)
    guest: Name | None = None
    position: int | None = None


class Size(Word):
    """A size that is wanted."""

    bytes: Bytes


class Place(Word):
    """Where a volume is wanted: a guest, and one of its positions, or whichever is free first."""

    guest: Name
    position: int | None = Field(default=None, ge=0)


class Stored(Word):
    """Runs that may hold something, as offset and length; with `more`, others lie behind the last."""

    runs: tuple[tuple[int, int], ...]
    more: bool = False


Why = Literal[
    "unknown", "zone", "class", "size", "quota", "order", "spent", "state", "position", "guest", "range", "digest",
    "token", "form", "again",
]  # fmt: skip


class Fault(Word):
    """Why something was not done: a word for programs, and a sentence for people."""

    fault: Why
    told: str
