"""The layout's own values: disks, partitions, stores and entries with every number decided. Sizes are bytes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

from narvet.filesystems.contract import Capacity
from narvet.findings import Finding
from narvet.images.contract import Making, Space
from narvet.layout.facts import MountEntry, RegistryValue

if TYPE_CHECKING:
    from narvet.sheet.model import System

State = Literal["to make", "as asked", "in the way"]


@dataclass(frozen=True)
class LaidPartition:
    """A partition with what lies on it; number 0 fills a disk without a table.

    `index` is its position in the sheet, from 1; 0 for what no one asked for. `attributes` are the table's flags.
    `volume` is what a Windows guest names it by. `owner` and `access` are as asked for, empty where nothing keeps them.
    `geometry` is the filesystem's own and None, as `shows`, where there is no filesystem or it cannot be made.
    """

    number: int
    label: str
    start: int
    size: int
    type: str
    id: str
    filesystem: str | None
    uuid: str | None
    at: str | None
    owner: str
    uid: int
    gid: int
    mode: int
    needed: bool
    mount_options: tuple[str, ...] = ()
    geometry: Any = None
    shows: Capacity | None = None
    footprint: int = 0
    index: int = 0
    attributes: int = 0
    volume: str = ""
    access: tuple[tuple[str, str], ...] = ()

    @property
    def end(self) -> int:
        """The first byte after it."""
        return self.start + self.size


@dataclass(frozen=True)
class Piece:
    """A run of a disk: a partition by its number, or what else the bytes are for."""

    start: int
    size: int
    what: str
    partition: int | None = None


@dataclass(frozen=True)
class Origin:
    """The image at `path`, which a disk starts as a copy of, or is a child of."""

    how: Literal["copy", "child"]
    path: str


@dataclass(frozen=True)
class LaidDisk:
    """A disk worked out; `path` is where its image is kept, `pieces` cover it from the first byte to the last.

    With an `origin`, the partitions are those found there.
    """

    name: str
    guest: str
    store: str
    path: str
    format: str
    making: Making
    slot: str | None
    table: str
    table_id: str | None
    partitions: tuple[LaidPartition, ...]
    pieces: tuple[Piece, ...]
    stores_now: int
    state: State = "to make"
    origin: Origin | None = None
    runs: System = "linux"

    @property
    def size(self) -> int:
        """Bytes of the disk."""
        return self.making.size

    @property
    def sector(self) -> int:
        """Bytes of a logical sector."""
        return self.making.sector

    @property
    def space(self) -> Space:
        """Thin or full."""
        return self.making.space

    @property
    def table_name(self) -> str:
        """The table as it is spoken of."""
        return "no table" if self.table == "none" else self.table.upper()


@dataclass(frozen=True)
class LaidStore:
    """A store: `room` for this sheet's disks, `kept` free of them, `promised` once they are full, `present` already.

    `needed` is what writing the missing images stores at once, `free` what the filesystem there has at this moment.
    Stores `beside` it lie on the same filesystem: they need and have promised what they share with it. `measured` is
    whether the room is what is free there, not what the sheet says.
    """

    name: str
    path: str
    room: int
    kept: int
    promised: int
    present: int
    needed: int
    free: int
    measured: bool = False
    beside: tuple[str, ...] = ()
    others_need: int = 0
    others_promised: int = 0

    @property
    def left(self) -> int:
        """Room left once every disk is full; below zero where more is promised than there is."""
        return self.room - self.kept - self.promised - (self.others_promised if self.measured else 0)


@dataclass(frozen=True)
class Layout:
    """A sheet worked out.

    `entries` holds each Linux guest's lines of fstab in the order they are mounted, `registry` each Windows guest's
    values; `roots` has the path of the root, or of the registry text, that they go into.
    """

    title: str
    disks: tuple[LaidDisk, ...]
    stores: tuple[LaidStore, ...]
    entries: Mapping[str, tuple[MountEntry, ...]]
    registry: Mapping[str, tuple[RegistryValue, ...]]
    roots: Mapping[str, str | None]
    findings: tuple[Finding, ...]
