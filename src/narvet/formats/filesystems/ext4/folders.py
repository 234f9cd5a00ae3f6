"""Folders of ext4 whose entries lead to inodes that got other numbers: entries and checksums made anew in place."""

from __future__ import annotations

import struct
from collections.abc import Mapping

from narvet.formats.filesystems.ext4.records import DirectoryTail
from narvet.ground.checksums import crc32c_raw
from narvet.ground.errors import ImageError

ROOT_COUNTS, NODE_COUNTS = 32, 8  # where limit and count lie in a hash tree's root and nodes
_DOT_DOT = 12  # where the entry of the folder above lies in a hash tree's root
LEAST_ENTRY = 8


def entry_length(field: bytes, block: int) -> int:
    """Return the length of an entry; 64 KiB, which its 16 bits do not hold, is written as 0 or all ones."""
    length = int.from_bytes(field, "little")
    return block if length in (0, 0xFFFF) and block == 1 << 16 else length


def is_hash_node(data: bytes, *, is_root: bool, indexed: bool) -> bool:
    """Return whether a folder's block is part of its hash tree, and holds no entries but for those of a root."""
    empty = int.from_bytes(data[:4], "little") == 0 and entry_length(data[4:6], len(data)) == len(data)
    return is_root or (indexed and empty)


def hash_block_sum(data: bytes, seed: int, counts: int) -> tuple[int, int] | None:
    """Return where a block of a hash tree keeps its checksum, and what that should be; None without room for it."""
    limit = int.from_bytes(data[counts : counts + 2], "little")
    count = int.from_bytes(data[counts + 2 : counts + 4], "little")
    tail = counts + 8 * limit
    if tail + 8 > len(data) or count > limit:
        return None
    return tail + 4, crc32c_raw(crc32c_raw(seed, data[: counts + 8 * count]), data[tail : tail + 4] + bytes(4))


def renumbered(data: bytes, numbers: Mapping[int, int], seed: int | None, *, is_root: bool, indexed: bool) -> bytes:
    """Return a folder's block whose entries lead to inodes by their new numbers, signed if there is a `seed` for that.

    `is_root` is whether it is the root of a hash tree, `indexed` whether the folder has one.

    Raises:
        ImageError: it is no block of a folder.
    """
    result = bytearray(data)
    hashed = is_hash_node(data, is_root=is_root, indexed=indexed)
    for place in (0, _DOT_DOT) if is_root else () if hashed else _entries(data):
        number = int.from_bytes(data[place : place + 4], "little")
        if number in numbers:
            struct.pack_into("<I", result, place, numbers[number])
    if seed is None:
        return bytes(result)
    if hashed:
        signed = hash_block_sum(bytes(result), seed, ROOT_COUNTS if is_root else NODE_COUNTS)
        if signed is None:
            raise ImageError("a hash tree of a folder has no room for its checksum")
        struct.pack_into("<I", result, *signed)
    else:
        summed = crc32c_raw(seed, bytes(result[: -DirectoryTail.size]))
        struct.pack_into("<I", result, len(result) - 4, summed)
    return bytes(result)


def _entries(data: bytes) -> list[int]:
    """Return where the entries of a block start."""
    places, place = [], 0
    while place < len(data):
        length = entry_length(data[place + 4 : place + 6], len(data))
        if length < LEAST_ENTRY or length % 4 or place + length > len(data):
            raise ImageError("an entry of a folder leaves its block")
        places.append(place)
        place += length
    return places
