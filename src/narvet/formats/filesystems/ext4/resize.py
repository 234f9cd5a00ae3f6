"""What making an ext4 larger and smaller share: descriptors, maps of blocks, the map of what growth may use, checksums.

All groups' descriptors are kept as one table; what changes in it is signed and written once everything is known.
"""

from __future__ import annotations

import struct
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from narvet.formats.filesystems.contract import FilesystemState
from narvet.formats.filesystems.ext4 import inodes
from narvet.formats.filesystems.ext4.records import (
    COMPAT,
    DESCRIPTOR_SIZE,
    GROUP_BLOCKS_UNUSED,
    INCOMPAT,
    INODE_SIZE,
    SUPERBLOCK_OFFSET,
    GroupDescriptor,
    Inode,
)
from narvet.formats.filesystems.ext4.shape import Shape
from narvet.formats.filesystems.ext4.sums import CHECKSUM, descriptor_sums
from narvet.formats.filesystems.ext4.volume import Volume, descriptor_pieces
from narvet.formats.filesystems.ext4.write import sign
from narvet.ground.checksums import crc32c_raw
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent
from narvet.ground.values import replace

_ALL = 0xFFFFFFFF
_META_BG = next(bit for bit, name in INCOMPAT.items() if name == "meta_bg")
_RESIZE_INODE = next(bit for bit, name in COMPAT.items() if name == "resize_inode")


class Planned(Protocol):
    """An ext4 before and after; `gives_up_map` is whether the map of what growth may use is no longer needed."""

    @property
    def state(self) -> FilesystemState:
        """What a reader will find afterwards."""

    @property
    def old(self) -> Shape:
        """Its shape as it was found."""

    @property
    def new(self) -> Shape:
        """Its shape afterwards."""

    @property
    def gives_up_map(self) -> bool:
        """Whether the map goes."""


class Resizer:
    """An ext4 that gets another size: what larger and smaller ones have in common.

    `_before` is the descriptors as they were, for those that write only what changed in them.
    """

    _before: NDArray[Any]

    def __init__(self, volume: Volume, planned: Planned) -> None:
        self._volume = volume
        self._device = volume.device
        self._planned = planned
        self._old = planned.old
        self._new = planned.new
        self._table = self._descriptors()
        self._rows = self._table[:, :DESCRIPTOR_SIZE].view(GroupDescriptor.dtype())[:, 0]  # the same by their fields

    def _descriptors(self) -> NDArray[Any]:
        """Return the descriptors of all groups, of new ones blank, as records of at least 64 bytes; checked."""
        size = self._old.descriptor_size
        data = b"".join(piece for _, piece in descriptor_pieces(self._volume))
        if len(data) != self._old.group_count * size:
            raise ImageError("the filesystem has more groups than can be changed here")
        old = np.frombuffer(data, dtype=np.uint8).reshape(-1, size)
        if (descriptor_sums(self._volume, old, 0) != old[:, CHECKSUM : CHECKSUM + 2].copy().view("<u2")[:, 0]).any():
            raise ImageError("group descriptors do not match their checksums")
        table = np.zeros((max(self._new.group_count, len(old)), max(size, DESCRIPTOR_SIZE)), dtype=np.uint8)
        table[: len(old), :size] = old
        return table

    @property
    def _sum_mask(self) -> int:
        """The bits that descriptors keep of a map's checksum."""
        return _ALL if self._old.descriptor_size >= DESCRIPTOR_SIZE else 0xFFFF

    def _get(self, group: int, name: str, bits: int) -> int:
        row = self._rows[group]
        return int(row[f"{name}_lo"]) | int(row[f"{name}_hi"]) << bits

    def _set(self, groups: int | slice, name: str, values: int | NDArray[np.int64], bits: int) -> None:
        rows = self._rows
        rows[f"{name}_lo"][groups] = values & ((1 << bits) - 1)
        if self._old.descriptor_size >= DESCRIPTOR_SIZE:
            rows[f"{name}_hi"][groups] = values >> bits

    def _put_bitmap(self, group: int, bitmap: bytes) -> None:
        """Write a group's block bitmap, whose place is described already, with its checksum."""
        self._device.write(self._get(group, "bg_block_bitmap", 32) * self._new.block_size, bitmap)
        if self._volume.checksums:
            covered = bitmap[: self._new.blocks_per_group // self._new.cluster_blocks // 8]
            self._set(group, "bg_block_bitmap_csum", crc32c_raw(self._volume.seed, covered), 16)

    def _bitmap(self, group: int) -> bytearray | None:
        """Return the block bitmap of an old group, None if the kernel works it out."""
        if self._rows["bg_flags"][group] & GROUP_BLOCKS_UNUSED:
            return None
        place = self._get(group, "bg_block_bitmap", 32)
        if not self._old.first_data_block <= place < self._old.block_count:
            raise ImageError(f"the block map of group {group} lies at block {place}, outside the filesystem")
        data = self._device.read(place * self._old.block_size, self._old.block_size)
        covered = data[: self._old.blocks_per_group // self._old.cluster_blocks // 8]
        kept = self._get(group, "bg_block_bitmap_csum", 16)
        if self._volume.checksums and (crc32c_raw(self._volume.seed, covered) ^ kept) & self._sum_mask:
            raise ImageError(f"the block map of group {group} does not match its checksum")
        return bytearray(data)

    def _release(self, group: int, first: int, end: int) -> None:
        """Make clusters of an old group, by their numbers in it, free; those behind them stay as they are."""
        bitmap = self._bitmap(group)
        if bitmap is not None:
            bits = np.unpackbits(np.frombuffer(bitmap, dtype=np.uint8), bitorder="little")
            if not bits[first:end].all():
                raise ImageError(f"the block map of group {group} says that blocks are free which it does not have")
            bits[first:end] = 0
            self._put_bitmap(group, np.packbits(bits, bitorder="little").tobytes())
        free = self._get(group, "bg_free_blocks_count", 16)
        self._set(group, "bg_free_blocks_count", free + end - first, 16)

    def _change_map(self) -> None:
        """Fit the map of the blocks reserved for group descriptors to what became of them."""
        old, new = self._old, self._new
        if old.meta_from is not None or not self._volume.compat("resize_inode"):
            return
        same = (old.descriptor_blocks, old.copies) == (new.descriptor_blocks, new.copies)
        if same and new.meta_from is None:
            return
        block, size = old.block_size, old.inode_size
        place = self._get(0, "bg_inode_table", 32) * block + (inodes.GROWTH - 1) * size
        data = self._device.read(place, size)
        inode = Inode.decode(data[:INODE_SIZE].ljust(INODE_SIZE, b"\0"))
        dind = struct.unpack("<15I", inode.i_block)[13]
        self._check_map(dind)
        if self._planned.gives_up_map:
            changed = replace(inode, i_block=bytes(60), i_blocks_lo=0, i_size_lo=0, i_size_high=0)
            group, inside = divmod(dind - old.first_data_block, old.blocks_per_group)
            self._release(group, inside // old.cluster_blocks, inside // old.cluster_blocks + 1)
        else:
            for where, content in inodes.growth_blocks(new, Extent(dind, 1)).items():
                self._device.write(where * block, content)
            blocks = [1 + shape.reserved_descriptor_blocks * (1 + len(shape.copies)) for shape in (old, new)]
            stored = inode.i_blocks_lo + (blocks[1] - blocks[0]) * (block // 512)
            changed = replace(inode, i_blocks_lo=stored)
        if self._volume.checksums:
            changed = inodes.signed_in(self._volume.seed, inodes.GROWTH, changed, data)
        self._device.write(place, changed.encode()[: min(size, INODE_SIZE)])

    def _check_map(self, dind: int) -> None:
        """Raise ImageError unless the map of reserved blocks names just those that are reserved."""
        old = self._old
        if not old.first_data_block < dind < old.block_count:
            raise ImageError("the blocks reserved for group descriptors have no map")
        addresses = old.block_size // 4
        found = struct.unpack(f"<{addresses}I", self._device.read(dind * old.block_size, old.block_size))
        first = old.first_data_block + 1 + old.descriptor_blocks
        wanted = [0] * addresses
        for index in range(old.reserved_descriptor_blocks):
            wanted[(old.descriptor_blocks + index) % addresses] = first + index
        if list(found) != wanted:
            raise ImageError("the map of the blocks reserved for group descriptors does not name them")

    def _sign(self) -> None:
        """Give every descriptor that changed its checksum; all others come out as they were."""
        size = self._old.descriptor_size
        rows = np.ascontiguousarray(self._table[:, :size])
        sums = descriptor_sums(self._volume, rows, 0)
        self._table[:, CHECKSUM : CHECKSUM + 2] = sums[:, None].astype("<u2").view(np.uint8)

    def _write_changed_descriptors(self) -> None:
        """Write the blocks of descriptors that changed to all places that have them."""
        new, block = self._new, self._new.block_size
        self._table[new.group_count :] = 0
        size, each = self._old.descriptor_size, new.descriptors_per_block
        copies = {0, *new.copies}
        for index in range(new.descriptor_blocks):
            rows = slice(index * each, (index + 1) * each)
            if not (self._table[rows] != self._before[rows]).any():
                continue
            content = np.ascontiguousarray(self._table[rows, :size]).tobytes().ljust(block, b"\0")
            if new.meta_from is None or index < new.meta_from:
                places = [new.group_start(group) + 1 + index for group in copies if self._has_table(group)]
            else:
                first = index * each
                groups = (one for one in (first, first + 1, first + each - 1) if one < new.group_count)
                places = [new.group_start(group) + (group in copies) for group in groups]
            for place in places:
                self._device.write(place * block, content)

    def _has_table(self, group: int) -> bool:
        """Return whether a group with a copy of the superblock has descriptors of all groups behind it."""
        return self._new.meta_from is None or group < self._new.meta_from * self._new.descriptors_per_block

    def _write_superblocks(self) -> None:
        """Write every copy of the superblock, the first one last."""
        superblock, new, old = self._volume.superblock, self._new, self._old
        more_inodes = (new.group_count - old.group_count) * new.inodes_per_group
        free = self._planned.state.free // new.block_size
        compat, incompat = superblock.s_feature_compat, superblock.s_feature_incompat
        if new.meta_from is not None:
            compat, incompat = compat & ~_RESIZE_INODE, incompat | _META_BG
        wanted = replace(
            superblock,
            s_blocks_count_lo=new.block_count & _ALL,
            s_blocks_count_hi=new.block_count >> 32,
            s_r_blocks_count_lo=new.superuser_blocks & _ALL,
            s_r_blocks_count_hi=new.superuser_blocks >> 32,
            s_free_blocks_count_lo=free & _ALL,
            s_free_blocks_count_hi=free >> 32,
            s_inodes_count=superblock.s_inodes_count + more_inodes,
            s_free_inodes_count=superblock.s_free_inodes_count + more_inodes,
            s_reserved_gdt_blocks=new.reserved_descriptor_blocks,
            s_first_meta_bg=new.meta_from or 0,
            s_overhead_clusters=new.recorded_overhead,
            s_feature_compat=compat,
            s_feature_incompat=incompat,
        )
        for group in (*reversed(new.copies), 0):
            place = max(new.group_start(group) * new.block_size, SUPERBLOCK_OFFSET)
            own = replace(wanted, s_block_group_nr=group & 0xFFFF)
            self._device.write(place, (sign(own) if self._volume.checksums else own).encode())
