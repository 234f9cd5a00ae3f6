"""How far what an ext4 keeps reaches, by its descriptors and one map of blocks: what it takes to make it smaller."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import FilesystemState
from narvet.formats.filesystems.ext4.maps import block_bits
from narvet.formats.filesystems.ext4.maps import tables as tables_of
from narvet.formats.filesystems.ext4.records import DESCRIPTOR_SIZE, GROUP_BLOCKS_UNUSED
from narvet.formats.filesystems.ext4.shape import Shape
from narvet.formats.filesystems.ext4.shrink import Reach
from narvet.formats.filesystems.ext4.volume import MOST_DESCRIPTORS, Volume, superblock_on, volume_of
from narvet.ground.errors import ImageError
from narvet.ground.extents import joined_runs
from narvet.ground.values import replace


def reached(device: BlockDevice, state: FilesystemState) -> FilesystemState:
    """Return the state of a clean ext4 with how far what it keeps reaches; as it is where that cannot be told."""
    shape = state.shape
    if not isinstance(shape, Shape) or state.unclean or shape.size > device.size or not shape.sparse:
        return state
    if shape.group_count > MOST_DESCRIPTORS:
        return state
    try:
        return replace(state, account=reach_of(volume_of(device, superblock_on(device))))
    except ImageError:
        return state


class Placed:
    """Where the maps and tables of all groups lie, as arrays with an item a group."""

    def __init__(self, volume: Volume) -> None:
        self.rows = np.concatenate([rows for _, rows in tables_of(volume)])
        shape = volume.shape
        self.maps = [self._wide(f"bg_{kind}_bitmap", volume) for kind in ("block", "inode")]
        self.table = self._wide("bg_inode_table", volume)
        self.ends = np.maximum(np.maximum(*self.maps) + 1, self.table + shape.inode_table_blocks)
        if len(self.rows) != shape.group_count or int(self.ends.max()) > shape.block_count:
            raise ImageError("group descriptors name blocks outside the filesystem")
        if min(int(one.min()) for one in (*self.maps, self.table)) <= shape.first_data_block:
            raise ImageError("group descriptors name blocks outside the filesystem")

    def _wide(self, name: str, volume: Volume) -> NDArray[np.int64]:
        low = self.rows[f"{name}_lo"].astype(np.int64)
        if volume.shape.descriptor_size < DESCRIPTOR_SIZE:
            return low
        return low | self.rows[f"{name}_hi"].astype(np.int64) << 32

    def runs(self, shape: Shape, groups: slice) -> NDArray[np.int64]:
        """Return first and end of everything that the groups keep of themselves, shape (n, 2)."""
        each = shape.inode_table_blocks
        pairs = [(one[groups], 1) for one in self.maps] + [(self.table[groups], each)]
        return np.concatenate([np.stack([start, start + length], axis=1) for start, length in pairs])

    def by_group(self, shape: Shape) -> tuple[tuple[int, int, int], ...]:
        """Return group, first and end of every map and table."""
        numbers = np.tile(np.arange(len(self.rows)), 3)[:, None]
        return tuple(map(tuple, np.concatenate([numbers, self.runs(shape, slice(None))], axis=1).tolist()))


def reach_of(volume: Volume) -> Reach:
    """Return how far what a volume keeps reaches.

    Raises:
        ImageError: descriptors name places outside of it, or a map does not match its checksum.
    """
    shape, placed = volume.shape, Placed(volume)
    last = _last_in_use(volume, placed)
    blocks = max(int(placed.ends[: last + 1].max()), shape.group_start(last) + shape.base_blocks(last) + 1)
    blocks = max(blocks, _last_block(volume, placed, last))
    groups = np.arange(shape.group_count)
    inside = groups[placed.ends[groups] > shape.first_data_block + groups * shape.blocks_per_group]
    blocks = min(shape.first_data_block + shape.clustered(blocks - shape.first_data_block), shape.block_count)
    inodes = int((shape.inodes_per_group - _counts(volume, placed, "bg_free_inodes_count")).sum())
    tables = placed.by_group(shape) if shape.cluster_blocks > 1 else ()
    return Reach(blocks, tuple(zip(inside.tolist(), placed.ends[inside].tolist(), strict=True)), inodes, tables)


def _last_in_use(volume: Volume, placed: Placed) -> int:
    """Return the last group that has an inode in use, or a cluster in use for anything but groups themselves."""
    shape, ratio = volume.shape, volume.shape.cluster_blocks
    groups = np.arange(shape.group_count)
    length = np.full(shape.group_count, shape.blocks_per_group // ratio, dtype=np.int64)
    length[-1] = -(-shape.group_length(shape.group_count - 1) // ratio)
    files = length - _counts(volume, placed, "bg_free_blocks_count") - _own_clusters(shape, placed)
    inodes = shape.inodes_per_group - _counts(volume, placed, "bg_free_inodes_count")
    return int(groups[(files != 0) | (inodes != 0)].max(initial=0))


def _counts(volume: Volume, placed: Placed, name: str) -> NDArray[np.int64]:
    """Return a number that every group counts."""
    low = placed.rows[f"{name}_lo"].astype(np.int64)
    if volume.shape.descriptor_size < DESCRIPTOR_SIZE:
        return low
    return np.asarray(low | placed.rows[f"{name}_hi"].astype(np.int64) << 16)


def _own_clusters(shape: Shape, placed: Placed) -> NDArray[np.int64]:
    """Return how many clusters of each group hold superblocks, descriptors, maps and tables, of whatever group."""
    ratio = shape.cluster_blocks
    starts = shape.first_data_block + np.arange(shape.group_count, dtype=np.int64) * shape.blocks_per_group
    base = np.array([shape.base_blocks(group) for group in range(shape.group_count)], dtype=np.int64)
    bases = np.stack([starts, starts + base], axis=1)[base > 0]
    runs = np.concatenate([bases, placed.runs(shape, slice(None))]) - shape.first_data_block
    runs = np.stack([runs[:, 0] // ratio, -(-runs[:, 1] // ratio)], axis=1)
    runs = runs[np.argsort(runs[:, 0], kind="stable")]
    runs[:, 1] = np.maximum.accumulate(runs[:, 1])  # several may lie in one cluster
    runs = joined_runs(runs)
    each, taken = shape.blocks_per_group // ratio, np.zeros(shape.group_count + 1, dtype=np.int64)
    while len(runs):
        group = runs[:, 0] // each
        end = np.minimum(runs[:, 1], (group + 1) * each)
        np.add.at(taken, group, end - runs[:, 0])
        rest = end < runs[:, 1]
        runs = np.stack([end[rest], runs[rest, 1]], axis=1)
    return taken[:-1]


def _last_block(volume: Volume, placed: Placed, group: int) -> int:
    """Return the block behind the last one of a group that is in use for anything but later groups; 0 if unknown."""
    shape, ratio = volume.shape, volume.shape.cluster_blocks
    row: Any = placed.rows[group]
    if row["bg_flags"] & GROUP_BLOCKS_UNUSED:
        return 0
    bits = block_bits(volume, row, -(-shape.group_length(group) // ratio))
    if bits is None:
        raise ImageError(f"the block map of group {group} does not match its checksum")
    used, start = bits.copy(), shape.group_start(group)
    for groups, kept in ((slice(group + 1, None), 0), (slice(0, group + 1), 1)):
        for low, high in (placed.runs(shape, groups) - start).tolist():
            if low < len(used) * ratio and high > 0:
                used[max(low, 0) // ratio : -(-high // ratio)] = kept
    used[: -(-shape.base_blocks(group) // ratio)] = 1
    return min(start + (int(np.flatnonzero(used).max(initial=-1)) + 1) * ratio, shape.block_count)
