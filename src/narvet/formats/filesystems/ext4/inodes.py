"""The first inodes of a fresh ext4 filesystem and what they hold: root, lost+found, journal, reserve for growth."""

from __future__ import annotations

import struct
from collections.abc import Iterable

import numpy as np

from narvet.formats.filesystems.ext4.options import Ext4Options
from narvet.formats.filesystems.ext4.records import (
    EXTENT_MAGIC,
    EXTRA_ISIZE,
    LONGEST_EXTENT,
    USES_EXTENTS,
    DirectoryTail,
    ExtentHeader,
    ExtentRecord,
    Inode,
)
from narvet.formats.filesystems.ext4.shape import Shape
from narvet.ground.checksums import crc32c_raw
from narvet.ground.errors import BugError
from narvet.ground.extents import Extent
from narvet.ground.values import replace

ROOT = 2
GROWTH = 7
JOURNAL = 8
LOST_FOUND = 11

_DIRECTORY = 0o040000
_FILE = 0o100000
_IN_INODE = 4  # extents that fit i_block beside their header
_KIND_DIRECTORY = 2


def extent_tree(runs: Iterable[Extent]) -> bytes:
    """Return the 60 bytes of i_block that map a file's blocks, in order, to `runs`."""
    pieces, logical = [], 0
    for start, count in runs:
        for done in range(0, count, LONGEST_EXTENT):
            length = min(LONGEST_EXTENT, count - done)
            high, low = divmod(start + done, 1 << 32)
            pieces.append(ExtentRecord(ee_block=logical, ee_len=length, ee_start_hi=high, ee_start_lo=low))
            logical += length
    if len(pieces) > _IN_INODE:
        raise BugError(f"ext4: {len(pieces)} extents do not fit an inode")
    header = ExtentHeader(eh_magic=EXTENT_MAGIC, eh_entries=len(pieces), eh_max=_IN_INODE)
    return (header.encode() + b"".join(piece.encode() for piece in pieces)).ljust(60, b"\0")


def file_inode(shape: Shape, made: int, runs: Iterable[Extent], mode: int = _FILE | 0o600) -> Inode:
    """Return the inode of a file, or with another mode a folder, that fills the blocks of `runs`; `made` is seconds
    since 1970."""
    runs = list(runs)
    blocks = sum(run.length for run in runs)
    stored = sum(shape.clustered(run.length) for run in runs)
    return replace(
        _inode(shape, made, mode, blocks * shape.block_size, stored, extent_tree(runs)), i_flags=USES_EXTENTS
    )


def root_inode(shape: Shape, options: Ext4Options, run: Extent) -> Inode:
    """Return the root's inode with the owner and mode asked for."""
    return replace(
        file_inode(shape, options.made, [run], _DIRECTORY | options.mode),
        i_links_count=3,
        i_uid=options.uid & 0xFFFF,
        i_uid_high=options.uid >> 16,
        i_gid=options.gid & 0xFFFF,
        i_gid_high=options.gid >> 16,
    )


def lost_found_inode(shape: Shape, made: int, runs: Iterable[Extent]) -> Inode:
    """Return the inode of the folder for what a repair finds."""
    return replace(file_inode(shape, made, runs, _DIRECTORY | 0o700), i_links_count=2)


def growth_inode(shape: Shape, made: int, growth_map: Extent) -> Inode:
    """Return the inode that owns the blocks reserved for group descriptors, through a doubly indirect map.

    Its size is what such a map can address in full; the kernel checks the map, not the size.
    """
    addresses = shape.block_size // 4
    blocks = 1 + shape.reserved_descriptor_blocks * (1 + len(shape.copies))
    pointers = [0] * 15
    pointers[13] = growth_map.start
    size = (12 + addresses + addresses**2) * shape.block_size
    return _inode(shape, made, _FILE | 0o600, size, blocks, struct.pack("<15I", *pointers))


def growth_blocks(shape: Shape, growth_map: Extent) -> dict[int, bytes]:
    """Return block number to content of the growth map and of the reserved blocks in a row, each of which lists its own
    copies."""
    addresses, count = shape.block_size // 4, shape.reserved_descriptor_blocks
    first = shape.first_data_block + 1 + shape.descriptor_blocks
    places = np.arange(first, first + count)
    pointers = np.zeros(addresses, dtype="<u4")
    pointers[(shape.descriptor_blocks + np.arange(count)) % addresses] = places
    blocks = np.zeros((count, addresses), dtype="<u4")
    blocks[:, : len(shape.copies)] = places[:, None] + np.array(shape.copies, dtype=np.int64) * shape.blocks_per_group
    return {first: blocks.tobytes(), growth_map.start: pointers.tobytes()}


def _inode(shape: Shape, made: int, mode: int, size: int, blocks: int, mapping: bytes) -> Inode:
    low, extra = made & 0xFFFFFFFF, (made >> 32) & 3
    return Inode(
        i_mode=mode,
        i_size_lo=size & 0xFFFFFFFF,
        i_size_high=size >> 32,
        i_atime=low,
        i_ctime=low,
        i_mtime=low,
        i_crtime=low,
        i_atime_extra=extra,
        i_ctime_extra=extra,
        i_mtime_extra=extra,
        i_crtime_extra=extra,
        i_links_count=1,
        i_blocks_lo=blocks * (shape.block_size // 512),
        i_block=mapping,
        i_extra_isize=EXTRA_ISIZE,
    )


def inode_seed(seed: int, number: int, generation: int = 0) -> int:
    """Return where the checksums of an inode and its folder blocks start."""
    return crc32c_raw(crc32c_raw(seed, struct.pack("<I", number)), struct.pack("<I", generation))


def inode_checksum(seed: int, number: int, inode: Inode) -> int:
    """Return the checksum of an inode, 32 bits."""
    blank = replace(inode, i_checksum_lo=0, i_checksum_hi=0)
    return crc32c_raw(inode_seed(seed, number, inode.i_generation), blank.encode())


def signed(seed: int, number: int, inode: Inode) -> Inode:
    """Return the inode with its checksum."""
    high, low = divmod(inode_checksum(seed, number, inode), 1 << 16)
    return replace(inode, i_checksum_lo=low, i_checksum_hi=high)


def signed_in(seed: int, number: int, inode: Inode, whole: bytes) -> Inode:
    """Return an inode with its checksum, which covers all of the `whole` inode that was there, of any size.

    Inodes of 128 bytes keep the lower half alone (metadata checksums, "inode").
    """
    blank = replace(inode, i_checksum_lo=0, i_checksum_hi=0).encode()[: len(whole)] + whole[len(inode.encode()) :]
    high, low = divmod(crc32c_raw(inode_seed(seed, number, inode.i_generation), blank), 1 << 16)
    return replace(inode, i_checksum_lo=low, i_checksum_hi=high if inode.i_extra_isize >= 4 else inode.i_checksum_hi)


def folder_block(shape: Shape, seed: int, number: int, names: list[tuple[str, int]]) -> bytes:
    """Return a block of folder `number` that holds `names` with their inodes, the last stretched to the tail.

    A block without names holds one unused entry.
    """
    room = shape.block_size - DirectoryTail.size
    block, entries = bytearray(), names or [("", 0)]
    for index, (name, inode) in enumerate(entries):
        text = name.encode()
        length = room - len(block) if index == len(entries) - 1 else -(-(8 + len(text)) // 4) * 4
        kind = _KIND_DIRECTORY if inode else 0
        block += (struct.pack("<IHBB", inode, length, len(text), kind) + text).ljust(length, b"\0")
    checksum = crc32c_raw(inode_seed(seed, number), bytes(block))
    tail = DirectoryTail(det_rec_len=DirectoryTail.size, det_reserved_ft=0xDE, det_checksum=checksum)
    return bytes(block) + tail.encode()
