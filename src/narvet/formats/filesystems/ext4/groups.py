"""A shape spread out: for every block group where its metadata lie and what is free, as arrays.

Groups are joined in flex groups, whose bitmaps and inode tables lie together at the start of the first of them.
A group none of whose blocks are in use but its own superblock and descriptor copies is left uninitialised: the
kernel works its bitmap out, so nothing of it is written.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from narvet.formats.filesystems.ext4.shape import LOST_FOUND_BLOCKS, Shape
from narvet.ground.errors import BugError
from narvet.ground.extents import Extent, joined


@dataclass(frozen=True)
class Spread:
    """Arrays with one item a group; `used` lists the runs taken in each group that needs a written bitmap."""

    block_bitmap: NDArray[np.int64]
    inode_bitmap: NDArray[np.int64]
    inode_table: NDArray[np.int64]
    base: NDArray[np.int64]
    length: NDArray[np.int64]
    free: NDArray[np.int64]
    used: dict[int, list[Extent]]
    root: Extent
    lost_found: tuple[Extent, ...]
    growth_map: Extent | None
    journal: tuple[Extent, ...]


@dataclass
class _Cursor:
    """Hands out free blocks in ascending order, group by group, and remembers what it gave."""

    shape: Shape
    base: NDArray[np.int64]
    length: NDArray[np.int64]
    used: dict[int, list[Extent]]
    group: int = 0
    offset: int = field(default=0)

    def enter(self, group: int) -> None:
        """Go on at the first free block of `group`."""
        if group >= self.shape.group_count:
            raise BugError(f"ext4: {self.shape.size} bytes ran out of blocks for their metadata")
        self.group, self.offset = group, int(self.base[group])

    def align(self) -> _Cursor:
        """Go on at the next cluster."""
        self.offset = self.shape.clustered(self.offset)
        return self

    def take(self, count: int, unit: int = 1) -> list[Extent]:
        """Take `count` pieces of `unit` blocks; pieces never cross a group's end. Return runs of whole pieces."""
        runs: list[Extent] = []
        while count:
            fit = min((int(self.length[self.group]) - self.offset) // unit, count)
            if fit:
                start = self._first(self.group) + self.offset
                self.used.setdefault(self.group, []).append(Extent(start, fit * unit))
                runs.append(Extent(start, fit * unit))
                self.offset += fit * unit
                count -= fit
            if count:
                self.enter(self.group + 1)
        return runs

    def _first(self, group: int) -> int:
        return self.shape.group_start(group)


def spread(shape: Shape) -> Spread:
    """Return where everything lies; the free blocks of all groups add up to the shape's."""
    count = shape.group_count
    base, length = _base(shape), np.full(count, shape.blocks_per_group, dtype=np.int64)
    length[-1] = shape.group_length(count - 1)
    cursor = _Cursor(shape, base, length, {})
    places = [np.empty(count, dtype=np.int64) for _ in range(3)]
    own: list[list[Extent]] = []
    flex = 1 << shape.groups_per_flex_log
    for first in range(0, count, flex):
        last = min(first + flex, count)
        cursor.enter(first)
        for place, unit in zip(places, (1, 1, shape.inode_table_blocks), strict=True):
            place[first:last] = _starts(cursor.take(last - first, unit), unit)
        if first == 0:
            own = [cursor.align().take(blocks) for blocks in _own(shape)]
    cursor.used.setdefault(count - 1, [])  # growth appends to the last group: its bitmap is written
    taken = np.zeros(count, dtype=np.int64)
    for group, runs in cursor.used.items():
        taken[group] = sum(shape.clustered(run.length) for run in joined(runs))
    free = length - base - taken
    if int(free.sum()) != shape.free_blocks or int(free.min()) < 0:
        raise BugError(f"ext4: the groups of {shape.size} bytes do not add up to the free blocks promised")
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
        journal=tuple(joined(journal)),
    )


def _own(shape: Shape) -> tuple[int, ...]:
    return 1, LOST_FOUND_BLOCKS, 1 if shape.reserved_descriptor_blocks else 0, shape.journal_blocks


def _base(shape: Shape) -> NDArray[np.int64]:
    """Return `base_blocks` of every group."""
    base = np.zeros(shape.group_count, dtype=np.int64)
    if shape.meta_from is not None:
        position = np.arange(shape.group_count) % shape.descriptors_per_block
        base += (position <= 1) | (position == shape.descriptors_per_block - 1)
    for group in (0, *shape.copies):
        base[group] = shape.base_blocks(group)
    return -(-base // shape.cluster_blocks) * shape.cluster_blocks


def _starts(runs: list[Extent], unit: int) -> NDArray[np.int64]:
    return np.concatenate([np.arange(run.start, run.start + run.length, unit, dtype=np.int64) for run in runs])
