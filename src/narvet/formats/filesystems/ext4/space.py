"""Blocks and inodes of an ext4 that are taken and given back, group by group, each group read when it is needed.

Sections "Block Group Descriptors", "Block and Inode Bitmaps" and "Lazy Block Group Initialization" of the kernel's
documentation of ext4. Only the first copies of superblock and descriptors are written, as a kernel does.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from narvet.formats.filesystems.ext4.records import (
    DESCRIPTOR_SIZE,
    GROUP_BLOCKS_UNUSED,
    GROUP_INODES_UNUSED,
    GROUP_TABLE_ZEROED,
    SUPERBLOCK_OFFSET,
    GroupDescriptor,
)
from narvet.formats.filesystems.ext4.sums import descriptor_sums
from narvet.formats.filesystems.ext4.volume import Volume, descriptor_offset
from narvet.formats.filesystems.ext4.write import sign
from narvet.ground.checksums import crc32c_raw
from narvet.ground.errors import ImageError, RefusedError
from narvet.ground.extents import Extent, runs_of_set
from narvet.ground.values import Draft, replace

_ALL = 0xFFFFFFFF


class _Group(Draft):
    """A group: its descriptor, and its maps as bits once they are needed."""

    number: int
    descriptor: GroupDescriptor
    rest: bytes
    blocks: NDArray[np.uint8] | None = None
    inodes: NDArray[np.uint8] | None = None
    changed: bool = False

    def get(self, name: str, bits: int) -> int:
        """Return a number that is kept in two halves."""
        return int(getattr(self.descriptor, f"{name}_lo")) | int(getattr(self.descriptor, f"{name}_hi")) << bits

    def set(self, bits: int, **values: int) -> None:
        """Change numbers that are kept in two halves."""
        halves = {f"{name}_lo": value & ((1 << bits) - 1) for name, value in values.items()}
        halves |= {f"{name}_hi": value >> bits for name, value in values.items()}
        self.descriptor = replace(self.descriptor, **halves)
        self.changed = True


class Space:
    """What is free of an ext4, and what is taken of it; `write` writes all that changed."""

    def __init__(self, volume: Volume) -> None:
        self._volume = volume
        self._shape = volume.shape
        self._ratio = volume.shape.cluster_blocks
        self._groups: dict[int, _Group] = {}
        self._lazy = volume.checksums or volume.ro_compat("uninit_bg")
        self._blocks = self._inodes = 0  # that became free

    def take(self, clusters: int, near: int) -> list[Extent]:
        """Return runs of blocks for so many clusters, from the group `near` on; in one run where a group has one.

        Raises:
            RefusedError: there are not so many.
        """
        found: list[Extent] = []
        if not clusters:
            return found
        for group in self._from(near):
            if group.get("bg_free_blocks_count", 16):
                bits = self._block_bits(group)
                runs = [Extent(low, high - low) for low, high in runs_of_set(bits == 0).tolist()]
                runs.sort(key=lambda run: (run.length < clusters, run.start))
                for run in runs:
                    have = min(run.length, clusters)
                    found.append(self._mark(group, Extent(run.start, have), used=True))
                    clusters -= have
                    if not clusters:
                        return found
        raise RefusedError("its filesystem has no room left for this; make room in it, or enlarge it")

    def give(self, run: Extent) -> None:
        """Make blocks free that were in use; of clusters, whole ones."""
        first, end = run.start - self._shape.first_data_block, run.end - self._shape.first_data_block
        each = self._shape.blocks_per_group
        while first < end:
            number, inside = divmod(first, each)
            stop = min(end, (number + 1) * each)
            low, high = inside // self._ratio, -(-(inside + stop - first) // self._ratio)
            self._mark(self._group(number), Extent(low, high - low), used=False)
            first = stop

    def take_inode(self, near: int, *, is_folder: bool) -> int:
        """Return the number of an inode that was free, from the group `near` on.

        Raises:
            RefusedError: there is none.
        """
        each = self._shape.inodes_per_group
        first_free = max(self._volume.superblock.s_first_ino, 11) if self._volume.superblock.s_rev_level else 11
        for group in self._from(near):
            if not group.get("bg_free_inodes_count", 16):
                continue
            bits = self._inode_bits(group)
            free = np.flatnonzero(bits[:each] == 0)
            free = free[free + group.number * each + 1 >= first_free]
            if len(free):
                index = int(free[0])
                self._use_table(group, index)
                self._block_bits(group)  # a kernel makes the map of blocks with the first inode (fs/ext4/ialloc.c)
                group.descriptor = replace(group.descriptor, bg_flags=group.descriptor.bg_flags & ~GROUP_BLOCKS_UNUSED)
                self._mark_inode(group, index, used=True, is_folder=is_folder)
                return group.number * each + index + 1
        raise RefusedError("its filesystem has no inode left; remove files in it")

    def give_inode(self, number: int, *, is_folder: bool) -> None:
        """Make an inode free that was in use."""
        group, index = divmod(number - 1, self._shape.inodes_per_group)
        self._mark_inode(self._group(group), index, used=False, is_folder=is_folder)

    def write(self) -> None:
        """Write maps, descriptors and superblock as far as they changed."""
        for group in self._groups.values():
            if group.changed:
                self._write_group(group)
        if self._blocks or self._inodes:
            self._write_superblock()
        self._blocks = self._inodes = 0

    def group_of(self, inode: int) -> int:
        """Return the group that an inode lies in."""
        return (inode - 1) // self._shape.inodes_per_group

    def _from(self, near: int) -> Iterator[_Group]:
        """Yield the groups from one on, those whose maps are written first."""
        count = self._shape.group_count
        later = []
        for step in range(count):
            group = self._group((near + step) % count)
            if group.descriptor.bg_flags & GROUP_BLOCKS_UNUSED:
                later.append(group.number)
            else:
                yield group
        for number in later:
            yield self._group(number)

    def _group(self, number: int) -> _Group:
        if number not in self._groups:
            if not 0 <= number < self._shape.group_count:
                raise ImageError(f"there is no group {number}")
            data = self._volume.device.read(descriptor_offset(self._shape, number), self._shape.descriptor_size)
            row = np.frombuffer(data, dtype=np.uint8)[None, :]
            descriptor = GroupDescriptor.decode(data[:DESCRIPTOR_SIZE].ljust(DESCRIPTOR_SIZE, b"\0"))
            if int(descriptor_sums(self._volume, row, number)[0]) != descriptor.bg_checksum:
                raise ImageError(f"the descriptor of group {number} does not match its checksum")
            self._groups[number] = _Group(number, descriptor, data[DESCRIPTOR_SIZE:])
        return self._groups[number]

    def _map(self, group: _Group, name: str, covered: int) -> NDArray[np.uint8]:
        place = group.get(f"bg_{name}_bitmap", 32)
        if not self._shape.first_data_block <= place < self._shape.block_count:
            raise ImageError(f"the {name} map of group {group.number} lies at block {place}, outside the filesystem")
        data = self._volume.read_block(place)
        mask = _ALL if self._shape.descriptor_size >= DESCRIPTOR_SIZE else 0xFFFF
        kept = group.get(f"bg_{name}_bitmap_csum", 16)
        if self._volume.checksums and (crc32c_raw(self._volume.seed, data[: covered // 8]) ^ kept) & mask:
            raise ImageError(f"the {name} map of group {group.number} does not match its checksum")
        return np.unpackbits(np.frombuffer(data, dtype=np.uint8), bitorder="little")

    def _block_bits(self, group: _Group) -> NDArray[np.uint8]:
        """Return a bit for each cluster of a group; one that no kernel has written to yet has just its own blocks."""
        if group.blocks is None:
            if group.descriptor.bg_flags & GROUP_BLOCKS_UNUSED:
                group.blocks = self._fresh_blocks(group)
            else:
                group.blocks = self._map(group, "block", self._shape.blocks_per_group // self._ratio)
        return group.blocks[: -(-self._shape.group_length(group.number) // self._ratio)]

    def _fresh_blocks(self, group: _Group) -> NDArray[np.uint8]:
        """Return the map of a group that has none yet (fs/ext4/balloc.c, ext4_init_block_bitmap)."""
        bits = np.zeros(8 * self._shape.block_size, dtype=np.uint8)
        start, length = self._shape.group_start(group.number), self._shape.group_length(group.number)
        bits[: -(-self._shape.base_blocks(group.number) // self._ratio)] = 1
        bits[-(-length // self._ratio) :] = 1
        own = [(group.get("bg_block_bitmap", 32), 1), (group.get("bg_inode_bitmap", 32), 1)]
        for place, count in (*own, (group.get("bg_inode_table", 32), self._shape.inode_table_blocks)):
            low, high = max(place - start, 0), min(place - start + count, length)
            if low < high:
                bits[low // self._ratio : -(-high // self._ratio)] = 1
        return bits

    def _inode_bits(self, group: _Group) -> NDArray[np.uint8]:
        if group.inodes is None:
            each = self._shape.inodes_per_group
            if group.descriptor.bg_flags & GROUP_INODES_UNUSED:
                group.inodes = np.zeros(8 * self._shape.block_size, dtype=np.uint8)
                group.inodes[each:] = 1
            else:
                group.inodes = self._map(group, "inode", each)
        return group.inodes

    def _mark(self, group: _Group, run: Extent, *, used: bool) -> Extent:
        """Change the state of clusters, by their numbers in a group; return them as blocks of the filesystem."""
        bits = self._block_bits(group)
        if run.end > len(bits) or (bits[run.start : run.end] == used).any():
            raise ImageError(f"the block map of group {group.number} does not fit what files have")
        bits[run.start : run.end] = used
        change = -run.length if used else run.length
        group.set(16, bg_free_blocks_count=group.get("bg_free_blocks_count", 16) + change)
        group.descriptor = replace(group.descriptor, bg_flags=group.descriptor.bg_flags & ~GROUP_BLOCKS_UNUSED)
        self._blocks += change
        start = self._shape.group_start(group.number) + run.start * self._ratio
        return Extent(start, run.length * self._ratio)

    def _use_table(self, group: _Group, index: int) -> None:
        """Have the used part of a group's inode table reach to an inode; what lies between reads as zeros."""
        each, size = self._shape.inodes_per_group, self._shape.inode_size
        if not self._lazy:
            return
        unused = group.get("bg_itable_unused", 16)
        reach = 0 if group.descriptor.bg_flags & GROUP_INODES_UNUSED else each - unused
        if index < reach:
            return
        table = group.get("bg_inode_table", 32) * self._shape.block_size
        if not group.descriptor.bg_flags & GROUP_TABLE_ZEROED:
            self._volume.device.write(table + reach * size, bytes((index + 1 - reach) * size))
        group.set(16, bg_itable_unused=each - index - 1)

    def _mark_inode(self, group: _Group, index: int, *, used: bool, is_folder: bool) -> None:
        bits, change = self._inode_bits(group), -1 if used else 1
        if bits[index] == used:
            raise ImageError(f"the inode map of group {group.number} does not fit the inodes in use")
        bits[index] = used
        folders = group.get("bg_used_dirs_count", 16) - (change if is_folder else 0)
        group.set(16, bg_free_inodes_count=group.get("bg_free_inodes_count", 16) + change, bg_used_dirs_count=folders)
        group.descriptor = replace(group.descriptor, bg_flags=group.descriptor.bg_flags & ~GROUP_INODES_UNUSED)
        self._inodes += change

    def _write_group(self, group: _Group) -> None:
        volume, shape = self._volume, self._shape
        clusters = shape.blocks_per_group // self._ratio
        for name, bits, covered, unused in (
            ("block", group.blocks, clusters, GROUP_BLOCKS_UNUSED),
            ("inode", group.inodes, shape.inodes_per_group, GROUP_INODES_UNUSED),
        ):
            if bits is None or group.descriptor.bg_flags & unused:
                continue
            data = np.packbits(bits, bitorder="little").tobytes()
            volume.device.write(group.get(f"bg_{name}_bitmap", 32) * shape.block_size, data)
            if volume.checksums:
                group.set(16, **{f"bg_{name}_bitmap_csum": crc32c_raw(volume.seed, data[: covered // 8])})
        data = group.descriptor.encode()[: shape.descriptor_size] + group.rest
        row = np.frombuffer(data, dtype=np.uint8)[None, :]
        group.descriptor = replace(group.descriptor, bg_checksum=int(descriptor_sums(volume, row, group.number)[0]))
        data = group.descriptor.encode()[: shape.descriptor_size] + group.rest
        volume.device.write(descriptor_offset(shape, group.number), data)
        group.changed = False

    def _write_superblock(self) -> None:
        superblock = self._volume.superblock
        free = superblock.s_free_blocks_count_lo | superblock.s_free_blocks_count_hi << 32
        free += self._blocks * self._ratio
        inodes = superblock.s_free_inodes_count + self._inodes
        if free < 0 or inodes < 0:
            raise ImageError("the superblock counts less as free than its groups have")
        changed = replace(
            superblock,
            s_free_blocks_count_lo=free & _ALL,
            s_free_blocks_count_hi=free >> 32,
            s_free_inodes_count=inodes,
        )
        changed = sign(changed) if self._volume.checksums else changed
        self._volume.device.write(SUPERBLOCK_OFFSET, changed.encode())
        self._volume = replace(self._volume, superblock=changed)
