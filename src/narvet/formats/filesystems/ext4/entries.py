"""The entries in a block of an ext4 folder, put in and taken out. Pure: bytes in, bytes out.

Section "Directory Entries" of the kernel's documentation of ext4. The entries of a block reach to its end, or where
metadata have checksums to the tail there.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from narvet.formats.filesystems.ext4.folders import LEAST_ENTRY, entry_length
from narvet.formats.filesystems.ext4.records import DirectoryTail
from narvet.ground.checksums import crc32c_raw
from narvet.ground.errors import ImageError

_HEAD = struct.Struct("<IHBB")


class Entry(NamedTuple):
    """An entry: where it starts, the bytes it takes, its inode (0 if unused), its kind and its name."""

    place: int
    length: int
    inode: int
    kind: int
    name: bytes

    @property
    def least(self) -> int:
        """The bytes that it needs."""
        return needed(self.name) if self.inode else 0


def needed(name: bytes) -> int:
    """Return the bytes that an entry with a name needs."""
    return -(-(LEAST_ENTRY + len(name)) // 4) * 4


def entries_of(data: bytes) -> Iterator[Entry]:
    """Yield the entries of a block, without its tail.

    Raises:
        ImageError: one leaves the block.
    """
    place = 0
    while place + LEAST_ENTRY <= len(data):
        inode, _, size, kind = _HEAD.unpack_from(data, place)
        length = entry_length(data[place + 4 : place + 6], len(data))
        if length < LEAST_ENTRY or length % 4 or place + length > len(data) or LEAST_ENTRY + size > length:
            raise ImageError("an entry of a folder leaves its block")
        yield Entry(place, length, inode, kind, data[place + LEAST_ENTRY : place + LEAST_ENTRY + size])
        place += length


def with_entry(data: bytes, name: bytes, inode: int, kind: int) -> bytes | None:
    """Return a block, without its tail, with an entry more; None where it has no room."""
    need = needed(name)
    for one in entries_of(data):
        spare = one.length - one.least
        if spare >= need:
            result = bytearray(data)
            if one.inode:
                struct.pack_into("<H", result, one.place + 4, one.least)
            start = one.place + one.least
            result[start : start + need] = _encoded(name, inode, kind, spare)[:need]
            return bytes(result)
    return None


def without_entry(data: bytes, name: bytes) -> bytes | None:
    """Return a block, without its tail, in which a name's entry is part of the one before it; None if it has none."""
    before: Entry | None = None
    for one in entries_of(data):
        if one.inode and one.name == name:
            result = bytearray(data)
            struct.pack_into("<I", result, one.place, 0)
            if before is not None:
                struct.pack_into("<H", result, before.place + 4, before.length + one.length)
            return bytes(result)
        before = one
    return None


def block_of(entries: Iterable[tuple[int, int, bytes]], room: int) -> bytes:
    """Return a block of `room` bytes of entries (inode, kind, name), the last of which takes what is left."""
    parts = [(name, inode, kind) for inode, kind, name in entries] or [(b"", 0, 0)]
    data = b"".join(_encoded(*part, needed(part[0])) for part in parts[:-1])
    return data + _encoded(*parts[-1], room - len(data))


def with_tail(data: bytes, seed: int | None) -> bytes:
    """Return a block with the tail that has its checksum, if there is a `seed` for that."""
    if seed is None:
        return data
    tail = DirectoryTail(det_rec_len=DirectoryTail.size, det_reserved_ft=0xDE, det_checksum=crc32c_raw(seed, data))
    return data + tail.encode()


def _encoded(name: bytes, inode: int, kind: int, length: int) -> bytes:
    field = 0xFFFF if length == 1 << 16 else length
    return (_HEAD.pack(inode, field, len(name), kind) + name).ljust(length, b"\0")
