"""The maps of ext4 against what describes them: what they say is free, and whether they can be believed.

Bounded: at most `MOST_MAPS` groups and `MOST_INODES` inodes are looked at; of a larger filesystem
that is the start.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import cached_property
from itertools import islice
from typing import Any

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.ext4.file_blocks import block_faults
from narvet.formats.filesystems.ext4.inodes import JOURNAL, inode_seed
from narvet.formats.filesystems.ext4.records import (
    DESCRIPTOR_SIZE,
    EXTENT_MAGIC,
    GROUP_BLOCKS_UNUSED,
    GROUP_INODES_UNUSED,
    GROUP_TABLE_ZEROED,
    INODE_SIZE,
    JOURNAL_MAGIC,
    MAGIC,
    USES_EXTENTS,
    ExtentHeader,
    ExtentRecord,
    GroupDescriptor,
    Inode,
    JournalSuperblock,
    Superblock,
)
from narvet.formats.filesystems.ext4.volume import Volume, descriptor_pieces, superblock_on, volume_of
from narvet.ground.checksums import crc32c_raw
from narvet.ground.extents import Extent, runs_of_set, without
from narvet.ground.values import Frozen

MOST_MAPS = 1 << 15
MOST_INODES = 1 << 18
_FEW_BYTES = 1 << 20
_FOLDER = 0o4
_BLOCKS_START = next(row.offset for row in Inode.rows if row.name == "i_block")
_SAME = ("s_log_block_size", "s_blocks_per_group", "s_inodes_per_group", "s_first_data_block")

Table = tuple[int, NDArray[Any]]
"""The number of a group, and descriptors from its own on."""


def unused(device: BlockDevice) -> Iterator[Extent]:
    """Yield the free runs of a filesystem that was read without a finding, group by group."""
    volume = volume_of(device, superblock_on(device))
    superblock = volume.superblock
    ratio = superblock.s_log_cluster_size - superblock.s_log_block_size
    for group, row in _groups(tables(volume)):
        if row["bg_flags"] & GROUP_BLOCKS_UNUSED:
            continue
        start, count = _span(volume, group)
        bits = block_bits(volume, row, -(-count >> ratio))
        if bits is None:
            continue
        for low, high in runs_of_set(bits == 0).tolist():
            run = min(high << ratio, count) - (low << ratio)
            yield Extent((start + (low << ratio)) * volume.block_size, run * volume.block_size)


def relied_on(device: BlockDevice) -> Iterator[Extent]:
    """Yield the runs of a filesystem that a guest reads as they lie there, ascending.

    Of a table of inodes that is not marked as zeroed these are the inodes in use: the rest a kernel makes zeros itself.
    """
    volume = volume_of(device, superblock_on(device))
    superblock, block = volume.superblock, volume.block_size
    ratio = superblock.s_log_cluster_size - superblock.s_log_block_size
    length = -(-superblock.s_inodes_per_group * superblock.s_inode_size // block)
    lazy = volume.checksums or volume.ro_compat("uninit_bg")
    used: list[Extent] = []
    places = [
        place
        for _, table in tables(volume)
        for place in (table["bg_inode_table_lo"] | table["bg_inode_table_hi"].astype(np.int64) << 32).tolist()
    ]
    inode_tables = [Extent(place * block, length * block) for place in places]
    read: list[Extent] = []
    for group, row in _groups(tables(volume), GROUP_TABLE_ZEROED):
        place, count = _wide(volume, row, "bg_inode_table"), length
        if lazy and not row["bg_flags"] & GROUP_TABLE_ZEROED:
            active = superblock.s_inodes_per_group - _wide(volume, row, "bg_itable_unused", 16)
            count = -(-active * superblock.s_inode_size // block)
        read += [Extent(place * block, count * block)] if count else []
        start, whole = _span(volume, group)
        if row["bg_flags"] & GROUP_BLOCKS_UNUSED or (bits := block_bits(volume, row, -(-whole >> ratio))) is None:
            continue
        for low, high in runs_of_set(bits != 0).tolist():
            size = min(high << ratio, whole) - (low << ratio)
            used.append(Extent((start + (low << ratio)) * block, size * block))
    yield from sorted((*without(sorted(used), sorted(inode_tables)), *read))


class Checked(Frozen, dict=True, gc=True):
    """A clean filesystem whose superblock and descriptors match their checksums, looked at as a whole."""

    volume: Volume

    def faults(self) -> Iterator[str]:
        """Yield what is wrong with it."""
        volume = self.volume
        yield from _copy_faults(volume)
        yield from _map_faults(volume, self._tables)
        if volume.checksums and volume.superblock.s_inode_size == INODE_SIZE:
            yield from _inode_faults(volume, self._tables)
        if volume.compat("has_journal") and volume.superblock.s_journal_inum == JOURNAL:
            yield from _journal_faults(volume, self._tables)

    def left_out(self) -> str:
        """Return why not everything of it is checked, empty if it is."""
        return _left_out(self.volume, self._tables)

    @cached_property
    def _tables(self) -> Iterable[Table]:
        """Its descriptors, read once if they are few."""
        shape = self.volume.shape
        few = shape.group_count * shape.descriptor_size <= _FEW_BYTES
        return tuple(tables(self.volume)) if few else _Tables(self.volume)


def _left_out(volume: Volume, known: Iterable[Table]) -> str:
    written = inodes = 0
    for _, row in islice(_groups(known), MOST_MAPS + 1):
        written += 1
        if not row["bg_flags"] & GROUP_INODES_UNUSED:
            inodes += volume.superblock.s_inodes_per_group - _wide(volume, row, "bg_itable_unused", 16)
    if written > MOST_MAPS:
        return f"more than {MOST_MAPS} of its groups have been written to"
    if volume.checksums and volume.superblock.s_inode_size != INODE_SIZE:
        return f"its inodes have {volume.superblock.s_inode_size} bytes"
    return f"it has had more than {MOST_INODES} inodes in use" if volume.checksums and inodes > MOST_INODES else ""


class _Tables(Frozen):
    """The descriptors of a filesystem, read each time that they are gone through."""

    volume: Volume

    def __iter__(self) -> Iterator[Table]:
        return tables(self.volume)


def tables(volume: Volume) -> Iterator[Table]:
    """Yield first group and descriptors of the pieces of the table, short ones made as long as others."""
    for first, data in descriptor_pieces(volume):
        rows = np.frombuffer(data, dtype=np.uint8).reshape(-1, volume.shape.descriptor_size)[:, :DESCRIPTOR_SIZE]
        whole = np.zeros((len(rows), DESCRIPTOR_SIZE), dtype=np.uint8)
        whole[:, : rows.shape[1]] = rows
        yield first, whole.view(GroupDescriptor.dtype())[:, 0]


def _groups(known: Iterable[Table], further: int = 0) -> Iterator[tuple[int, np.void]]:
    """Yield number and descriptor of the groups that hold anything written, or have any of some `further` flags."""
    for first, table in known:
        both = GROUP_BLOCKS_UNUSED | GROUP_INODES_UNUSED
        flags = table["bg_flags"]
        for index in np.flatnonzero((flags & both != both) | (flags & further != 0)).tolist():
            yield first + index, table[index]


def _span(volume: Volume, group: int) -> tuple[int, int]:
    """Return the first block of a group and how many it has."""
    return volume.shape.group_start(group), volume.shape.group_length(group)


def _wide(volume: Volume, row: np.void, name: str, bits: int = 32) -> int:
    high = int(row[name + "_hi"]) if volume.shape.descriptor_size >= DESCRIPTOR_SIZE else 0
    return int(row[name + "_lo"]) | high << bits


def _map(volume: Volume, row: np.void, kind: str, covered: int) -> bytes | None:
    """Return a bitmap's block, None where its `covered` bytes do not match their checksum."""
    data = volume.device.read(_wide(volume, row, f"bg_{kind}_bitmap") * volume.block_size, volume.block_size)
    if volume.checksums:
        mask = 0xFFFFFFFF if volume.shape.descriptor_size >= DESCRIPTOR_SIZE else 0xFFFF
        if (crc32c_raw(volume.seed, data[:covered]) ^ _wide(volume, row, f"bg_{kind}_bitmap_csum", 16)) & mask:
            return None
    return data


def _bits(data: bytes, count: int) -> NDArray[np.uint8]:
    return np.unpackbits(np.frombuffer(data, dtype=np.uint8), bitorder="little")[:count]


def _clear(data: bytes, count: int) -> int:
    """Return how many of the first `count` bits are not set; of a map that has fewer, how many of those."""
    count = min(count, 8 * len(data))
    whole, left = divmod(count, 8)
    used = int.from_bytes(data[:whole], "little").bit_count()
    if left:
        used += (data[whole] & ((1 << left) - 1)).bit_count()
    return count - used


def block_bits(volume: Volume, row: np.void, clusters: int) -> NDArray[np.uint8] | None:
    """Return which clusters of a group its block map says are used; None if it does not match its checksum."""
    data = _block_map(volume, row)
    return None if data is None else _bits(data, clusters)


def _block_map(volume: Volume, row: np.void) -> bytes | None:
    return _map(volume, row, "block", volume.superblock.s_clusters_per_group // 8)


def _map_faults(volume: Volume, known: Iterable[Table]) -> Iterator[str]:
    """Compare each map with its checksum and with the count of what is free in it."""
    superblock = volume.superblock
    ratio = superblock.s_log_cluster_size - superblock.s_log_block_size
    inodes = superblock.s_inodes_per_group
    for group, row in islice(_groups(known), MOST_MAPS):
        if not row["bg_flags"] & GROUP_BLOCKS_UNUSED:
            data = _block_map(volume, row)
            if data is None:
                yield f"group {group}: its block map does not match its checksum"
            elif _clear(data, -(-_span(volume, group)[1] >> ratio)) != _wide(volume, row, "bg_free_blocks_count", 16):
                yield f"group {group}: its block map and its count of free blocks differ"
        if not row["bg_flags"] & GROUP_INODES_UNUSED:
            data = _map(volume, row, "inode", inodes // 8)
            if data is None:
                yield f"group {group}: its inode map does not match its checksum"
            elif _clear(data, inodes) != _wide(volume, row, "bg_free_inodes_count", 16):
                yield f"group {group}: its inode map and its count of free inodes differ"
    free = 0
    for _, table in known:
        low, high = (table[f"bg_free_blocks_count_{half}"].astype(np.int64) for half in ("lo", "hi"))
        free += int((low | high << 16).sum())
    kept = superblock.s_free_blocks_count_lo | superblock.s_free_blocks_count_hi << 32
    if free << ratio != kept:
        yield f"the groups have {free << ratio} free blocks, the superblock says {kept}"


def _copy_faults(volume: Volume) -> Iterator[str]:
    """Look at every copy of the superblock; only its sizes never change."""
    for group in volume.shape.copies:
        data = volume.device.read(_span(volume, group)[0] * volume.block_size, Superblock.size)
        copy = np.frombuffer(data, dtype=Superblock.dtype())[0]
        signed = not volume.checksums or crc32c_raw(0xFFFFFFFF, data[:-4]) == copy["s_checksum"]
        if copy["s_magic"] != MAGIC or not signed:
            yield f"group {group}: its copy of the superblock does not match its checksum"
        elif any(copy[name] != getattr(volume.superblock, name) for name in _SAME):
            yield f"group {group}: its copy of the superblock tells of another filesystem"


def _inode_faults(volume: Volume, known: Iterable[Table]) -> Iterator[str]:
    """Compare the inodes in use with their checksums."""
    left = MOST_INODES
    for group, row in _groups(known):
        if row["bg_flags"] & GROUP_INODES_UNUSED or left <= 0:
            continue
        per_group = volume.superblock.s_inodes_per_group
        count = min(per_group - _wide(volume, row, "bg_itable_unused", 16), left)
        data = _map(volume, row, "inode", per_group // 8)
        if data is None or count <= 0:
            continue
        left -= count
        table = volume.device.read(_wide(volume, row, "bg_inode_table") * volume.block_size, count * INODE_SIZE)
        used = np.flatnonzero(_bits(data, count))
        rows = np.frombuffer(table, dtype=Inode.dtype())
        sums = (rows["i_checksum_hi"].astype(np.uint32) << 16 | rows["i_checksum_lo"])[used].tolist()
        generations, deep = rows["i_generation"][used].tolist(), _has_blocks(rows)[used].tolist()
        blank = bytearray(table)
        fields = np.frombuffer(blank, dtype=Inode.dtype())
        fields["i_checksum_hi"] = fields["i_checksum_lo"] = 0
        for index, kept, generation, has_blocks in zip(used.tolist(), sums, generations, deep, strict=True):
            number, place = group * per_group + index + 1, index * INODE_SIZE
            seed = inode_seed(volume.seed, number, generation)
            if crc32c_raw(seed, bytes(blank[place : place + INODE_SIZE])) != kept:
                yield f"inode {number} does not match its checksum"
            elif has_blocks:
                yield from block_faults(volume, number, Inode.decode(table[place : place + INODE_SIZE]))


def _has_blocks(rows: NDArray[Any]) -> NDArray[np.bool_]:
    """Return which inodes may have blocks, besides their content, that have checksums: see `block_faults`."""
    depth = rows.view(np.uint8).reshape(len(rows), INODE_SIZE)[:, _BLOCKS_START + 6 : _BLOCKS_START + 8]
    deep = (depth.any(axis=1) | (rows["i_mode"] >> 12 == _FOLDER)) & (rows["i_flags"] & USES_EXTENTS != 0)
    return np.asarray(deep | (rows["i_file_acl_high"] != 0) | (rows["i_file_acl_lo"] != 0))


def _inode(volume: Volume, known: Iterable[Table], number: int) -> Inode:
    """Return one of the reserved inodes, which lie in group 0."""
    _, table = next(iter(known))
    size = volume.shape.inode_size
    place = _wide(volume, table[0], "bg_inode_table") * volume.block_size + (number - 1) * size
    return Inode.decode(volume.device.read(place, min(size, INODE_SIZE)).ljust(INODE_SIZE, b"\0"))


def _first_block(inode: Inode) -> int:
    """Return the first block of a file in extents in its inode, 0 for any other."""
    header = ExtentHeader.decode(inode.i_block)
    if not inode.i_flags & USES_EXTENTS or header.eh_magic != EXTENT_MAGIC or header.eh_depth or not header.eh_entries:
        return 0
    extent = ExtentRecord.decode(inode.i_block[ExtentHeader.size :])
    return extent.ee_start_hi << 32 | extent.ee_start_lo


def _journal_faults(volume: Volume, known: Iterable[Table]) -> Iterator[str]:
    inode = _inode(volume, known, JOURNAL)
    place = _first_block(inode)
    if not place:
        return
    journal = JournalSuperblock.decode(volume.device.read(place * volume.block_size, JournalSuperblock.size))
    size = inode.i_size_high << 32 | inode.i_size_lo
    if journal.h_magic != JOURNAL_MAGIC or journal.s_blocksize != volume.block_size:
        yield "the journal does not start as one"
    elif journal.s_maxlen * volume.block_size > size or journal.s_first != 1:
        yield f"the journal says it has {journal.s_maxlen} blocks from {journal.s_first} on, its file has {size} bytes"
    elif journal.s_errno:
        yield "the guest's kernel has recorded an error in the journal"
    elif journal.s_start:
        yield "the journal holds changes, but the filesystem is not marked as in need of them"
