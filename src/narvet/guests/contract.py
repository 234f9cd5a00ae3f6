"""What a guest's system settles, checks, allows and shows, and how its entries look: one implementation a system.

What only some systems have is a protocol of its own.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Protocol, TypeVar, cast, runtime_checkable

from narvet.ground.values import Frozen

if TYPE_CHECKING:
    from narvet.formats.filesystems.contract import Capacity, Filesystem, Folder
    from narvet.formats.filesystems.trees import FileTree
    from narvet.formats.tables.contract import DataPartition
    from narvet.ground.findings import Finding, Place
    from narvet.model.estate import Disk, FoundSystem, Guest, Partition, Root
    from narvet.model.layout import Mountable, PlannedDisk
    from narvet.model.moves import Difference, Step
    from narvet.sheet.contents import ContentForm, PartitionForm
    from narvet.sheet.form import DiskForm
    from narvet.sheet.machines import GuestForm
    from narvet.sheet.resolved import ResolvedDisk, ResolvedPartition, ResolvedSheet

PartitionKey = tuple[str, int]
"""A partition of a sheet: its disk's name and its position there, from 1."""


T = TypeVar("T")


class DiskAsked(Frozen):
    """A disk as a sheet has it, before anything is settled, with its guest and where findings say it is."""

    guest: GuestForm
    disk: DiskForm
    place: Place


class PartitionAsked(Frozen):
    """A partition or volume as a sheet has it, before anything is settled, with its guest."""

    guest: GuestForm
    partition: ContentForm


class OwnerAsked(Frozen):
    """Whom a filesystem of a `kind`, None for none, is to belong to, and what is found of the guest's accounts."""

    partition: ResolvedPartition
    kind: Filesystem | None
    guest: Guest
    place: Place


class GuestAsked(Frozen):
    """A guest as a sheet has it: its name, where the sheet lies, and the mount points asked about.

    `key_files` are those asked about. `written` are the entries, as lines, that Narvet wrote for this sheet, by its
    ledger. `moment` is the time of changes in images, in seconds since 1970.
    """

    name: str
    form: GuestForm
    sheet: Path
    mount_points: tuple[str, ...]
    written: frozenset[str] = frozenset()
    moment: int = 0
    key_files: tuple[str, ...] = ()


class DiskDefaults(Frozen):
    """What a system settles of a disk: its table, and the bytes it keeps for itself."""

    table: str
    set_aside: int = 0


class PartitionDefaults(Frozen):
    """What a system settles of a partition: its filesystem, whom it belongs to, its attributes."""

    filesystem: str
    owner: str
    attributes: tuple[str, ...] = ()


class Ownership(Frozen):
    """Whom the root of a filesystem belongs to, in the terms of the guest's system."""

    uid: int = 0
    gid: int = 0
    owner_sid: str = ""
    access: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class Everything:
    """All disks and volumes of a sheet, with what systems know them by, which is worked out once for all guests."""

    disks: tuple[Mountable, ...]
    _known: dict[Callable[..., object], object] = field(default_factory=dict, compare=False, repr=False)

    def known_by(self, make: Callable[[Iterable[Mountable]], T]) -> T:
        """Return what a function makes of all disks."""
        if make not in self._known:
            self._known[make] = make(self.disks)
        return cast(T, self._known[make])


class GuestSystem(Protocol):
    """An operating system of guests. Everything but `observe` is pure.

    `data_partition` is the type of partitions for data that it uses. `names_volumes` is whether it has names of its own
    for volumes, `owners_need_rights` whether an owner counts only on filesystems that keep rights. `filesystems` are
    those that it is offered, its own first. `unused_keys` are the keys of guests, disks and partitions that mean
    nothing to it, `mount_point_hint` how its mount points look. `knows_pools` is whether it finds pools at its start.
    """

    name: str
    data_partition: DataPartition
    names_volumes: bool
    owners_need_rights: bool
    filesystems: tuple[str, ...]
    unused_keys: Mapping[type[GuestForm | DiskForm | PartitionForm], tuple[str, ...]]
    mount_point_hint: str
    knows_pools: bool

    def disk_defaults(self, asked: DiskAsked) -> DiskDefaults:
        """Return what it settles of a disk, the sheet's own wishes kept."""

    def partition_defaults(self, asked: PartitionAsked) -> PartitionDefaults:
        """Return what it settles of a partition, the sheet's own wishes kept."""

    def can_mount_at(self, at: str) -> bool:
        """Return whether a mount point is one of its kind."""

    def writes_size(self, size: int) -> str:
        """Return the size of a whole disk as people see it written in the guest."""

    def check_limits(self, disk: PlannedDisk, asked: ResolvedDisk) -> Iterator[Finding]:
        """Yield what a disk as planned will keep people from doing."""

    def ownership(self, asked: OwnerAsked) -> tuple[Ownership, tuple[Finding, ...]]:
        """Return whom the root of a filesystem belongs to, and what is wrong with that."""

    def wanted(self, disks: Iterable[Mountable], found: Guest, every: Everything | None = None) -> Guest:
        """Return the guest as it should be: the entries, mount points and values that its disks ask for.

        `every` are all of the sheet's disks: what Narvet wrote for those that are not the guest's, earlier, goes.
        """

    def only(self, disks: Iterable[Mountable], found: Guest) -> Guest:
        """Return the guest as it should be where only some of its disks are written: what the others have there stays.

        What Narvet wrote for these disks earlier, and they no longer ask for, goes.
        """

    def check_mounts(self, disks: Iterable[Mountable], found: Guest) -> Iterator[Finding]:
        """Yield what is to be said about the mount points and entries of a guest's disks, as far as it is found."""

    def differences(self, wanted: Guest, found: Guest) -> Iterator[Difference]:
        """Yield how a guest's entries differ from what is wanted."""

    def is_mounted(self, disk: Mountable, found: Guest) -> bool:
        """Return whether a guest's own entries mount a filesystem of a disk."""

    def steps(self, wanted: Guest, found: Guest) -> Iterator[Step]:
        """Yield what is left to do for a guest's entries to be as wanted, in order."""

    def removal(self, disk: Mountable, left: Guest, found: Guest) -> Iterator[Step]:
        """Yield what takes a disk's entries from its guest; what is `left` wanted without that disk stays."""

    def entries_go_to(self, guest: Guest) -> str:
        """Return where a guest's entries go, for people."""

    def entry_lines(self, wanted: Guest) -> tuple[str, ...]:
        """Return the entries as they are written."""

    def entry_rows(self, wanted: Guest) -> tuple[tuple[str, ...], ...]:
        """Return the entries as people read them, a row of texts each."""

    def entry_text(self, wanted: Guest) -> str:
        """Return the entries, ready to paste or to import."""

    def uses(self, disk: Disk, part: Partition, found: Guest) -> Iterator[tuple[str, object]]:
        """Yield the keys of a sheet that tell how a guest uses a partition of a disk that was found, by its entries."""

    def observe(self, asked: GuestAsked) -> Guest:
        """Return what is found of a guest; relative paths start where its sheet is."""


@runtime_checkable
class ChecksDisks(Protocol):
    """A system that cannot use everything that can be asked for."""

    def check_disk(self, asked: DiskAsked) -> Iterator[Finding]:
        """Yield what it cannot use of a disk as asked."""


@runtime_checkable
class MountsInFolders(Protocol):
    """A system whose volumes can be mounted in folders by what is written into the filesystem that has the folder."""

    def folder_mounts(
        self, sheet: ResolvedSheet, guest: str
    ) -> tuple[Mapping[PartitionKey, tuple[Folder, ...]], tuple[Finding, ...]]:
        """Return what is mounted in folders of a guest's partitions, and what is wrong with its mount points."""


@runtime_checkable
class WritesSizes(Protocol):
    """A system that writes sizes in a way of its own."""

    def shows(self, capacity: Capacity) -> str:
        """Return a sentence on how it writes the size of a filesystem."""


@runtime_checkable
class HasRoots(Protocol):
    """A system whose entries can be put into a root, whichever it is."""

    def observe_root(self, root: Root, mount_points: Iterable[str]) -> Guest:
        """Return what is found in a root."""

    def install(self, wanted: Guest, found: Guest, *, dry: bool = False) -> tuple[int, int]:
        """Add a guest's entries to a root, unless `dry`; return how many are added, and how many were there."""


@runtime_checkable
class IsRecognised(Protocol):
    """A system that can be told from the files of its root."""

    def recognise(self, tree: FileTree, partition: int) -> FoundSystem | None:
        """Return what lives in a tree of files, which is not trusted; None if it is not this system."""


@runtime_checkable
class UnlocksSeals(Protocol):
    """A system that unlocks sealed volumes at its start, by entries of their own."""

    def unlock_lines(self, wanted: Guest) -> tuple[str, ...]:
        """Return these entries as they are written."""

    def unlocks_go_to(self, guest: Guest) -> str:
        """Return where they go, for people."""

    def key_file(self, part: Partition, found: Guest) -> str:
        """Return the key file that a guest's own entries have for a sealed partition, empty if they have none."""


class MountAsked(Frozen):
    """A partition of a sheet that a guest mounts: as what kind and with which options, at None for swap."""

    where: Place
    partition: Partition
    at: str | None
    kind: str
    options: str


@runtime_checkable
class WorksInside(Protocol):
    """A system inside which Narvet can work, on the devices that it has; `own_root` is its root there."""

    own_root: str

    def mounts(self, disks: Iterable[Mountable]) -> Iterator[MountAsked]:
        """Yield what a guest's disks ask to be mounted, outer ones first."""
