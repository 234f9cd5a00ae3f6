"""Free blocks and inodes of an ext4 that exists, handed out before a border, and what is given back behind it."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from narvet.formats.filesystems.contract import CannotChangeError
from narvet.formats.filesystems.ext4.reach import Placed
from narvet.formats.filesystems.ext4.records import GROUP_BLOCKS_UNUSED, GROUP_INODES_UNUSED
from narvet.formats.filesystems.ext4.resize import Planned, Resizer
from narvet.formats.filesystems.ext4.volume import Volume
from narvet.ground.checksums import crc32c_raw
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent, runs_of_set
from narvet.ground.free_runs import FreeRuns


class Allotter(Resizer):
    """The maps of an ext4, of which blocks before `border` and inodes of whole groups before it are handed out."""

    def __init__(self, volume: Volume, planned: Planned, border: int) -> None:
        super().__init__(volume, planned)
        self._before = self._table.copy()
        self._border = border
        self._groups = -(-(border - self._old.first_data_block) // self._old.blocks_per_group)
        self._placed = Placed(volume)
        self._blocks: dict[int, NDArray[np.uint8]] = {}
        self._inodes: dict[int, NDArray[np.uint8]] = {}
        self._changed: set[int] = set()
        self._free = FreeRuns(self._free_runs())
        self._next_inode = max(volume.superblock.s_first_ino, 11) + 1 if volume.superblock.s_rev_level else 12

    @property
    def volume(self) -> Volume:
        """The filesystem."""
        return self._volume

    @property
    def renumbers(self) -> bool:
        """Whether any inode in use lies in a group behind the border."""
        free = self._rows["bg_free_inodes_count_lo"].astype(np.int64)
        free |= self._rows["bg_free_inodes_count_hi"].astype(np.int64) << 16
        return bool((free[self._groups :] != self._old.inodes_per_group).any())

    @property
    def most_inodes(self) -> int:
        """The highest number that an inode can keep."""
        return self._groups * self._old.inodes_per_group

    def take(self, count: int) -> list[Extent]:
        """Return runs of `count` blocks that were free: one where that is possible, else as few as there are.

        Raises:
            CannotChangeError: there are not so many.
        """
        runs = self._free.take(count)
        if not runs:
            raise CannotChangeError("too little is free before the new end", "ask for a larger size")
        for run in runs:
            self._mark(run, used=True)
        return runs

    def give_back(self, run: Extent) -> None:
        """Make blocks free that were in use."""
        self._mark(run, used=False)

    def take_inode(self, *, is_folder: bool) -> int:
        """Return the number of an inode that was free.

        Raises:
            CannotChangeError: there is none.
        """
        each = self._old.inodes_per_group
        while self._next_inode <= self.most_inodes:
            group, first = divmod(self._next_inode - 1, each)
            free = np.flatnonzero(self._inode_bits(group)[first:each] == 0)
            if len(free):
                number = group * each + first + int(free[0]) + 1
                self._next_inode = number + 1
                self._mark_inode(number, 1, is_folder=is_folder)
                return number
            self._next_inode = (group + 1) * each + 1
        raise CannotChangeError("too few inodes are free before the new end", "ask for a larger size")

    def give_back_inode(self, number: int, *, is_folder: bool) -> None:
        """Make an inode free that was in use."""
        self._mark_inode(number, 0, is_folder=is_folder)

    def inode_place(self, number: int) -> int:
        """Return the byte at which an inode lies."""
        group, index = divmod(number - 1, self._old.inodes_per_group)
        return int(self._placed.table[group]) * self._old.block_size + index * self._old.inode_size

    def inodes_in_use(self, group: int) -> NDArray[np.int64]:
        """Return the places of the inodes in use in the table of a group."""
        if self._rows["bg_flags"][group] & GROUP_INODES_UNUSED:
            return np.zeros(0, dtype=np.int64)
        return np.flatnonzero(self._inode_bits(group)[: self._old.inodes_per_group])

    def write(self) -> int:
        """Write all maps and descriptors that changed; return how many blocks are free."""
        for group in sorted(self._changed):
            if group in self._blocks:
                bits = self._blocks[group]
                self._set(group, "bg_free_blocks_count", int((bits[: self._old.group_length(group)] == 0).sum()), 16)
                self._put_bitmap(group, np.packbits(bits, bitorder="little").tobytes())
            if group in self._inodes:
                self._put_inodes(group)
        self._sign()
        self._write_changed_descriptors()
        return int(self._free_counts().sum())

    def _free_runs(self) -> NDArray[np.int64]:
        """Return first and end of the free runs of blocks before the border, shape (n, 2)."""
        found = [np.zeros((0, 2), dtype=np.int64)]
        for group in range(self._groups):
            start = self._old.group_start(group)
            bits = self._block_bits(group)[: min(self._old.group_length(group), self._border - start)]
            found.append(runs_of_set(bits == 0) + start)
            if group not in self._changed:
                del self._blocks[group]
        return np.concatenate(found)

    def _block_bits(self, group: int) -> NDArray[np.uint8]:
        """Return which blocks of a group are in use, as many as its map has bits."""
        if group not in self._blocks:
            data = self._bitmap(group)
            if data is not None:
                bits = np.unpackbits(np.frombuffer(data, dtype=np.uint8), bitorder="little")
            else:
                bits = self._worked_out(group)
            self._blocks[group] = bits
        return self._blocks[group]

    def _worked_out(self, group: int) -> NDArray[np.uint8]:
        """Return the map of a group that has none, as only groups themselves keep anything in it."""
        old, bits = self._old, np.zeros(8 * self._old.block_size, dtype=np.uint8)
        start = old.group_start(group)
        bits[: old.base_blocks(group)] = 1
        bits[old.group_length(group) :] = 1
        for low, high in (self._placed.runs(old, slice(group, group + 1)) - start).tolist():
            if high > 0 and low < old.group_length(group):
                bits[max(low, 0) : high] = 1
        return bits

    def _mark(self, run: Extent, *, used: bool) -> None:
        old, first = self._old, run.start
        while first < run.end:
            group = (first - old.first_data_block) // old.blocks_per_group
            start = old.group_start(group)
            end = min(run.end, start + old.group_length(group))
            bits = self._block_bits(group)
            if (bits[first - start : end - start] == used).any():
                raise ImageError(f"blocks from {first} to {end} are in use twice, or not at all")
            bits[first - start : end - start] = used
            self._rows["bg_flags"][group] &= ~np.uint16(GROUP_BLOCKS_UNUSED)
            self._changed.add(group)
            first = end

    def _inode_bits(self, group: int) -> NDArray[np.uint8]:
        """Return which inodes of a group are in use, as many as its map has bits."""
        if group not in self._inodes:
            bits = np.zeros(8 * self._old.block_size, dtype=np.uint8)
            bits[self._old.inodes_per_group :] = 1
            if not self._rows["bg_flags"][group] & GROUP_INODES_UNUSED:
                data = self._volume.read_block(int(self._placed.maps[1][group]))
                covered = crc32c_raw(self._volume.seed, data[: self._old.inodes_per_group // 8])
                kept = self._get(group, "bg_inode_bitmap_csum", 16)
                if self._volume.checksums and (covered ^ kept) & self._sum_mask:
                    raise ImageError(f"the inode map of group {group} does not match its checksum")
                bits = np.unpackbits(np.frombuffer(data, dtype=np.uint8), bitorder="little").copy()
            self._inodes[group] = bits
        return self._inodes[group]

    def _mark_inode(self, number: int, used: int, *, is_folder: bool) -> None:
        group, index = divmod(number - 1, self._old.inodes_per_group)
        bits = self._inode_bits(group)
        if bits[index] == used:
            raise ImageError(f"inode {number} is in use twice, or not at all")
        bits[index] = used
        self._changed.add(group)
        change = 1 if used else -1
        self._set(group, "bg_free_inodes_count", self._get(group, "bg_free_inodes_count", 16) - change, 16)
        if is_folder:
            self._set(group, "bg_used_dirs_count", self._get(group, "bg_used_dirs_count", 16) + change, 16)
        if used:
            self._use_table(group, index)

    def _use_table(self, group: int, index: int) -> None:
        """Make sure that the table of a group's inodes counts as used up to one of them, and reads as zeros before."""
        if not (self._volume.checksums or self._volume.ro_compat("uninit_bg")):
            return
        each, size = self._old.inodes_per_group, self._old.inode_size
        unused = (
            each if self._rows["bg_flags"][group] & GROUP_INODES_UNUSED else self._get(group, "bg_itable_unused", 16)
        )
        self._rows["bg_flags"][group] &= ~np.uint16(GROUP_INODES_UNUSED)
        if index >= each - unused:
            start = int(self._placed.table[group]) * self._old.block_size
            self._device.zero(start + (each - unused) * size, (index + 1 - (each - unused)) * size)
            unused = each - 1 - index
        self._set(group, "bg_itable_unused", unused, 16)

    def _put_inodes(self, group: int) -> None:
        data = np.packbits(self._inodes[group], bitorder="little").tobytes()
        if self._rows["bg_flags"][group] & GROUP_INODES_UNUSED:
            return
        self._device.write(int(self._placed.maps[1][group]) * self._old.block_size, data)
        if self._volume.checksums:
            covered = crc32c_raw(self._volume.seed, data[: self._old.inodes_per_group // 8])
            self._set(group, "bg_inode_bitmap_csum", covered, 16)

    def _free_counts(self) -> NDArray[Any]:
        low = self._rows["bg_free_blocks_count_lo"].astype(np.int64)
        return low | self._rows["bg_free_blocks_count_hi"].astype(np.int64) << 16
