"""What every filesystem can do, and the values it deals in. Sizes are bytes."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from fractions import Fraction
from importlib import import_module
from typing import Any, ClassVar, Literal, Protocol, TypeVar, cast
from uuid import UUID

from narvet.block.contract import BlockDevice, Extent
from narvet.errors import NarvetError
from narvet.findings import Finding

Purpose = Literal["general", "database", "logs", "media"]


class UnfitError(NarvetError):
    """A filesystem cannot be made at this size; `least` and `most` are the bytes it can be made at.

    Where it is another wish that does not fit, `remedy` says what to do about it.
    """

    status = 2

    def __init__(self, message: str, least: int, most: int, remedy: str = "") -> None:
        super().__init__(message)
        self.least = least
        self.most = most
        self.remedy = remedy


@dataclass(frozen=True)
class Folder:
    """A folder of a filesystem, by the names that lead to it from its root, with the `volume` to be mounted in it."""

    path: tuple[str, ...]
    volume: UUID


@dataclass(frozen=True)
class Options:
    """What a filesystem is asked to be; `made` is seconds since 1970, other numbers bytes.

    `start` is where its partition starts on the disk, `block` is the allocation unit, `inode_each` the bytes for each
    inode, `journal` the size of journal or log, `reserved` the share kept for the superuser; None leaves each to the
    filesystem and its purpose. `chunk` is what the storage below puts on one of its disks before it goes on to the
    next, `stripe` that times the disks; 0 if unknown. `owner_sid` and `access` (SID; full, change or read) are for
    filesystems that keep the rights of Windows accounts, `folders` for those that can have volumes mounted in them.
    """

    uuid: UUID = field(default_factory=lambda: UUID(int=0))
    label: str = ""
    purpose: Purpose = "general"
    sector: int = 512
    uid: int = 0
    gid: int = 0
    mode: int = 0o755
    made: int = 0
    start: int = 0
    block: int | None = None
    inode_each: int | None = None
    journal: int | None = None
    reserved: Fraction | None = None
    chunk: int = 0
    stripe: int = 0
    owner_sid: str = ""
    access: tuple[tuple[str, str], ...] = ()
    folders: tuple[Folder, ...] = ()


@dataclass(frozen=True)
class Loss:
    """Bytes of the partition that an ordinary user cannot fill, and what they are."""

    what: str
    size: int


@dataclass(frozen=True)
class Capacity:
    """What a guest reports for the freshly mounted filesystem: statvfs' f_blocks, f_bfree and f_bavail in bytes.

    `losses` and `available` add up to the size of the partition.
    """

    total: int
    free: int
    available: int
    losses: tuple[Loss, ...]


@dataclass(frozen=True)
class FilesystemFacts:
    """What is found on a device that is not trusted.

    `rights` is the security descriptor of the root as text, `links` are folders that lead to other volumes: path and
    target.
    """

    kind: str
    uuid: str
    label: str
    size: int
    total: int
    free: int
    block: int
    uid: int | None = None
    gid: int | None = None
    mode: int | None = None
    features: tuple[str, ...] = ()
    rights: str = ""
    links: tuple[tuple[str, str], ...] = ()
    findings: tuple[Finding, ...] = field(default=())


GeometryT = TypeVar("GeometryT")


class Filesystem(Protocol[GeometryT]):
    """A filesystem: pure arithmetic (geometry, capacity, footprint, breakpoints) apart from writing and reading.

    `check_pass` is the sixth field of its line of fstab; `keeps_owner` is whether owner and mode of
    its root are kept in it; `keys` are the keys of its own.
    """

    name: str
    least: int
    most: int
    label_limit: int
    mount_type: str
    check_pass: int
    keeps_owner: bool
    keys: ClassVar[frozenset[str]]

    def units(self, sector: int) -> tuple[int, ...]:
        """Return the allocation units that can be chosen, ascending."""

    def known_as(self, uuid: UUID) -> str:
        """Return the id that a guest knows it by, in small letters."""

    def spec(self, known_as: str) -> str:
        """Return the first field of its line of fstab."""

    def stored_label(self, label: str) -> str | None:
        """Return a label as it is stored, None if it has characters that cannot be."""

    def mount_options(self, options: Options) -> tuple[str, ...]:
        """Return the mount options that its purpose, owner and mode ask for."""

    def geometry(self, size: int, options: Options) -> GeometryT:
        """Work out where everything lies in `size` bytes; UnfitError if it cannot be done."""

    def capacity(self, geometry: GeometryT) -> Capacity:
        """Return what the guest will report, to the byte."""

    def footprint(self, geometry: GeometryT) -> int:
        """Return the most bytes that writing it stores, on a disk that stores only what is written."""

    def rights(self, geometry: GeometryT) -> str:
        """Return the rights of its root as text, empty for one that keeps no rights of Windows accounts."""

    def links(self, geometry: GeometryT) -> tuple[tuple[str, str], ...]:
        """Return path and target of each folder in it that leads to another volume."""

    def breakpoints(self, options: Options) -> tuple[int, ...]:
        """Return the sizes at which its rules change, ascending; between two, capacity never shrinks with size."""

    def label_length(self, label: str) -> int:
        """Return how much of `label_limit` a label takes."""

    def write(self, device: BlockDevice, geometry: GeometryT) -> None:
        """Write it to a device that reads as zeros."""

    def read(self, device: BlockDevice, where: str, *, deep: bool = True) -> FilesystemFacts | None:
        """Return what is found, None if it is not this filesystem; findings tell of damage.

        Without `deep` only what its facts need is read and checked, so that it costs next to nothing.
        """

    def claims(self, device: BlockDevice) -> bool:
        """Return whether a device whose signature fits looks like this filesystem, sound or not."""

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield runs that a sound filesystem, read before, keeps nothing in, ascending; not necessarily all of them."""


class Usual:
    """What most filesystems of Linux share."""

    check_pass = 2  # fstab(5): checked after the root
    keeps_owner = True
    keys: ClassVar[frozenset[str]] = frozenset()

    def known_as(self, uuid: UUID) -> str:
        """Return the UUID."""
        return str(uuid)

    def spec(self, known_as: str) -> str:
        """Return the UUID with its tag."""
        return f"UUID={known_as}"

    def stored_label(self, label: str) -> str | None:
        """Return the label."""
        return label

    def label_length(self, label: str) -> int:
        """Return the bytes of a label."""
        return len(label.encode())

    def mount_options(self, options: Options) -> tuple[str, ...]:
        """Return what spares a database and large files a write for every read."""
        return ("noatime",) if options.purpose in ("database", "media") else ()

    def rights(self, geometry: Any) -> str:
        """Return nothing."""
        del geometry
        return ""

    def links(self, geometry: Any) -> tuple[tuple[str, str], ...]:
        """Return nothing."""
        del geometry
        return ()

    def claims(self, device: BlockDevice) -> bool:
        """Return yes: a signature of several bytes at its place is no accident."""
        del device
        return True

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield nothing."""
        del device
        yield from ()


def ownerless_options(options: Options, *, usual: int) -> tuple[str, ...]:
    """Return the mount options by which a filesystem without owners gives all files the owner and mode asked for.

    `usual` is the mode of folders that needs no option.
    """
    words: list[str] = []
    if options.uid or options.gid:
        words += [f"uid={options.uid}", f"gid={options.gid}"]
    if options.mode & 0o777 != usual:
        mask = ~options.mode & 0o777
        words += [f"dmask={mask:04o}", f"fmask={mask | 0o111:04o}"]
    return tuple(words)


class InFolder(Usual):
    """A filesystem in a folder of its own, whose modules are loaded when they are needed."""

    folder: ClassVar[str]
    maps: ClassVar[str] = "read"  # the module that knows what is unused

    def _part(self, name: str) -> Any:
        return import_module(f"{self.folder}.{name}")

    def geometry(self, size: int, options: Options) -> Any:
        """Work out where everything lies in `size` bytes."""
        return self._part("geometry").plan(size, options)

    def capacity(self, geometry: Any) -> Capacity:
        """Return what the guest will report."""
        return cast(Capacity, self._part("geometry").capacity(geometry))

    def footprint(self, geometry: Any) -> int:
        """Return the most bytes that writing it stores."""
        return cast(int, self._part("geometry").footprint(geometry))

    def breakpoints(self, options: Options) -> tuple[int, ...]:
        """Return the sizes at which its rules change."""
        return cast(tuple[int, ...], self._part("geometry").breakpoints(options))

    def units(self, sector: int) -> tuple[int, ...]:
        """Return the allocation units that can be chosen."""
        return tuple(size for size in self._part("geometry").UNITS if size >= sector)

    def write(self, device: BlockDevice, geometry: Any) -> None:
        """Write it to a device that reads as zeros."""
        self._part("write").write(device, geometry)

    def read(self, device: BlockDevice, where: str, *, deep: bool = True) -> FilesystemFacts | None:
        """Return what is found on a device that is not trusted."""
        return cast("FilesystemFacts | None", self._part("read").read(device, where, deep=deep))

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield runs that a sound filesystem keeps nothing in."""
        return cast("Iterator[Extent]", self._part(self.maps).unused(device))
