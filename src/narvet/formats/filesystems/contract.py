"""What every filesystem can do, and the values it deals in. Sizes are bytes.

A filesystem is one value, its shape, whether it is planned from a size and options or read from a superblock. What a
guest shows, what a check compares and what growth starts from are functions of that value. What only some filesystems
can do is a protocol of its own.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterator
from fractions import Fraction
from functools import cache
from operator import attrgetter
from typing import Any, Literal, NamedTuple, Protocol, Self, runtime_checkable
from uuid import UUID

from narvet.block.contract import BlockDevice
from narvet.ground.errors import NarvetError
from narvet.ground.extents import Extent
from narvet.ground.findings import Finding, Place
from narvet.ground.units import show_binary, show_bytes
from narvet.ground.values import Frozen, part_names

Purpose = Literal["general", "database", "logs", "media"]
PURPOSES: tuple[Purpose, ...] = ("general", "database", "logs", "media")
CHECKED_AFTER_ROOT, NEVER_CHECKED = 2, 0
"""The sixth field of a line of fstab (fstab(5))."""


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


class CannotChangeError(NarvetError):
    """A filesystem that exists cannot be changed so; `remedy` is what to do about it.

    `least` and `most` are the bytes it can be, where the size is what does not fit.
    """

    status = 2

    def __init__(self, message: str, remedy: str, least: int = 0, most: int = 0) -> None:
        super().__init__(message)
        self.remedy = remedy
        self.least = least
        self.most = most


class Folder(Frozen):
    """A folder of a filesystem, by the names that lead to it from its root, with the `volume` to be mounted in it."""

    path: tuple[str, ...]
    volume: UUID


class Wishes(NamedTuple):
    """Everything that can be asked of any filesystem; each takes what its own options have.

    `made` is seconds since 1970, other numbers are bytes. `start` is where its partition starts on the disk, `unit` is
    the allocation unit, `inode_each` the bytes for each inode, `journal` the size of journal or log, `reserved` the
    share kept for the superuser; None leaves each to the filesystem and its purpose. `chunk` is what the storage below
    puts on one of its disks before it goes on to the next, `stripe` that times the disks; 0 if unknown. `owner_sid` and
    `access` (SID; full, change or read) are for filesystems that keep the rights of Windows accounts, `folders` for
    those that can have volumes mounted in them. `noise` is whether what was never written reads as noise, not as zeros.
    """

    uuid: UUID = UUID(int=0)
    label: str = ""
    purpose: Purpose = "general"
    sector_size: int = 512
    uid: int = 0
    gid: int = 0
    mode: int = 0o755
    made: int = 0
    start: int = 0
    unit: int | None = None
    inode_each: int | None = None
    journal: int | None = None
    reserved: Fraction | None = None
    chunk: int = 0
    stripe: int = 0
    owner_sid: str = ""
    access: tuple[tuple[str, str], ...] = ()
    folders: tuple[Folder, ...] = ()
    noise: bool = False


OWN_KEYS = {"unit": "block", "inode_each": "inode_each", "journal": "journal", "reserved": "reserved"}
"""Options that only some filesystems have, with their keys in a sheet's partition."""


class Loss(Frozen):
    """Bytes of the partition that an ordinary user cannot fill, and what they are."""

    what: str
    size: int


class Capacity(Frozen):
    """What a guest reports for the freshly mounted filesystem: statvfs' f_blocks, f_bfree and f_bavail in bytes.

    `losses` and `available` add up to the size of the partition.
    """

    total: int
    free: int
    available: int
    losses: tuple[Loss, ...]


class Shape(Protocol):
    """The sizes of one filesystem, planned or read: a frozen value."""

    @property
    def size(self) -> int:
        """Bytes that it takes of its partition, by its own count."""

    @property
    def total(self) -> int:
        """Bytes that a guest shows as its size (statvfs: f_blocks)."""

    @property
    def unit(self) -> int:
        """Bytes of an allocation unit."""

    @property
    def held_back(self) -> int:
        """Bytes that are free, but that an ordinary user cannot fill."""


class FilesystemState(Frozen):
    """A filesystem as it is: read from a device, or as a reader will find it once it is written.

    `uuid` is what guests know it by. `shape` is None where it is too damaged to tell.
    `uid`, `gid` and `mode` are its root's, None where the mount decides. `rights` is the security descriptor of its
    root as text, `links` are folders that lead to other volumes: path and target, which is empty for one that is to
    go. `free` is bytes. `unclean` is why nothing in it may be changed before a guest has used it, empty if that is not
    so. `account` is what growth needs to know besides, of the filesystem's own making.
    """

    kind: str
    uuid: str
    label: str = ""
    shape: Shape | None = None
    free: int = 0
    uid: int | None = None
    gid: int | None = None
    mode: int | None = None
    features: tuple[str, ...] = ()
    rights: str = ""
    links: tuple[tuple[str, str], ...] = ()
    findings: tuple[Finding, ...] = ()
    unclean: str = ""
    account: object = None

    @property
    def size(self) -> int:
        """Bytes it takes of its partition, 0 where that is not known."""
        return self.shape.size if self.shape else 0

    @property
    def total(self) -> int:
        """Bytes that a guest shows as its size, 0 where that is not known."""
        return self.shape.total if self.shape else 0

    @property
    def available(self) -> int:
        """Bytes that an ordinary user can fill."""
        return max(self.free - (self.shape.held_back if self.shape else 0), 0)

    def capacity(self, size: int) -> Capacity:
        """Return what a guest shows of it in a partition of `size` bytes, with the files that are in it."""
        losses = (
            ("metadata", self.size - self.total),
            ("in use", self.total - self.free),
            ("held back from ordinary users", self.free - self.available),
            ("not taken by the filesystem", size - self.size),
        )
        return Capacity(self.total, self.free, self.available, tuple(Loss(what, n) for what, n in losses if n > 0))


def left_links(wanted: FilesystemState, found: FilesystemState) -> Iterator[tuple[str, str]]:
    """Yield the folders of a filesystem, with where they lead, in which nothing is to be mounted any more."""
    there = dict(found.links)
    yield from ((path, there[path]) for path, target in wanted.links if not target and path in there)


class NewFilesystem(Protocol):
    """A filesystem that is to be made in a partition of `size` bytes: its shape, and what it is made with."""

    @property
    def size(self) -> int:
        """Bytes of the partition."""

    @property
    def options(self) -> Options:
        """What it is made with."""

    @property
    def shape(self) -> Shape:
        """Its sizes."""

    def capacity(self) -> Capacity:
        """Return what the guest will report, to the byte."""

    def footprint(self) -> int:
        """Return the most bytes that writing it stores, on a disk that stores only what is written."""

    def state(self) -> FilesystemState:
        """Return what a reader will find once it is written."""

    def write(self, device: BlockDevice) -> None:
        """Write it to a device that reads as zeros."""


class Resizing(Protocol):
    """A filesystem that exists and is to get another size: worked out from its state alone."""

    @property
    def before(self) -> FilesystemState:
        """The filesystem as it was found."""

    @property
    def state(self) -> FilesystemState:
        """What a reader will find afterwards."""

    def footprint(self) -> int:
        """Return the most bytes that it stores, on a disk that stores only what is written."""

    def write(self, device: BlockDevice) -> None:
        """Write it to a device that is large enough for both, which still holds what `before` says.

        Behind the end that the filesystem had, writing takes effect at once, as nobody looks there yet. All else is
        kept back by the device until everything is known, so that no order matters.

        Raises:
            ImageError: what is there is not sound after all.
            CannotChangeError: what is there cannot be changed so.
        """


def refuse_unknown(state: FilesystemState, understood: frozenset[str]) -> None:
    """Raise CannotChangeError where a filesystem may not be changed: not clean, or with features that nobody knows."""
    if state.shape is None:
        raise CannotChangeError(f"the {state.kind} is damaged", "repair it in its guest")
    if state.unclean:
        raise CannotChangeError(f"the {state.kind} cannot be changed: {state.unclean}", CLEAN_IT)
    unknown = sorted(set(state.features) - understood)
    if unknown:
        raise CannotChangeError(
            f"the {state.kind} uses {', '.join(unknown)}, which is not known here well enough to change it",
            "let its guest do it",
        )


def cannot_shrink(kind: str, size: int, least: int, least_moving: int, *, moving: bool) -> CannotChangeError:
    """Return the refusal of `size` bytes for a filesystem that needs `least`, or `least_moving` if its files move.

    `moving` is whether they may.
    """
    if not moving and least_moving <= size:
        return CannotChangeError(
            f"the {kind} keeps something up to {show_bytes(least)}, and {show_bytes(size)} are asked for",
            f"ask for that much or more, or let its files be moved forward ({MOVE_FILES})",
            least,
        )
    needed = min(least, least_moving)
    how = "" if moving or needed == least else f", and let its files be moved forward ({MOVE_FILES})"
    return CannotChangeError(
        f"the {kind} keeps more than fits into {show_bytes(size)}; it needs at least {show_bytes(needed)}",
        f"ask for that much or more{how}",
        needed if moving else least,
    )


MOVE_FILES = "move_files = true in a sheet, --move-files without one"
"""How it is said that files may be moved so that a filesystem can become smaller."""

CLEAN_IT = "start its guest, let it mount the filesystem and shut down cleanly"
"""The way out for a filesystem that nothing may be changed in."""


@cache
def _chosen(kind: type[Options]) -> tuple[tuple[str, ...], attrgetter[tuple[Any, ...]]]:
    """Return the fields of options, and what takes these out of wishes."""
    names = part_names(kind)
    return names, attrgetter(*names)


@cache
def _own_keys(kind: type[Options]) -> frozenset[str]:
    return frozenset(OWN_KEYS[own] for own in part_names(kind) if own in OWN_KEYS)


class Options(Frozen, kw_only=True):
    """What every filesystem is made with; each has a model of its own that adds what only it has.

    See `Wishes` for the units of the fields.
    """

    uuid: UUID
    label: str
    purpose: Purpose
    sector_size: int
    made: int
    start: int

    @classmethod
    def of(cls, wishes: Wishes) -> Self:
        """Return the options of this filesystem out of everything that is wished."""
        kind: Any = cls  # a class is hashable, which its own __hash__ hides from mypy
        names, values = _chosen(kind)
        return cls(**dict(zip(names, values(wishes), strict=True)))

    @classmethod
    def keys(cls) -> frozenset[str]:
        """Return the keys of a sheet that it has of its own."""
        kind: Any = cls
        return _own_keys(kind)

    @abstractmethod
    def plan(self, size: int) -> NewFilesystem:
        """Return the filesystem in a partition of `size` bytes.

        Raises:
            UnfitError: it cannot be made at this size, or not with these options.
        """

    @abstractmethod
    def breakpoints(self) -> tuple[int, ...]:
        """Return the sizes at which its rules change, ascending; between two, capacity never shrinks with size."""

    def unlike(self, planned: Shape, found: Shape) -> Iterator[tuple[str, str]]:
        """Yield the keys, asked for by themselves, that a filesystem made otherwise does not follow, and why.

        `planned` is the shape that they would give it today, `found` the one that it has.
        """
        unit = getattr(self, "unit", None)
        if unit is not None and unit != found.unit and planned.unit == unit:
            yield "block", f"its units have {show_binary(found.unit)}, not {show_binary(unit)}"

    def mount_options(self) -> tuple[str, ...]:
        """Return the mount options that its purpose asks for: one that spares a write for every read."""
        return ("noatime",) if self.purpose in ("database", "media") else ()


class OwnedOptions(Options, kw_only=True):
    """The options of a filesystem whose root has owner and mode: kept in it, or given to it by the mount."""

    uid: int
    gid: int
    mode: int


def owner_mount_options(options: OwnedOptions, *, usual: int) -> tuple[str, ...]:
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


class Filesystem(Protocol):
    """A filesystem: what it can be, how it is named and mounted, and how it is made and read.

    `check_pass` is the sixth field of its line of fstab; `keeps_owner` is whether owner and mode of its root are kept
    in it, `keeps_rights` whether the rights of Windows accounts are. `holds_mounts` is whether volumes can be mounted
    in its folders by what is written into it. `largest_file` is bytes, None where files can be as large as the disk.
    """

    name: str
    least: int
    most: int
    label_limit: int
    mount_type: str
    check_pass: int
    keeps_owner: bool
    keeps_rights: bool
    holds_mounts: bool
    largest_file: int | None

    @property
    def options(self) -> type[Options]:
        """The model of what it is made with."""

    def units(self, sector_size: int) -> tuple[int, ...]:
        """Return the allocation units that can be chosen, ascending."""

    def native_id(self, uuid: UUID) -> str:
        """Return the id that a guest knows it by, in small letters."""

    def uuid_of(self, native_id: str) -> UUID:
        """Return a UUID that stands for the id that a guest knows it by; ValueError if it is none."""

    def fstab_source(self, native_id: str) -> str:
        """Return the first field of its line of fstab."""

    def stored_label(self, label: str) -> str | None:
        """Return a label as it is stored, None if it has characters that cannot be."""

    def label_length(self, label: str) -> int:
        """Return how much of `label_limit` a label takes."""

    def plan(self, size: int, wishes: Wishes) -> NewFilesystem:
        """Return the filesystem in a partition of `size` bytes; UnfitError if it cannot be made so."""

    def read(self, device: BlockDevice, where: Place, *, deep: bool = True) -> FilesystemState | None:
        """Return what is found, None if it is not this filesystem; findings tell of damage.

        Without `deep` only what its state needs is read and checked, so that it costs next to nothing.
        """

    def correct(self, device: BlockDevice, wanted: FilesystemState) -> None:
        """Give a clean filesystem the label that a state says, and its root owner and mode where it keeps them.

        Volumes are mounted in the folders that a state has as links; those that lead to the same ones otherwise go.

        Only what differs is written, to a device that keeps it back until everything is known.

        Raises:
            ImageError: it is not sound.
            CannotChangeError: there is no room for it.
        """

    def grown(self, state: FilesystemState, size: int) -> Resizing:
        """Return a filesystem made as large as `size` bytes allow; as it is, where that is less than a unit more.

        Raises:
            CannotChangeError: it cannot be made so large, or may not be changed now.
        """

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield runs that a sound filesystem, read before, keeps nothing in, ascending; not necessarily all of them."""


@runtime_checkable
class Shrinks(Protocol):
    """A filesystem that can give back what lies at its end."""

    def reached(self, device: BlockDevice, state: FilesystemState) -> FilesystemState:
        """Return the state of a filesystem, read before, with how far what it keeps reaches in its account.

        It comes back as it is where nothing may be changed.
        """

    def shrunk(self, state: FilesystemState, size: int, *, moving: bool = False) -> Resizing:
        """Return a filesystem made no larger than `size` bytes; with `moving` its files may get other places for that.

        `state` comes from `reached`.

        Raises:
            CannotChangeError: something lies behind that end, or it may not be changed now.
        """


@runtime_checkable
class ReadsLittle(Protocol):
    """A filesystem of which a guest does not read all that it keeps: where the rest is noise, nothing need be written.

    `unread` are the losses in the account of a new one that it need not be written for.
    """

    unread: tuple[str, ...]

    def relied_on(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield the runs that a guest reads as they lie there, ascending."""


@runtime_checkable
class GrowsMounted(Protocol):
    """A filesystem that a running kernel makes larger while it is mounted."""

    def grow_mounted(self, at: str, size: int) -> None:
        """Have the kernel make the one that is mounted at a folder as large as `size` bytes allow.

        Raises:
            OSError: the kernel refused.
        """


@runtime_checkable
class Claims(Protocol):
    """A filesystem whose signature other things carry too, so that more must be looked at."""

    def claims(self, device: BlockDevice) -> bool:
        """Return whether a device whose signature fits looks like this filesystem, sound or not."""


class LinuxFilesystem:
    """What most filesystems share: ids that are UUIDs, labels of UTF-8, owners in the filesystem."""

    options: type[Options]
    check_pass: int = CHECKED_AFTER_ROOT
    keeps_owner = True
    keeps_rights = False
    holds_mounts = False
    largest_file: int | None = None

    def native_id(self, uuid: UUID) -> str:
        """Return the UUID."""
        return str(uuid)

    def uuid_of(self, native_id: str) -> UUID:
        """Return the UUID."""
        return UUID(native_id)

    def fstab_source(self, native_id: str) -> str:
        """Return the UUID with its tag."""
        return f"UUID={native_id}"

    def stored_label(self, label: str) -> str | None:
        """Return the label."""
        return label

    def label_length(self, label: str) -> int:
        """Return the bytes of a label."""
        return len(label.encode())

    def plan(self, size: int, wishes: Wishes) -> NewFilesystem:
        """Return the filesystem in a partition of `size` bytes."""
        return self.options.of(wishes).plan(size)


class ForWindows(LinuxFilesystem):
    """What filesystems share that Windows brought: serial numbers in capitals as ids, no check by fstab."""

    check_pass = NEVER_CHECKED
    keeps_owner = False

    def uuid_of(self, native_id: str) -> UUID:
        """Return one that starts with the serial number."""
        digits = native_id.replace("-", "")
        if len(digits) not in (8, 16):
            raise ValueError("a serial number has 8 or 16 digits")
        return UUID(int=int(digits.ljust(32, "0"), 16))

    def fstab_source(self, native_id: str) -> str:
        """Return the serial number with the tag of ids, in capitals as guests write it."""
        return f"UUID={native_id.upper()}"
