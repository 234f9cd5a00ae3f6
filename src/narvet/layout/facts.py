"""What the layout needs to know of the world beforehand, as values; other floors gather them. Sizes are bytes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from narvet.filesystems.contract import FilesystemFacts
from narvet.findings import Finding
from narvet.images.contract import Base
from narvet.tables.contract import Partition

DEFAULT_SECTOR = 512
"""What a hypervisor gives a disk whose image does not say otherwise."""


def sector_not_recorded(format_name: str, sector: int, where: str) -> Finding:
    """Return the note on a disk whose sectors its image does not record."""
    message = f"{format_name} does not record that the disk has sectors of {sector} bytes"
    return Finding("sector-not-recorded", "note", where, message, "attach it with sectors of that size, or use vhdx")


@dataclass(frozen=True)
class StoreFacts:
    """A store's folder at `path`; `free` and `total` are for an ordinary user, `largest_file` is None where unknown.

    Stores with the same `device` lie on one filesystem and share what is free there.
    """

    path: str
    exists: bool
    writable: bool = False
    free: int = 0
    total: int = 0
    filesystem: str = ""
    largest_file: int | None = None
    device: int = 0


@dataclass(frozen=True)
class PartitionFound:
    """A partition of an image; number 0 is a filesystem that fills the disk without a table."""

    place: Partition
    filesystem: FilesystemFacts | None


@dataclass(frozen=True)
class Survey:
    """What is found on an image or device, whoever made it.

    `sector` is 0 where nothing tells it, `block`, the unit a thin image grows by, where there is none.
    """

    path: str
    format: str
    space: str
    size: int
    sector: int
    allocated: int
    base: str | None
    table: str
    table_id: str
    partitions: tuple[PartitionFound, ...]
    findings: tuple[Finding, ...]
    block: int = 0


@dataclass(frozen=True)
class MountEntry:
    """A line of fstab: the six fields of fstab(5), unescaped; `line` counts from 1 where it was read."""

    spec: str
    file: str
    vfstype: str
    mntops: str
    freq: int = 0
    passno: int = 0
    line: int = 0


@dataclass(frozen=True)
class RegistryValue:
    """A binary value of the registry key MountedDevices of a Windows guest."""

    name: str
    data: bytes


@dataclass(frozen=True)
class RegistryFacts:
    """The registry text at `path` that brings a Windows guest its entries; `values` are None where there is none.

    `problem` says why what lies there is none of Narvet's.
    """

    path: str
    values: tuple[RegistryValue, ...] | None = None
    problem: str = ""


@dataclass(frozen=True)
class MountPointFacts:
    """A mount point in a guest's root; `problem` says why it cannot be made or used.

    `owner_can_be_set` is whether this user may give it any owner.
    """

    exists: bool
    empty: bool = True
    problem: str = ""
    uid: int = 0
    gid: int = 0
    mode: int = 0
    owner_can_be_set: bool = True


@dataclass(frozen=True)
class RootFacts:
    """A guest's root: its users (name to uid and gid), groups (name to gid), fstab and mount points asked about.

    `path` is None where the sheet names no root; findings tell why one cannot be used.
    """

    path: str | None = None
    users: Mapping[str, tuple[int, int]] = field(default_factory=dict)
    groups: Mapping[str, int] = field(default_factory=dict)
    entries: tuple[MountEntry, ...] = ()
    mount_points: Mapping[str, MountPointFacts] = field(default_factory=dict)
    findings: tuple[Finding, ...] = ()


@dataclass(frozen=True)
class OriginFacts:
    """The image that a disk starts as a copy of, or is a child of; `problem` says why it cannot be used.

    `data` is the bytes it may hold data in, `base` what a child records of it, `disk` the sheet's disk that it is, and
    `is_base` tells whether the disk's existing image is a child of it.
    """

    path: str
    survey: Survey | None = None
    data: int = 0
    base: Base | None = None
    disk: str | None = None
    is_base: bool = False
    problem: str = ""


@dataclass(frozen=True)
class Recorded:
    """An image that the ledger says was made: for which disk, where, with which table id."""

    disk: str
    path: str
    table_id: str


@dataclass(frozen=True)
class Facts:
    """All facts for one sheet, by name of store, of disk (only those whose image exists) and of guest.

    `origins` has the disks that are copies or children, `registry` the Windows guests. `strays` are the images in the
    stores, and where the ledger has some, that no disk of the sheet is kept in; `ledger` is what was made earlier.
    `anew` are the disks that are to be made although they were made before.
    """

    stores: Mapping[str, StoreFacts] = field(default_factory=dict)
    images: Mapping[str, Survey] = field(default_factory=dict)
    roots: Mapping[str, RootFacts] = field(default_factory=dict)
    origins: Mapping[str, OriginFacts] = field(default_factory=dict)
    registry: Mapping[str, RegistryFacts] = field(default_factory=dict)
    strays: tuple[Survey, ...] = ()
    ledger: tuple[Recorded, ...] = ()
    anew: frozenset[str] = frozenset()
