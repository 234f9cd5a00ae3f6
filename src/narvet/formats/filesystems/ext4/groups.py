"""A shape spread out: for every block group where its metadata lie and what is free, as arrays.

Groups are joined in flex groups, whose bitmaps and inode tables lie together at the start of the first of them.
A group none of whose blocks are in use but its own superblock and descriptor copies is left uninitialised: the
kernel works its bitmap out, so nothing of it is written.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from narvet.formats.filesystems.ext4.shape import LOST_FOUND_BLOCKS, Shape
from narvet.ground.errors import BugError
from narvet.ground.extents import Extent, joined
from narvet.ground.values import Draft, Frozen, field


class Spread(Frozen):
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


class _Cursor(Draft):
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
    cursor = _cursor(shape)
    places = _Places(shape, 0, cursor)
    own: list[list[Extent]] = []
    for first, end in places.put_alike():
        places.put(first, end)
        if first == 0:
            own = [cursor.align().take(blocks) for blocks in _own(shape)]
    cursor.used.setdefault(shape.group_count - 1, [])  # growth appends to the last group: its bitmap is written
    free = places.free()
    if int(free.sum()) != shape.free_blocks:
        raise BugError(f"ext4: the groups of {shape.size} bytes do not add up to the free blocks promised")
    root, lost_found, growth, journal = own
    return Spread(
        block_bitmap=places.columns[0],
        inode_bitmap=places.columns[1],
        inode_table=places.columns[2],
        base=cursor.base,
        length=cursor.length,
        free=free,
        used=cursor.used,
        root=root[0],
        lost_found=tuple(lost_found),
        growth_map=growth[0] if growth else None,
        journal=tuple(joined(journal)),
    )


class Added(Frozen):
    """Where the metadata of the groups from `first` on lie that are added to a filesystem: arrays, one item a group.

    See `Spread` for the fields.
    """

    first: int
    block_bitmap: NDArray[np.int64]
    inode_bitmap: NDArray[np.int64]
    inode_table: NDArray[np.int64]
    free: NDArray[np.int64]
    used: dict[int, list[Extent]]
    base: NDArray[np.int64]
    length: NDArray[np.int64]


def added(shape: Shape, first: int) -> Added:
    """Return where the metadata of a grown filesystem's groups from `first` on lie: in those groups themselves."""
    cursor = _cursor(shape)
    places = _Places(shape, first, cursor)
    for start, end in places.put_alike():
        places.put(start, end)
    if first < shape.group_count:
        cursor.used.setdefault(shape.group_count - 1, [])
    block_bitmap, inode_bitmap, inode_table = places.columns
    return Added(first, block_bitmap, inode_bitmap, inode_table, places.free(), cursor.used, cursor.base, cursor.length)


def _cursor(shape: Shape) -> _Cursor:
    count = shape.group_count
    base, length = _base(shape), np.full(count, shape.blocks_per_group, dtype=np.int64)
    length[-1] = shape.group_length(count - 1)
    return _Cursor(shape, base, length, {})


class _Places:
    """The places of bitmaps and inode tables of the groups from `first` on, as the cursor gives them."""

    def __init__(self, shape: Shape, first: int, cursor: _Cursor) -> None:
        self._shape = shape
        self._first = first
        self._cursor = cursor
        self.columns = [np.empty(shape.group_count - first, dtype=np.int64) for _ in range(3)]

    def put_alike(self) -> list[tuple[int, int]]:
        """Place what all whole flex groups keep whose first groups are alike, at once; return the others.

        The first of all is always among those.
        """
        each, many = self._shape.blocks_per_group, 1 << self._shape.groups_per_flex_log
        reach = min((2 + self._shape.inode_table_blocks) * many // each + 2, many)  # groups, as a rule
        chunks = list(self._shape.chunks(self._first))
        firsts = np.array([first for first, _ in chunks[1:-1]], dtype=np.int64)
        bases = self._cursor.base[firsts[:, None] + np.arange(reach)]
        put = set[int]()
        for pattern in np.unique(bases, axis=0):
            alike = firsts[(bases == pattern).all(axis=1)]
            model = int(alike[0])
            self.put(model, model + many)
            put.add(model)
            if self._cursor.group < model + reach:
                self._repeat(model, range(model, self._cursor.group + 1), alike[1:])
                put.update(alike.tolist())
        return [chunk for chunk in chunks if chunk[0] not in put]

    def _repeat(self, model: int, groups: range, others: NDArray[np.int64]) -> None:
        """Place what other flex groups keep as a model's lies, in so many groups of it."""
        each, many, used = self._shape.blocks_per_group, 1 << self._shape.groups_per_flex_log, self._cursor.used
        rows = (others - self._first)[:, None] + np.arange(many)
        for column in self.columns:
            own = column[model - self._first :][:many]
            column[rows] = own + ((others - model) * each)[:, None]
        for group in filter(used.__contains__, groups):
            runs = list(joined(used[group]))
            for ahead in (others - model).tolist():
                used[group + ahead] = [Extent(start + ahead * each, length) for start, length in runs]

    def put(self, first: int, end: int) -> None:
        """Place what a run of groups keeps together, from its first group on."""
        self._cursor.enter(first)
        for column, unit in zip(self.columns, (1, 1, self._shape.inode_table_blocks), strict=True):
            runs = self._cursor.take(end - first, unit)
            column[first - self._first : end - self._first] = (
                range(runs[0].start, runs[0].end, unit) if len(runs) == 1 else _starts(runs, unit)
            )

    def free(self) -> NDArray[np.int64]:
        """Return the free blocks of every group."""
        taken = np.zeros(self._shape.group_count, dtype=np.int64)
        for group, runs in self._cursor.used.items():
            taken[group] = sum(self._shape.clustered(run.length) for run in joined(runs))
        free = (self._cursor.length - self._cursor.base - taken)[self._first :]
        if len(free) and int(free.min()) < 0:
            raise BugError(f"ext4: a group of {self._shape.size} bytes holds more than it has")
        return free


def _own(shape: Shape) -> tuple[int, ...]:
    return 1, LOST_FOUND_BLOCKS, 1 if shape.reserved_descriptor_blocks else 0, shape.journal_blocks


def _base(shape: Shape) -> NDArray[np.int64]:
    """Return `base_blocks` of every group."""
    base = np.zeros(shape.group_count, dtype=np.int64)
    if shape.meta_from is not None:
        groups = np.arange(shape.group_count)
        position = groups % shape.descriptors_per_block
        apart = (position <= 1) | (position == shape.descriptors_per_block - 1)
        base += apart & (groups >= shape.meta_from * shape.descriptors_per_block)
    for group in (0, *shape.copies):
        base[group] = shape.base_blocks(group)
    return -(-base // shape.cluster_blocks) * shape.cluster_blocks


def _starts(runs: list[Extent], unit: int) -> NDArray[np.int64]:
    return np.concatenate([np.arange(run.start, run.start + run.length, unit, dtype=np.int64) for run in runs])
