"""A geometry spread out: for every block group where its metadata lie and what is free, as arrays.

Groups are joined in flex groups, whose bitmaps and inode tables lie together at the start of the first of them.
A group none of whose blocks are in use but its own superblock and descriptor copies is left uninitialised: the
kernel works its bitmap out, so nothing of it is written.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from narvet.errors import BugError
from narvet.filesystems.ext4.geometry import LOST_FOUND_BLOCKS, Geometry, base_blocks


class Run(NamedTuple):
    """Blocks in a row."""

    start: int
    length: int


@dataclass(frozen=True)
class Spread:
    """Arrays with one item a group; `used` lists the runs taken in each group that needs a written bitmap."""

    block_bitmap: NDArray[np.int64]
    inode_bitmap: NDArray[np.int64]
    inode_table: NDArray[np.int64]
    base: NDArray[np.int64]
    length: NDArray[np.int64]
    free: NDArray[np.int64]
    used: dict[int, list[Run]]
    root: Run
    lost_found: tuple[Run, ...]
    growth_map: Run | None
    journal: tuple[Run, ...]


@dataclass
class _Cursor:
    """Hands out free blocks in ascending order, group by group, and remembers what it gave."""

    geometry: Geometry
    base: NDArray[np.int64]
    length: NDArray[np.int64]
    used: dict[int, list[Run]]
    group: int = 0
    offset: int = field(default=0)

    def enter(self, group: int) -> None:
        """Go on at the first free block of `group`."""
        if group >= self.geometry.group_count:
            raise BugError(f"ext4: {self.geometry.size} bytes ran out of blocks for their metadata")
        self.group, self.offset = group, int(self.base[group])

    def align(self) -> _Cursor:
        """Go on at the next cluster."""
        self.offset = self.geometry.clustered(self.offset)
        return self

    def take(self, count: int, unit: int = 1) -> list[Run]:
        """Take `count` pieces of `unit` blocks; pieces never cross a group's end. Return runs of whole pieces."""
        runs: list[Run] = []
        while count:
            fit = min((int(self.length[self.group]) - self.offset) // unit, count)
            if fit:
                start = self._first(self.group) + self.offset
                self.used.setdefault(self.group, []).append(Run(start, fit * unit))
                runs.append(Run(start, fit * unit))
                self.offset += fit * unit
                count -= fit
            if count:
                self.enter(self.group + 1)
        return runs

    def _first(self, group: int) -> int:
        return self.geometry.first_data_block + group * self.geometry.blocks_per_group


def spread(geometry: Geometry) -> Spread:
    """Return where everything lies; the free blocks of all groups add up to the geometry's."""
    count = geometry.group_count
    base, length = _base(geometry), np.full(count, geometry.blocks_per_group, dtype=np.int64)
    length[-1] = geometry.block_count - geometry.first_data_block - (count - 1) * geometry.blocks_per_group
    cursor = _Cursor(geometry, base, length, {})
    places = [np.empty(count, dtype=np.int64) for _ in range(3)]
    own: list[list[Run]] = []
    flex = 1 << geometry.groups_per_flex_log
    for first in range(0, count, flex):
        last = min(first + flex, count)
        cursor.enter(first)
        for place, unit in zip(places, (1, 1, geometry.inode_table_blocks), strict=True):
            place[first:last] = _starts(cursor.take(last - first, unit), unit)
        if first == 0:
            own = [cursor.align().take(blocks) for blocks in _own(geometry)]
    cursor.used.setdefault(count - 1, [])  # growth appends to the last group: its bitmap is written
    taken = np.zeros(count, dtype=np.int64)
    for group, runs in cursor.used.items():
        taken[group] = sum(geometry.clustered(run.length) for run in _joined(runs))
    free = length - base - taken
    if int(free.sum()) != geometry.free_blocks or int(free.min()) < 0:
        raise BugError(f"ext4: the groups of {geometry.size} bytes do not add up to the free blocks promised")
    root, lost_found, growth, journal = own
    return Spread(
        block_bitmap=places[0],
        inode_bitmap=places[1],
        inode_table=places[2],
        base=base,
        length=length,
        free=free,
        used=cursor.used,
        root=root[0],
        lost_found=tuple(lost_found),
        growth_map=growth[0] if growth else None,
        journal=tuple(_joined(journal)),
    )


def _own(geometry: Geometry) -> tuple[int, ...]:
    return 1, LOST_FOUND_BLOCKS, 1 if geometry.reserved_descriptor_blocks else 0, geometry.journal_blocks


def _base(geometry: Geometry) -> NDArray[np.int64]:
    """Return `base_blocks` of every group."""
    base = np.zeros(geometry.group_count, dtype=np.int64)
    if geometry.meta_groups:
        position = np.arange(geometry.group_count) % geometry.descriptors_per_block
        base += (position <= 1) | (position == geometry.descriptors_per_block - 1)
    for group in (0, *geometry.copies):
        base[group] = base_blocks(geometry, group)
    return -(-base // geometry.cluster_blocks) * geometry.cluster_blocks


def _starts(runs: list[Run], unit: int) -> NDArray[np.int64]:
    return np.concatenate([np.arange(run.start, run.start + run.length, unit, dtype=np.int64) for run in runs])


def _joined(runs: list[Run]) -> list[Run]:
    """Return the runs with those that touch made one."""
    joined: list[Run] = []
    for run in runs:
        if joined and sum(joined[-1]) == run.start:
            joined[-1] = Run(joined[-1].start, joined[-1].length + run.length)
        else:
            joined.append(run)
    return joined
