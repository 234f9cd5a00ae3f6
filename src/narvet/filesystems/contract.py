"""What every filesystem can do, and the values it deals in. Sizes are bytes."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Literal, Protocol, TypeVar
from uuid import UUID

from narvet.block.contract import BlockDevice, Extent
from narvet.errors import NarvetError
from narvet.findings import Finding

Purpose = Literal["general", "database", "logs", "media"]


class UnfitError(NarvetError):
    """A filesystem cannot be made at this size; `least` and `most` are the bytes it can be made at."""

    status = 2

    def __init__(self, message: str, least: int, most: int) -> None:
        super().__init__(message)
        self.least = least
        self.most = most


@dataclass(frozen=True)
class Options:
    """What a filesystem is asked to be; `made` is seconds since 1970."""

    uuid: UUID = field(default_factory=lambda: UUID(int=0))
    label: str = ""
    purpose: Purpose = "general"
    sector: int = 512
    uid: int = 0
    gid: int = 0
    mode: int = 0o755
    made: int = 0


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
    """What is found on a device that is not trusted."""

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
    findings: tuple[Finding, ...] = field(default=())


GeometryT = TypeVar("GeometryT")


class Filesystem(Protocol[GeometryT]):
    """A filesystem: pure arithmetic (geometry, capacity, footprint, breakpoints) apart from writing and reading."""

    name: str
    least: int
    most: int
    label_limit: int
    mount_type: str

    def geometry(self, size: int, options: Options) -> GeometryT:
        """Work out where everything lies in `size` bytes; UnfitError if it cannot be done."""

    def capacity(self, geometry: GeometryT) -> Capacity:
        """Return what the guest will report, to the byte."""

    def footprint(self, geometry: GeometryT) -> int:
        """Return the most bytes that writing it stores, on a disk that stores only what is written."""

    def breakpoints(self, options: Options) -> tuple[int, ...]:
        """Return the sizes at which its rules change, ascending; between two, capacity never shrinks with size."""

    def label_length(self, label: str) -> int:
        """Return how much of `label_limit` a label takes."""

    def write(self, device: BlockDevice, geometry: GeometryT) -> None:
        """Write it to a device that reads as zeros."""

    def read(self, device: BlockDevice, where: str) -> FilesystemFacts | None:
        """Return what is found, None if it is not this filesystem; findings tell of damage."""

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield runs that a sound filesystem, read before, keeps nothing in, ascending; not necessarily all of them."""
