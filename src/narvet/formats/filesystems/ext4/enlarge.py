"""Writing a grown ext4: what the new groups hold, then what turns the old filesystem into the new one.

The superblock's copies and those of changed group descriptors are written in all groups that have them.
"""

from __future__ import annotations

import numpy as np

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.ext4.groups import Added, added
from narvet.formats.filesystems.ext4.grow import PlannedGrowth
from narvet.formats.filesystems.ext4.records import GROUP_BLOCKS_UNUSED, GROUP_INODES_UNUSED, GROUP_TABLE_ZEROED
from narvet.formats.filesystems.ext4.resize import Resizer
from narvet.formats.filesystems.ext4.volume import superblock_on, volume_of
from narvet.formats.filesystems.ext4.write import block_bitmaps
from narvet.ground.errors import ImageError


def enlarge(device: BlockDevice, grown: PlannedGrowth) -> None:
    """Write a grown ext4 to a device that still holds it as it was found.

    Raises:
        ImageError: it is not what was found, or not sound.
    """
    volume = volume_of(device, superblock_on(device))
    if volume.shape != grown.old:
        raise ImageError("the filesystem was changed while it was being made larger")
    if grown.new == grown.old:
        return
    _Enlarger(volume, grown).run()


class _Enlarger(Resizer):
    def run(self) -> None:
        """Write everything, the first superblock last."""
        old, new = self._old, self._new
        self._add_groups(added(new, old.group_count))
        last = old.group_count - 1
        if new.group_length(last) > old.group_length(last):
            self._extend(last)
        self._change_map()
        self._sign()
        self._write_descriptors()
        self._write_superblocks()

    def _add_groups(self, places: Added) -> None:
        """Write bitmaps of the new groups and describe them; tables of inodes read as zeros."""
        new, first = self._new, places.first
        if first == new.group_count:
            return
        lazy = self._volume.checksums or self._volume.ro_compat("uninit_bg")
        groups, inodes_each = slice(first, new.group_count), new.inodes_per_group
        for name, values, bits in (
            ("bg_block_bitmap", places.block_bitmap, 32),
            ("bg_inode_bitmap", places.inode_bitmap, 32),
            ("bg_inode_table", places.inode_table, 32),
            ("bg_free_blocks_count", places.free // new.cluster_blocks, 16),
        ):
            self._set(groups, name, values, bits)
        self._set(groups, "bg_free_inodes_count", inodes_each, 16)
        self._set(groups, "bg_itable_unused", inodes_each if lazy else 0, 16)
        flags = GROUP_INODES_UNUSED | GROUP_BLOCKS_UNUSED | GROUP_TABLE_ZEROED if lazy else 0
        if lazy and not (self._rows["bg_flags"][:first] & GROUP_TABLE_ZEROED).any():
            flags &= ~GROUP_TABLE_ZEROED  # as it was made: where nothing was written may be noise
        self._rows["bg_flags"][groups] = flags
        used = places.used if lazy else {group: places.used.get(group, []) for group in range(first, new.group_count)}
        for group, bitmap in block_bitmaps(new, places.base, places.length, used):
            self._put_bitmap(group, bitmap)
            self._rows["bg_flags"][group] &= ~np.uint16(GROUP_BLOCKS_UNUSED)
        self._clear_tables(places)
        if not lazy:
            bitmap = self._empty_inode_bitmap()
            for place in places.inode_bitmap.tolist():
                self._device.write(place * new.block_size, bitmap)

    def _empty_inode_bitmap(self) -> bytes:
        bits = np.zeros(8 * self._new.block_size, dtype=bool)
        bits[self._new.inodes_per_group :] = True
        return np.packbits(bits, bitorder="little").tobytes()

    def _clear_tables(self, places: Added) -> None:
        """Make the tables of the new groups' inodes read as zeros, where something else was before."""
        block, each = self._new.block_size, self._new.inode_table_blocks
        start = self._new.group_start(places.first) * block
        if next(self._device.extents(start, self._new.size), None) is None:
            return
        tables = np.sort(places.inode_table)
        breaks = np.flatnonzero(np.diff(tables) != each) + 1
        for run in np.split(tables, breaks):
            self._device.zero(int(run[0]) * block, len(run) * each * block)

    def _extend(self, group: int) -> None:
        """Make the last old group as long as it can be now."""
        ratio = self._new.cluster_blocks
        self._release(group, -(-self._old.group_length(group) // ratio), self._new.group_length(group) // ratio)

    def _write_descriptors(self) -> None:
        """Write the blocks of descriptors that changed to all places that have them, and all to places that are new."""
        old, new, block = self._old, self._new, self._new.block_size
        data = np.ascontiguousarray(self._table[:, : old.descriptor_size]).data.cast("B")
        each = new.descriptors_per_block * old.descriptor_size
        together = new.descriptor_blocks if new.meta_from is None else min(new.meta_from, new.descriptor_blocks)
        changed = max(old.group_count - 1, 0) // new.descriptors_per_block
        if self._planned.gives_up_map:
            changed = 0
        border = new.group_count if new.meta_from is None else new.meta_from * new.descriptors_per_block
        whole = bytes(data[: together * each])
        latter = whole[min(changed, together) * each :]  # one object for all copies, which a device may keep
        for group in (*(group for group in new.copies if group < border), 0):
            first = 0 if group >= old.group_count else min(changed, together)
            start = (new.group_start(group) + 1) * block
            if first < together:
                self._device.write(start + first * block, latter if first else whole)
            if group >= old.group_count and new.reserved_descriptor_blocks:
                self._device.zero(start + together * block, new.reserved_descriptor_blocks * block)
        copies = {0, *new.copies}
        for index in range(max(together, changed), new.descriptor_blocks):
            content = bytes(data[index * each : (index + 1) * each]).ljust(block, b"\0")
            first = index * new.descriptors_per_block
            for group in (first, first + 1, first + new.descriptors_per_block - 1):
                if group < new.group_count:
                    self._device.write((new.group_start(group) + (group in copies)) * block, content)
