"""What every partition table format can do, and the values it deals in. Offsets and sizes are bytes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Protocol
from uuid import UUID

from narvet.block.contract import BlockDevice, Extent
from narvet.findings import Finding


@dataclass(frozen=True)
class Partition:
    """One entry of a table; `number` counts from 1 as guests count."""

    number: int
    start: int
    size: int
    type: str
    id: str
    label: str = ""
    attributes: int = 0

    @property
    def end(self) -> int:
        """The first byte after the partition."""
        return self.start + self.size


@dataclass(frozen=True)
class Table:
    """A whole partition table; `id` is what guests know the disk by, as text."""

    kind: str
    id: str
    partitions: tuple[Partition, ...]


@dataclass(frozen=True)
class Bounds:
    """What a table leaves to partitions on a disk: bytes from `first` up to, not including, `end`."""

    first: int
    end: int


@dataclass(frozen=True)
class Reserved:
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

    def most(self, sector: int) -> int:
        """Return the bytes from the start of a disk that partitions can lie in."""

    def known_as(self, uuid: UUID) -> str:
        """Return the id of a table that a UUID stands for."""

    def part_known_as(self, table: str, uuid: UUID, number: int) -> str:
        """Return the id of a partition."""

    def numbers(self, count: int) -> tuple[int, ...]:
        """Return the numbers that guests give so many partitions."""

    def ahead(self, index: int, count: int, sector: int) -> int:
        """Return the bytes that the table needs right ahead of partition `index` (from 0) of so many."""

    def bounds(self, disk_size: int, sector: int) -> Bounds:
        """Return where partitions may lie on a disk of that size."""

    def reserved(self, disk_size: int, sector: int) -> tuple[Reserved, ...]:
        """Return the runs the table takes, ascending."""

    def partition_type(self, filesystem: str | None, system: str) -> str:
        """Return the type that a partition carries, by its filesystem and the system that uses it."""

    def suits(self, type: str, filesystem: str) -> bool:  # noqa: A002 (the specifications' own word)
        """Return whether a partition of this type is one that such a filesystem is found on."""

    def label_length(self, label: str) -> int:
        """Return how much of `label_limit` a label takes."""

    def write(self, device: BlockDevice, table: Table) -> None:
        """Write every copy of the table."""

    def follow_end(self, device: BlockDevice, old_size: int) -> tuple[Extent, ...]:
        """Fit the table of a disk that was made larger to its new end; return the runs that were changed.

        Every byte that need not change stays, also of tables made by others. `old_size` is bytes.
        """

    def read(self, device: BlockDevice, where: str) -> tuple[Table | None, tuple[Finding, ...]]:
        """Return the table on a device that is not trusted, or None, and what is wrong with it."""


def check_partitions(table: Table, bounds: Bounds, where: str) -> list[Finding]:
    """Return findings for partitions that leave the disk, overlap or start between 4096-byte boundaries."""
    found: list[Finding] = []
    reach = 0
    for part in sorted(table.partitions, key=lambda part: part.start):
        place = f"{where} partition {part.number}"
        if part.start < bounds.first or part.end > bounds.end:
            found.append(
                Finding(
                    "partition-past-end", "error", place,
                    f"it lies from {part.start} to {part.end}; partitions may use {bounds.first} to {bounds.end}",
                    "make the partition smaller or the disk larger",
                )
            )  # fmt: skip
        if part.start < reach:
            found.append(
                Finding(
                    "partitions-overlap", "error", place,
                    f"it starts at {part.start}, before the partition ahead of it ends at {reach}",
                    "do not write to either of them; copy off what is readable",
                )
            )  # fmt: skip
        reach = max(reach, part.end)
        found.extend(check_alignment(part.start, place))
    return found


def check_alignment(start: int, where: str) -> list[Finding]:
    """Return a warning if a partition's first byte is not on a 4096-byte boundary."""
    if start % 4096 == 0:
        return []
    return [
        Finding(
            "partition-misaligned", "warning", where,
            f"it starts at {start}, {start % 4096} bytes past a 4096-byte boundary",
            'use align = "1 MiB"',
        )
    ]  # fmt: skip
