"""Writing an ext4 that became smaller: what the groups that go had elsewhere is free, and the last one that stays ends.

What files keep behind the new end is moved first, where that was asked for; that nothing is left there is made sure of.
"""

from __future__ import annotations

import numpy as np

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import CannotChangeError
from narvet.formats.filesystems.ext4.reach import Placed, reach_of
from narvet.formats.filesystems.ext4.records import GROUP_BLOCKS_UNUSED
from narvet.formats.filesystems.ext4.relocate import relocate
from narvet.formats.filesystems.ext4.resize import Resizer
from narvet.formats.filesystems.ext4.shrink import PlannedShrinking, given_back
from narvet.formats.filesystems.ext4.volume import Volume, superblock_on, volume_of
from narvet.ground.errors import ImageError
from narvet.ground.extents import joined_runs
from narvet.ground.values import replace


def shorten(device: BlockDevice, planned: PlannedShrinking) -> None:
    """Write a smaller ext4 to a device that still holds it as it was found.

    Raises:
        ImageError: it is not what was found, or not sound.
        CannotChangeError: there is no room for what is to be moved, or it cannot be.
    """
    if planned.moves:
        relocate(device, planned.before, planned.new.block_count)
    volume = volume_of(device, superblock_on(device))
    reach = reach_of(volume).blocks
    if planned.moves and reach > planned.new.block_count:
        raise CannotChangeError("something behind the new end of the ext4 is not moved here", "ask for a larger size")
    if volume.shape != planned.old or reach > planned.new.block_count:
        raise ImageError("the filesystem was changed while it was being made smaller")
    if planned.new != planned.old:
        free = superblock_free(volume) - (planned.before.free - planned.state.free)
        _Shortener(volume, replace(planned, state=replace(planned.state, free=free))).run()


def superblock_free(volume: Volume) -> int:
    """Return the bytes that a superblock counts as free."""
    one = volume.superblock
    high = one.s_free_blocks_count_hi << 32 if volume.incompat("64bit") else 0
    return (one.s_free_blocks_count_lo | high) * volume.block_size


class _Shortener(Resizer):
    def run(self) -> None:
        """Write everything, the first superblock last."""
        self._before = self._table.copy()
        if self._old.cluster_blocks == 1:
            self._give_back_tables()
            self._give_back_bases()
        else:
            self._give_back_clusters()
        self._cut_last()
        self._change_map()
        self._sign()
        self._write_changed_descriptors()
        self._write_superblocks()

    def _give_back_tables(self) -> None:
        """Free what groups that go keep in groups that stay."""
        old, new = self._old, self._new
        runs = Placed(self._volume).runs(old, slice(new.group_count, None))
        runs = joined_runs(runs[np.argsort(runs[:, 0])])
        for first, end in runs.tolist():
            self._free(first, min(end, new.block_count))

    def _give_back_bases(self) -> None:
        """Free the blocks behind copies of the superblock that no longer hold descriptors or are kept for them."""
        for group in (0, *self._new.copies):
            start = self._new.group_start(group)
            self._free(start + self._new.base_blocks(group), start + self._old.base_blocks(group))

    def _give_back_clusters(self) -> None:
        """Free what groups that go keep in groups that stay, where several of them share a cluster."""
        each = self._old.blocks_per_group // self._old.cluster_blocks
        for run in given_back(self._old, self._new, reach_of(self._volume)):
            first = run.start
            while first < run.end:
                group, inside = divmod(first, each)
                until = min(run.end, (group + 1) * each)
                self._release(group, inside, inside + until - first)
                first = until

    def _free(self, first: int, end: int) -> None:
        """Free blocks, by their numbers in the filesystem."""
        shape = self._old
        while first < end:
            group = (first - shape.first_data_block) // shape.blocks_per_group
            start = shape.group_start(group)
            until = min(end, start + shape.group_length(group))
            self._release(group, first - start, until - start)
            first = until

    def _cut_last(self) -> None:
        """End the last group that stays: what lies behind it counts as used."""
        group = self._new.group_count - 1
        ratio = self._new.cluster_blocks
        first, end = (-(-shape.group_length(group) // ratio) for shape in (self._new, self._old))
        if first == end:
            return
        bitmap = self._bitmap(group)
        free = end - first
        if bitmap is not None:
            bits = np.unpackbits(np.frombuffer(bitmap, dtype=np.uint8), bitorder="little")
            free = int((bits[first:end] == 0).sum())
            bits[first:end] = 1
            self._put_bitmap(group, np.packbits(bits, bitorder="little").tobytes())
        left = self._get(group, "bg_free_blocks_count", 16) - free
        if left < 0:
            raise ImageError(f"group {group} counts fewer free blocks than it has")
        self._set(group, "bg_free_blocks_count", left, 16)
        if bitmap is None and not self._rows["bg_flags"][group] & GROUP_BLOCKS_UNUSED:
            raise ImageError(f"group {group} has no block map")
