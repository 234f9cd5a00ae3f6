"""The block bitmaps of ext4: what they say is free. Only groups whose bitmap matches its checksum are believed."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from narvet.block.contract import BlockDevice, Extent
from narvet.checksums import crc32c_raw
from narvet.filesystems.ext4.read import Shape, descriptor_pieces, shape_of
from narvet.filesystems.ext4.records import DESCRIPTOR_SIZE, SUPERBLOCK_OFFSET, GroupDescriptor, Superblock

_BLOCKS_UNUSED = 0x2  # bg_flags: the bitmap was never written, nor was anything else but the group's own tables


def unused(device: BlockDevice) -> Iterator[Extent]:
    """Yield the free runs of a filesystem that was read without a finding, group by group."""
    shape = shape_of(Superblock.decode(device.read(SUPERBLOCK_OFFSET, Superblock.size)))
    superblock = shape.superblock
    ratio = superblock.s_log_cluster_size - superblock.s_log_block_size
    for first, data in descriptor_pieces(device, shape):
        rows = np.frombuffer(data, dtype=np.uint8).reshape(-1, shape.descriptor)[:, :DESCRIPTOR_SIZE]
        whole = np.zeros((len(rows), DESCRIPTOR_SIZE), dtype=np.uint8)
        whole[:, : rows.shape[1]] = rows
        table = whole.view(GroupDescriptor.dtype())[:, 0]
        for index in np.flatnonzero(table["bg_flags"] & _BLOCKS_UNUSED == 0).tolist():
            start = superblock.s_first_data_block + (first + index) * superblock.s_blocks_per_group
            count = min(superblock.s_blocks_per_group, shape.blocks - start)
            bits = _bitmap(device, shape, table[index], -(-count >> ratio))
            for low, high in _clear_runs(bits):
                run = min(high << ratio, count) - (low << ratio)
                yield Extent((start + (low << ratio)) * shape.block, run * shape.block)


def _bitmap(device: BlockDevice, shape: Shape, row: np.void, clusters: int) -> np.ndarray:
    """Return the bits of a group's clusters, all of them set where the bitmap is not to be believed."""
    place = int(row["bg_block_bitmap_lo"]) | (int(row["bg_block_bitmap_hi"]) << 32 if shape.incompat("64bit") else 0)
    data = device.read(place * shape.block, shape.block)
    if shape.checksums:
        kept = int(row["bg_block_bitmap_csum_lo"]) | int(row["bg_block_bitmap_csum_hi"]) << 16
        mask = 0xFFFFFFFF if shape.descriptor >= DESCRIPTOR_SIZE else 0xFFFF
        covered = shape.superblock.s_clusters_per_group // 8
        if (crc32c_raw(shape.seed, data[:covered]) ^ kept) & mask:
            return np.ones(clusters, dtype=np.uint8)
    return np.unpackbits(np.frombuffer(data, dtype=np.uint8), bitorder="little")[:clusters]


def _clear_runs(bits: np.ndarray) -> Iterator[tuple[int, int]]:
    """Yield first and last of the runs of clear bits."""
    edges = np.flatnonzero(np.diff(np.concatenate(([1], bits, [1])).astype(np.int8)))
    yield from map(tuple, edges.reshape(-1, 2).tolist())
