"""The maps of ext4 against what describes them: what they say is free, and whether they can be believed.

Bounded: at most `MOST_MAPS` groups and `MOST_INODES` inodes are looked at; of a larger filesystem
that is the start.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice
from typing import Any

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice, Extent
from narvet.checksums import crc32c_raw
from narvet.filesystems.ext4.file_blocks import block_faults
from narvet.filesystems.ext4.inodes import JOURNAL, inode_checksum
from narvet.filesystems.ext4.records import (
    DESCRIPTOR_SIZE,
    EXTENT_MAGIC,
    GROUP_BLOCKS_UNUSED,
    GROUP_INODES_UNUSED,
    INODE_SIZE,
    JOURNAL_MAGIC,
    MAGIC,
    SUPERBLOCK_OFFSET,
    ExtentHeader,
    GroupDescriptor,
    Inode,
    JournalSuperblock,
    Superblock,
)
from narvet.filesystems.ext4.records import (
    Extent as FileExtent,
)
from narvet.filesystems.ext4.shape import Shape, copies_of, descriptor_pieces, shape_of

MOST_MAPS = 1 << 15
MOST_INODES = 1 << 18
_USES_EXTENTS = 0x80000
_SAME = ("s_log_block_size", "s_blocks_per_group", "s_inodes_per_group", "s_first_data_block")


def unused(device: BlockDevice) -> Iterator[Extent]:
    """Yield the free runs of a filesystem that was read without a finding, group by group."""
    shape = shape_of(Superblock.decode(device.read(SUPERBLOCK_OFFSET, Superblock.size)))
    superblock = shape.superblock
    ratio = superblock.s_log_cluster_size - superblock.s_log_block_size
    for group, row in _groups(device, shape):
        if row["bg_flags"] & GROUP_BLOCKS_UNUSED:
            continue
        start, count = _span(shape, group)
        bits = _block_bits(device, shape, row, -(-count >> ratio))
        if bits is None:
            continue
        edges = np.flatnonzero(np.diff(np.concatenate(([1], bits, [1])).astype(np.int8)))
        for low, high in edges.reshape(-1, 2).tolist():
            run = min(high << ratio, count) - (low << ratio)
            yield Extent((start + (low << ratio)) * shape.block, run * shape.block)


def faults(device: BlockDevice, shape: Shape) -> Iterator[str]:
    """Yield what is wrong with a clean filesystem whose superblock and descriptors match their checksums."""
    yield from _copy_faults(device, shape)
    yield from _map_faults(device, shape)
    if shape.checksums and shape.superblock.s_inode_size == INODE_SIZE:
        yield from _inode_faults(device, shape)
    if shape.compat("has_journal") and shape.superblock.s_journal_inum == JOURNAL:
        yield from _journal_faults(device, shape)


def left_out(device: BlockDevice, shape: Shape) -> str:
    """Return why not everything of a filesystem is checked, empty if it is."""
    written = sum(1 for _ in islice(_groups(device, shape), MOST_MAPS + 1))
    if written > MOST_MAPS:
        return f"more than {MOST_MAPS} of its groups have been written to"
    if shape.checksums and shape.superblock.s_inode_size != INODE_SIZE:
        return f"its inodes have {shape.superblock.s_inode_size} bytes"
    inodes = 0
    for _, row in _groups(device, shape):
        unused_inodes = _wide(shape, row, "bg_itable_unused", 16)
        inodes += 0 if row["bg_flags"] & GROUP_INODES_UNUSED else shape.superblock.s_inodes_per_group - unused_inodes
    return f"it has had more than {MOST_INODES} inodes in use" if shape.checksums and inodes > MOST_INODES else ""


def _tables(device: BlockDevice, shape: Shape) -> Iterator[tuple[int, NDArray[Any]]]:
    """Yield first group and descriptors of the pieces of the table, short ones made as long as others."""
    for first, data in descriptor_pieces(device, shape):
        rows = np.frombuffer(data, dtype=np.uint8).reshape(-1, shape.descriptor)[:, :DESCRIPTOR_SIZE]
        whole = np.zeros((len(rows), DESCRIPTOR_SIZE), dtype=np.uint8)
        whole[:, : rows.shape[1]] = rows
        yield first, whole.view(GroupDescriptor.dtype())[:, 0]


def _groups(device: BlockDevice, shape: Shape) -> Iterator[tuple[int, np.void]]:
    """Yield number and descriptor of the groups of which anything has been written."""
    for first, table in _tables(device, shape):
        both = GROUP_BLOCKS_UNUSED | GROUP_INODES_UNUSED
        for index in np.flatnonzero(table["bg_flags"] & both != both).tolist():
            yield first + index, table[index]


def _span(shape: Shape, group: int) -> tuple[int, int]:
    """Return the first block of a group and how many it has."""
    start = shape.superblock.s_first_data_block + group * shape.superblock.s_blocks_per_group
    return start, min(shape.superblock.s_blocks_per_group, shape.blocks - start)


def _wide(shape: Shape, row: np.void, name: str, bits: int = 32) -> int:
    high = int(row[name + "_hi"]) if shape.descriptor >= DESCRIPTOR_SIZE else 0
    return int(row[name + "_lo"]) | high << bits


def _map(device: BlockDevice, shape: Shape, row: np.void, kind: str, covered: int) -> bytes | None:
    """Return a bitmap's block, None where its `covered` bytes do not match their checksum."""
    data = device.read(_wide(shape, row, f"bg_{kind}_bitmap") * shape.block, shape.block)
    if shape.checksums:
        mask = 0xFFFFFFFF if shape.descriptor >= DESCRIPTOR_SIZE else 0xFFFF
        if (crc32c_raw(shape.seed, data[:covered]) ^ _wide(shape, row, f"bg_{kind}_bitmap_csum", 16)) & mask:
            return None
    return data


def _bits(data: bytes, count: int) -> NDArray[np.uint8]:
    return np.unpackbits(np.frombuffer(data, dtype=np.uint8), bitorder="little")[:count]


def _block_bits(device: BlockDevice, shape: Shape, row: np.void, clusters: int) -> NDArray[np.uint8] | None:
    data = _map(device, shape, row, "block", shape.superblock.s_clusters_per_group // 8)
    return None if data is None else _bits(data, clusters)


def _map_faults(device: BlockDevice, shape: Shape) -> Iterator[str]:
    """Compare each map with its checksum and with the count of what is free in it."""
    superblock = shape.superblock
    ratio = superblock.s_log_cluster_size - superblock.s_log_block_size
    inodes = superblock.s_inodes_per_group
    for group, row in islice(_groups(device, shape), MOST_MAPS):
        if not row["bg_flags"] & GROUP_BLOCKS_UNUSED:
            bits = _block_bits(device, shape, row, -(-_span(shape, group)[1] >> ratio))
            if bits is None:
                yield f"group {group}: its block map does not match its checksum"
            elif int((bits == 0).sum()) != _wide(shape, row, "bg_free_blocks_count", 16):
                yield f"group {group}: its block map and its count of free blocks differ"
        if not row["bg_flags"] & GROUP_INODES_UNUSED:
            data = _map(device, shape, row, "inode", inodes // 8)
            if data is None:
                yield f"group {group}: its inode map does not match its checksum"
            elif int((_bits(data, inodes) == 0).sum()) != _wide(shape, row, "bg_free_inodes_count", 16):
                yield f"group {group}: its inode map and its count of free inodes differ"
    free = 0
    for _, table in _tables(device, shape):
        low, high = (table[f"bg_free_blocks_count_{half}"].astype(np.int64) for half in ("lo", "hi"))
        free += int((low | high << 16).sum())
    kept = superblock.s_free_blocks_count_lo | superblock.s_free_blocks_count_hi << 32
    if free << ratio != kept:
        yield f"the groups have {free << ratio} free blocks, the superblock says {kept}"


def _copy_faults(device: BlockDevice, shape: Shape) -> Iterator[str]:
    """Look at every copy of the superblock; only its sizes never change."""
    for group in copies_of(shape):
        data = device.read(_span(shape, group)[0] * shape.block, Superblock.size)
        copy = Superblock.decode(data)
        signed = not shape.checksums or crc32c_raw(0xFFFFFFFF, data[:-4]) == copy.s_checksum
        if copy.s_magic != MAGIC or not signed:
            yield f"group {group}: its copy of the superblock does not match its checksum"
        elif any(getattr(copy, name) != getattr(shape.superblock, name) for name in _SAME):
            yield f"group {group}: its copy of the superblock tells of another filesystem"


def _inode_faults(device: BlockDevice, shape: Shape) -> Iterator[str]:
    """Compare the inodes in use with their checksums."""
    left = MOST_INODES
    for group, row in _groups(device, shape):
        if row["bg_flags"] & GROUP_INODES_UNUSED or left <= 0:
            continue
        per_group = shape.superblock.s_inodes_per_group
        count = min(per_group - _wide(shape, row, "bg_itable_unused", 16), left)
        data = _map(device, shape, row, "inode", per_group // 8)
        if data is None or count <= 0:
            continue
        left -= count
        table = device.read(_wide(shape, row, "bg_inode_table") * shape.block, count * INODE_SIZE)
        for index in np.flatnonzero(_bits(data, count)).tolist():
            inode = Inode.decode(table[index * INODE_SIZE : (index + 1) * INODE_SIZE])
            number = group * per_group + index + 1
            if inode_checksum(shape.seed, number, inode) != (inode.i_checksum_hi << 16 | inode.i_checksum_lo):
                yield f"inode {number} does not match its checksum"
            else:
                yield from block_faults(device, shape, number, inode)


def _inode(device: BlockDevice, shape: Shape, number: int) -> Inode:
    """Return one of the reserved inodes, which lie in group 0."""
    _, table = next(_tables(device, shape))
    size = shape.superblock.s_inode_size if shape.superblock.s_rev_level else 128
    place = _wide(shape, table[0], "bg_inode_table") * shape.block + (number - 1) * size
    return Inode.decode(device.read(place, min(size, INODE_SIZE)).ljust(INODE_SIZE, b"\0"))


def _first_block(inode: Inode) -> int:
    """Return the first block of a file in extents in its inode, 0 for any other."""
    header = ExtentHeader.decode(inode.i_block)
    if not inode.i_flags & _USES_EXTENTS or header.eh_magic != EXTENT_MAGIC or header.eh_depth or not header.eh_entries:
        return 0
    extent = FileExtent.decode(inode.i_block[ExtentHeader.size :])
    return extent.ee_start_hi << 32 | extent.ee_start_lo


def _journal_faults(device: BlockDevice, shape: Shape) -> Iterator[str]:
    inode = _inode(device, shape, JOURNAL)
    place = _first_block(inode)
    if not place:
        return
    journal = JournalSuperblock.decode(device.read(place * shape.block, JournalSuperblock.size))
    size = inode.i_size_high << 32 | inode.i_size_lo
    if journal.h_magic != JOURNAL_MAGIC or journal.s_blocksize != shape.block:
        yield "the journal does not start as one"
    elif journal.s_maxlen * shape.block > size or journal.s_first != 1:
        yield f"the journal says it has {journal.s_maxlen} blocks from {journal.s_first} on, its file has {size} bytes"
    elif journal.s_errno:
        yield "the guest's kernel has recorded an error in the journal"
    elif journal.s_start:
        yield "the journal holds changes, but the filesystem is not marked as in need of them"
