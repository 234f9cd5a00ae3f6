"""The first inodes of a fresh ext4 filesystem and what they hold: root, lost+found, journal, reserve for growth."""

from __future__ import annotations

import struct
from collections.abc import Iterable

from narvet.checksums import crc32c_raw
from narvet.errors import BugError
from narvet.filesystems.ext4.geometry import Geometry
from narvet.filesystems.ext4.groups import Run
from narvet.filesystems.ext4.records import (
    EXTENT_MAGIC,
    EXTRA_ISIZE,
    LONGEST_EXTENT,
    DirectoryTail,
    Extent,
    ExtentHeader,
    Inode,
)

ROOT = 2
GROWTH = 7
JOURNAL = 8
LOST_FOUND = 11

_DIRECTORY = 0o040000
_FILE = 0o100000
_USES_EXTENTS = 0x80000
_IN_INODE = 4  # extents that fit i_block beside their header
_KIND_DIRECTORY = 2


def extent_tree(runs: Iterable[Run]) -> bytes:
    """Return the 60 bytes of i_block that map a file's blocks, in order, to `runs`."""
    pieces, logical = [], 0
    for start, count in runs:
        for done in range(0, count, LONGEST_EXTENT):
            length = min(LONGEST_EXTENT, count - done)
            high, low = divmod(start + done, 1 << 32)
            pieces.append(Extent(ee_block=logical, ee_len=length, ee_start_hi=high, ee_start_lo=low))
            logical += length
    if len(pieces) > _IN_INODE:
        raise BugError(f"ext4: {len(pieces)} extents do not fit an inode")
    header = ExtentHeader.of(eh_magic=EXTENT_MAGIC, eh_entries=len(pieces), eh_max=_IN_INODE)
    return (header.encode() + b"".join(piece.encode() for piece in pieces)).ljust(60, b"\0")


def file_inode(geometry: Geometry, runs: Iterable[Run], mode: int = _FILE | 0o600) -> Inode:
    """Return the inode of a file, or with another mode a folder, that fills the blocks of `runs`."""
    runs = list(runs)
    blocks = sum(run.length for run in runs)
    stored = sum(geometry.clustered(run.length) for run in runs)
    return _inode(geometry, mode, blocks * geometry.block_size, stored, extent_tree(runs)).but(i_flags=_USES_EXTENTS)


def root_inode(geometry: Geometry, run: Run) -> Inode:
    """Return the root's inode with the owner and mode asked for."""
    options = geometry.options
    return file_inode(geometry, [run], _DIRECTORY | options.mode).but(
        i_links_count=3,
        i_uid=options.uid & 0xFFFF,
        i_uid_high=options.uid >> 16,
        i_gid=options.gid & 0xFFFF,
        i_gid_high=options.gid >> 16,
    )


def lost_found_inode(geometry: Geometry, runs: Iterable[Run]) -> Inode:
    """Return the inode of the folder for what a repair finds."""
    return file_inode(geometry, runs, _DIRECTORY | 0o700).but(i_links_count=2)


def growth_inode(geometry: Geometry, growth_map: Run) -> Inode:
    """Return the inode that owns the blocks reserved for group descriptors, through a doubly indirect map.

    Its size is what such a map can address in full; the kernel checks the map, not the size.
    """
    addresses = geometry.block_size // 4
    blocks = 1 + geometry.reserved_descriptor_blocks * (1 + len(geometry.copies))
    pointers = [0] * 15
    pointers[13] = growth_map.start
    size = (12 + addresses + addresses**2) * geometry.block_size
    return _inode(geometry, _FILE | 0o600, size, blocks, struct.pack("<15I", *pointers))


def growth_blocks(geometry: Geometry, growth_map: Run) -> dict[int, bytes]:
    """Return block number to content of the growth map and of every reserved block, which lists its own copies."""
    addresses = geometry.block_size // 4
    first = geometry.first_data_block + 1 + geometry.descriptor_blocks
    pointers = [0] * addresses
    blocks = {}
    for index in range(geometry.reserved_descriptor_blocks):
        place = first + index
        pointers[(geometry.descriptor_blocks + index) % addresses] = place
        copies = [place + group * geometry.blocks_per_group for group in geometry.copies]
        blocks[place] = struct.pack(f"<{len(copies)}I", *copies).ljust(geometry.block_size, b"\0")
    blocks[growth_map.start] = struct.pack(f"<{addresses}I", *pointers)
    return blocks


def _inode(geometry: Geometry, mode: int, size: int, blocks: int, mapping: bytes) -> Inode:
    made = geometry.options.made
    low, extra = made & 0xFFFFFFFF, (made >> 32) & 3
    return Inode.of(
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
        i_blocks_lo=blocks * (geometry.block_size // 512),
        i_block=mapping,
        i_extra_isize=EXTRA_ISIZE,
    )


def inode_seed(seed: int, number: int, generation: int = 0) -> int:
    """Return where the checksums of an inode and its folder blocks start."""
    return crc32c_raw(crc32c_raw(seed, struct.pack("<I", number)), struct.pack("<I", generation))


def inode_checksum(seed: int, number: int, inode: Inode) -> int:
    """Return the checksum of an inode, 32 bits."""
    blank = inode.but(i_checksum_lo=0, i_checksum_hi=0)
    return crc32c_raw(inode_seed(seed, number, inode.i_generation), blank.encode())


def signed(seed: int, number: int, inode: Inode) -> Inode:
    """Return the inode with its checksum."""
    high, low = divmod(inode_checksum(seed, number, inode), 1 << 16)
    return inode.but(i_checksum_lo=low, i_checksum_hi=high)


def folder_block(geometry: Geometry, seed: int, number: int, names: list[tuple[str, int]]) -> bytes:
    """Return a block of folder `number` that holds `names` with their inodes, the last stretched to the tail.

    A block without names holds one unused entry.
    """
    room = geometry.block_size - DirectoryTail.size
    block, entries = bytearray(), names or [("", 0)]
    for index, (name, inode) in enumerate(entries):
        text = name.encode()
        length = room - len(block) if index == len(entries) - 1 else -(-(8 + len(text)) // 4) * 4
        kind = _KIND_DIRECTORY if inode else 0
        block += (struct.pack("<IHBB", inode, length, len(text), kind) + text).ljust(length, b"\0")
    checksum = crc32c_raw(inode_seed(seed, number), bytes(block))
    tail = DirectoryTail.of(det_rec_len=DirectoryTail.size, det_reserved_ft=0xDE, det_checksum=checksum)
    return bytes(block) + tail.encode()
