"""Extended attributes of ext4: in the inode behind its fields, in a block of their own, or as files of their own.

Section "Extended Attributes" of the kernel's documentation of ext4.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from narvet.formats.filesystems.ext4.records import Inode
from narvet.formats.filesystems.ext4.volume import Volume
from narvet.ground.checksums import crc32c_raw
from narvet.ground.errors import ImageError

MAGIC = 0xEA020000
INLINE = "system.data"
"""The attribute that holds what of a small file's content does not fit i_block."""

_BLOCK_HEAD, _SUM = 32, 16
_ENTRY = struct.Struct("<BBHIII")
_PREFIXES = {
    1: "user.", 2: "system.posix_acl_access", 3: "system.posix_acl_default", 4: "trusted.", 6: "security.",
    7: "system.", 8: "system.richacl",
}  # fmt: skip
_MOST = 4096  # entries; a block of 64 KiB has no more


class Attribute(NamedTuple):
    """An attribute by its full name: its value, or the inode of the file that keeps it, with its size in bytes.

    `hash` is of such a file's content, zero for a value that lies in the inode.
    """

    name: str
    value: bytes
    inode: int = 0
    size: int = 0
    hash: int = 0


def attributes_of(volume: Volume, number: int, inode: Inode, whole: bytes) -> Iterator[Attribute]:
    """Yield the attributes of an inode, whose bytes are `whole`.

    Raises:
        ImageError: they are not sound.
    """
    start = 128 + inode.i_extra_isize
    if len(whole) > start + 4 and whole[start : start + 4] == MAGIC.to_bytes(4, "little"):
        yield from _entries(whole[start + 4 :], 0, f"inode {number}")
    place = inode.i_file_acl_high << 32 | inode.i_file_acl_lo
    if place:
        data = volume.device.read(place * volume.block_size, volume.block_size)
        if int.from_bytes(data[:4], "little") != MAGIC or not block_sound(volume, place, data):
            raise ImageError(f"inode {number}: its block of attributes does not match its checksum")
        yield from _entries(data, _BLOCK_HEAD, f"inode {number}")


def block_sound(volume: Volume, place: int, data: bytes) -> bool:
    """Return whether a block of attributes matches its checksum, where the filesystem has any."""
    if not volume.checksums:
        return True
    blank = data[:_SUM] + bytes(4) + data[_SUM + 4 :]
    summed = crc32c_raw(crc32c_raw(volume.seed, place.to_bytes(8, "little")), blank)
    return int.from_bytes(data[_SUM : _SUM + 4], "little") == summed


def _entries(data: bytes, first: int, where: str) -> Iterator[Attribute]:
    """Yield attributes whose entries start at `first`; their values' offsets count from the start of `data`."""
    place = first
    for _ in range(_MOST):
        if place + 4 > len(data) or data[place : place + 4] == bytes(4):
            return
        if place + _ENTRY.size > len(data):
            break
        length, index, offset, inode, size, hashed = _ENTRY.unpack_from(data, place)
        end = place + _ENTRY.size + length
        value = b"" if inode else data[offset : offset + size]
        if end > len(data) or (not inode and len(value) != size):
            break
        name = data[place + _ENTRY.size : end].decode("utf-8", "surrogateescape")
        yield Attribute(_PREFIXES.get(index, f"{index}.") + name, value, inode, size, hashed if inode else 0)
        place = -(-end // 4) * 4
    raise ImageError(f"{where}: its attributes leave their place")


def encoded(attributes: Iterable[Attribute], room: int) -> bytes | None:
    """Return attributes as they lie in an inode, in `room` bytes from the magic on; None if they do not fit.

    Values stand at the end, the last entry's first, on multiples of four; the end of the entries is four zero bytes.
    Entries in inodes have no hash (fs/ext4/xattr.c) but for values in files.
    """
    rows = sorted((_split(one.name), one) for one in attributes)
    entries, values, end = bytearray(), bytearray(), room - 4
    for (index, text), one in rows:
        value = one.value
        padded = -(-len(value) // 4) * 4
        end -= padded
        values[:0] = value.ljust(padded, b"\0")
        size = one.size if one.inode else len(value)
        entries += _ENTRY.pack(len(text), index, end if value else 0, one.inode, size, one.hash)
        entries += text.ljust(-(-len(text) // 4) * 4, b"\0")
    if len(entries) + 4 > end:
        return None
    return MAGIC.to_bytes(4, "little") + bytes(entries).ljust(end, b"\0") + bytes(values)


def _split(name: str) -> tuple[int, bytes]:
    for index, prefix in _PREFIXES.items():
        if name.startswith(prefix) and (prefix.endswith(".") or name == prefix):
            return index, name[len(prefix) :].encode("utf-8", "surrogateescape")
    raise ImageError(f"an attribute is called {name}")
