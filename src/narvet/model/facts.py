"""What a plan starts from: what is found, and what only the sheet's history says."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from narvet.ground.values import Frozen, field
from narvet.model.controllers import Slot
from narvet.model.devices import Device
from narvet.model.estate import Disk, Estate, Guest
from narvet.model.plugs import DoorState, Plugged

if TYPE_CHECKING:
    from narvet.formats.images.contract import Base


class OriginFacts(Frozen):
    """The image that a disk starts as a copy of, or is a child of; `problem` says why it cannot be used.

    `host` is where it lies, empty for this machine. `data` is the bytes it may hold data in, `base` what a child
    records of it, `disk` the sheet's disk that it is, and `is_base` tells whether the disk's existing image is a child
    of it.
    """

    path: str
    found: Disk | None = None
    data: int = 0
    base: Base | None = None
    disk: str | None = None
    is_base: bool = False
    problem: str = ""
    host: str = ""


HostPath = tuple[str, str]
"""A host, empty for this machine, and a plain path there."""


class Recorded(Frozen):
    """An image that the ledger says was made: for which disk, where, with which table id.

    `asked` is what the sheet asked for then of what a guest may have changed since (see `plan.diff.asked_of`), `names`
    what the disk was called before it was renamed, the first name first. `slot` is the one it got then, `host` where
    it was made, empty for this machine.
    """

    disk: str
    path: str
    table_id: str
    asked: Mapping[str, str] = field(default_factory=dict)
    names: tuple[str, ...] = ()
    slot: Slot | None = None
    host: str = ""


class Facts(Frozen):
    """All facts for one sheet. `origins` has the disks that are copies or children, by name.

    `ledger` is what was made earlier, `moving` where moves that were cut off may have left images, by disk; `anew` are
    the disks that are to be made although they were made before. `doors` is what is seen of guests through their
    doors, `plugged` the guests and the ways in which images that were found are plugged in, by their paths, and
    `unread` the disks that were therefore not read in full. `devices` are the real devices that stand for disks, by
    the disks' names; `apart` are disks that are real devices of a guest, with its name, which only a Narvet inside
    that guest can see. `only` are the disks that are to be written, all of them if it is empty. `volumes_asked` is
    what `Recorded.asked` is, of volumes of pools by the names that findings have for them. `left_roots` are roots
    that entries went into earlier and that are no guest's now, with the names of their systems. `begun_volumes` are
    the disks whose volumes were begun to be ordered, and not finished, with the marks of these orders.
    `far` are the hosts that are other machines, each with whether it was given the passphrase of what is sealed there.
    """

    found: Estate = field(default_factory=Estate)
    origins: Mapping[str, OriginFacts] = field(default_factory=dict)
    ledger: tuple[Recorded, ...] = ()
    moving: Mapping[str, tuple[HostPath, ...]] = field(default_factory=dict)
    anew: frozenset[str] = frozenset()
    doors: Mapping[str, DoorState] = field(default_factory=dict)
    plugged: Mapping[str, tuple[tuple[str, Plugged], ...]] = field(default_factory=dict)
    unread: frozenset[str] = frozenset()
    begun_volumes: Mapping[str, str] = field(default_factory=dict)
    devices: Mapping[str, Device] = field(default_factory=dict)
    apart: Mapping[str, str] = field(default_factory=dict)
    only: frozenset[str] = frozenset()
    left_roots: tuple[tuple[str, Guest], ...] = ()
    volumes_asked: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    far: Mapping[str, bool] = field(default_factory=dict)
