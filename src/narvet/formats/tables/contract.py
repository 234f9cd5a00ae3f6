"""What every partition table format can do, and the values it deals in. Offsets and sizes are bytes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Literal, Protocol, runtime_checkable
from uuid import UUID

from narvet.block.contract import BlockDevice
from narvet.ground.extents import Extent
from narvet.ground.findings import Finding, Place
from narvet.ground.rules import tables as rules
from narvet.ground.values import Frozen

POOL = "pool"
"""What stands for a filesystem where a partition is a member of a pool."""

DataPartition = Literal["linux", "basic"]
"""The two types of partitions for data that tables know: of Linux, and the basic one of most other systems."""


@dataclass(frozen=True, slots=True)
class PartitionEntry:
    """One entry of a table; `number` counts from 1 as guests count.

    `link` is the byte of what the table keeps between the partitions for this one, where it was read and there is such.
    """

    number: int
    start: int
    size: int
    type: str
    id: str
    label: str = ""
    attributes: int = 0
    link: int | None = field(default=None, compare=False)

    @property
    def reach(self) -> int:
        """The first byte that it takes of the disk, with what the table keeps ahead of it."""
        return self.start if self.link is None else min(self.link, self.start)

    @property
    def end(self) -> int:
        """The first byte after the partition."""
        return self.start + self.size


class Table(Frozen):
    """A whole partition table; `id` is what guests know the disk by, as text."""

    kind: str
    id: str
    partitions: tuple[PartitionEntry, ...]


class Bounds(Frozen):
    """What a table leaves to partitions on a disk: bytes from `first` up to, not including, `end`."""

    first: int
    end: int


class Reserved(Frozen):
    """A run of the disk that the table itself takes."""

    start: int
    size: int
    what: str


def attribute_names(known: Mapping[str, int], attributes: int) -> tuple[str, ...]:
    """Return the names of the flags that a partition has, by those its table format has names for."""
    return tuple(name for name, bit in known.items() if attributes & bit)


class TableFormat(Protocol):
    """A partition table format; `keeps_labels` tells whether partitions have names of their own.

    `attributes` are the flags that a partition can have, by their names in a sheet; `aside` is the type of one that a
    system sets aside for itself, empty if it sets nothing aside.
    """

    name: str
    most_partitions: int
    label_limit: int
    keeps_labels: bool
    attributes: Mapping[str, int]
    aside: str

    def most(self, sector_size: int) -> int:
        """Return the bytes from the start of a disk that partitions can lie in."""

    def native_id(self, uuid: UUID) -> str:
        """Return the id of a table that a UUID stands for."""

    def uuid_of(self, native_id: str) -> UUID:
        """Return a UUID that stands for the id of a table; ValueError if it is none."""

    def native_partition_id(self, table: str, uuid: UUID, number: int) -> str:
        """Return the id of a partition."""

    def numbers(self, count: int) -> tuple[int, ...]:
        """Return the numbers that guests give `count` partitions."""

    def bounds(self, disk_size: int, sector_size: int) -> Bounds:
        """Return where partitions may lie on a disk of that size."""

    def reserved(self, disk_size: int, sector_size: int) -> tuple[Reserved, ...]:
        """Return the runs the table takes, ascending."""

    def partition_type(self, filesystem: str | None, data: DataPartition) -> str:
        """Return the type that a partition carries, by its filesystem, or else by the kind of data partition."""

    def suits(self, type: str, filesystem: str) -> bool:  # noqa: A002 (the specifications' own word)
        """Return whether a partition of this type is one that such a filesystem is found on."""

    def label_length(self, label: str) -> int:
        """Return how much of `label_limit` a label takes."""

    def write(self, device: BlockDevice, table: Table) -> None:
        """Write every copy of the table."""

    def change(self, device: BlockDevice, entries: Iterable[PartitionEntry]) -> None:
        """Give partitions, by their numbers, these entries; numbers that are free become partitions.

        The table was read without a fault, and fits the disk. Every byte that need not change stays, also of tables
        made by others. The device is staged, so no order matters.

        Raises:
            UnsupportedError: the table has no room for one of them.
        """

    def read(self, device: BlockDevice, where: Place) -> tuple[Table | None, tuple[Finding, ...]]:
        """Return the table on a device that is not trusted, or None, and what is wrong with it."""


@runtime_checkable
class LinksPartitions(Protocol):
    """A table format that keeps parts of the table between the partitions."""

    def ahead(self, index: int, count: int, sector_size: int) -> int:
        """Return the bytes that the table needs right ahead of partition `index` (from 0) of `count`."""

    def ahead_of(self, number: int, sector_size: int) -> int:
        """Return the bytes that the table needs right ahead of the partition with this number."""


@runtime_checkable
class EndsWithDisk(Protocol):
    """A table format that tells of the disk's end, or keeps a part of the table there."""

    def follow_end(self, device: BlockDevice, old_size: int) -> tuple[Extent, ...]:
        """Fit the table of a disk that was made larger or smaller to its new end; return the runs that were changed.

        Every byte that need not change stays, also of tables made by others. `old_size` is bytes.
        """


def check_partitions(table: Table, bounds: Bounds, where: Place) -> Iterator[Finding]:
    """Yield findings for partitions that leave the disk, overlap or start between 4096-byte boundaries."""
    reach = 0
    for part in sorted(table.partitions, key=lambda part: part.start):
        place = where.part(part.number)
        if part.start < bounds.first or part.end > bounds.end:
            yield rules.partition_past_end.error(place, part.start, part.end, bounds.first, bounds.end)
        if part.start < reach:
            yield rules.partitions_overlap.error(place, part.start, reach)
        reach = max(reach, part.end)
        yield from check_alignment(part.start, place)


def check_alignment(start: int, where: Place) -> Iterator[Finding]:
    """Yield a warning if byte `start` is not on a 4096-byte boundary."""
    if start % 4096:
        yield rules.partition_misaligned.warning(where, start)
