"""A sheet worked out: every disk, store and entry with all numbers decided. Sizes are bytes."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Literal, Protocol

from narvet.ground.findings import Place, disk_place
from narvet.ground.values import Frozen, field
from narvet.model.estate import Disk, Estate, Guest
from narvet.model.plugs import DoorState, Plug, Plugged
from narvet.model.pools import PlannedPool

if TYPE_CHECKING:
    from narvet.formats.images.contract import ImageSpec
    from narvet.ground.findings import Finding
    from narvet.model.moves import Difference


class Mountable(Protocol):
    """A disk or a volume of a pool, as far as guests' entries are concerned."""

    @property
    def name(self) -> str:
        """Its name, a volume's with that of its pool."""

    @property
    def guest(self) -> str:
        """The guest that uses it."""

    @property
    def system(self) -> str:
        """What that runs."""

    @property
    def wanted(self) -> Disk:
        """What lies on it."""

    @property
    def origin(self) -> Origin | None:
        """Where it came from, if it did not start empty."""

    @property
    def place(self) -> Place:
        """Where findings say it is."""


State = Literal["to make", "as asked", "to change", "in the way"]


class Piece(Frozen):
    """A run of a disk: a partition by its number, or what else the bytes are for."""

    start: int
    size: int
    what: str
    partition: int | None = None


class Origin(Frozen):
    """The image at `path` on a host, empty for this machine, which a disk starts as a copy of, or is a child of."""

    how: Literal["copy", "child"]
    path: str
    host: str = ""

    def seen_from(self, host: str) -> str:
        """Return where it lies, with its host if that is another one."""
        return self.path if host == self.host else f"{self.host}:{self.path}"


class PlannedDisk(Frozen):
    """A disk of a sheet: what is wanted, for which guest, in which store, how plugged in, and what becomes of it.

    `system` is what its guest runs. `needs` is the most bytes that writing it stores at once. `spec` is what its image
    is made by; `pieces` cover the disk from the first byte to the last. With an `origin`, the partitions are those
    found there. `plugged` is how it is plugged in now, and `plugged_into` the guest; None where no door shows it.
    """

    name: str
    guest: str
    system: str
    store: str
    plug: Plug
    wanted: Disk
    spec: ImageSpec
    pieces: tuple[Piece, ...]
    origin: Origin | None = None
    state: State = "to make"
    needs: int = 0
    plugged: Plugged | None = None
    plugged_into: str = ""

    @property
    def place(self) -> Place:
        """Where findings say it is."""
        return disk_place(self.name)

    @property
    def slot(self) -> str | None:
        """The slot it is plugged in at, as it is written."""
        return self.plug.slot_name

    @property
    def path(self) -> str:
        """Where its image is kept."""
        return self.wanted.path

    @property
    def kept_in(self) -> str:
        """The store that it is in, with the host if that is another machine."""
        host = self.wanted.image.host
        return f"{self.store} on {host}" if host else self.store

    @property
    def size(self) -> int:
        """Its bytes."""
        return self.wanted.size


class StoreCapacity(Frozen):
    """A store: `room` for this sheet's disks, `kept` free of them, `promised` once they are full, `present` already.

    `needed` is what writing stores at once, `free` what the filesystem there has at this moment.
    Stores `beside` it lie on the same filesystem: they need and have promised what they share with it. `measured` is
    whether the room is what is free there, not what the sheet says. `host` is the one that it lies on.
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
    host: str = ""

    @property
    def place(self) -> str:
        """Where it lies, with its host if that is another machine."""
        return f"{self.host}:{self.path}" if self.host else self.path

    @property
    def left(self) -> int:
        """Room left once every disk is full; below zero where more is promised than there is."""
        return self.room - self.kept - self.promised - (self.others_promised if self.measured else 0)


class Layout(Frozen):
    """A sheet worked out. `systems` has what each guest runs, `differences` what is not as wanted.

    `found` is what was found, images that are to be moved as their disks' own; `left_behind` are further images of the
    same disks that moves left when they were cut off, and `left_over` those of disks that the sheet no longer has,
    by their names. `doors` is what is seen of guests through their doors, `guest_hosts` the hosts of guests that
    are not here.
    """

    title: str
    disks: tuple[PlannedDisk, ...]
    stores: tuple[StoreCapacity, ...]
    guests: Mapping[str, Guest]
    systems: Mapping[str, str]
    findings: tuple[Finding, ...]
    differences: tuple[Difference, ...] = ()
    found: Estate = field(default_factory=Estate)
    left_behind: Mapping[str, tuple[Disk, ...]] = field(default_factory=dict)
    left_over: Mapping[str, Disk] = field(default_factory=dict)
    doors: Mapping[str, DoorState] = field(default_factory=dict)
    pools: tuple[PlannedPool, ...] = ()
    guest_hosts: Mapping[str, str] = field(default_factory=dict)

    @property
    def mountable(self) -> tuple[Mountable, ...]:
        """Everything that guests can mount something of: disks, and the volumes of pools."""
        return (*self.disks, *(volume for pool in self.pools for volume in pool.volumes))

    @property
    def wanted(self) -> Estate:
        """Everything that the sheet asks for."""
        return Estate({disk.name: disk.wanted for disk in self.disks}, self.guests)
