"""Compressed content of NTFS: units of clusters, each of which is a hole, plain, or packed by LZNT1.

[MS-XCA], section 2.5: chunks of at most 4096 bytes, each with a head of 16 bits; in a packed one, groups of eight
items, an item being a byte, or a step back and a length that share 16 bits by how far the chunk has come.
"""

from __future__ import annotations

from narvet.ground.errors import ImageError

CHUNK = 4096
_PACKED, _SIZE = 0x8000, 0x0FFF


def unpacked(data: bytes, most: int) -> bytes:
    """Return what packed bytes stand for, at most `most` bytes.

    Raises:
        ImageError: they are not sound.
    """
    result, place = bytearray(), 0
    while place + 2 <= len(data) and len(result) < most:
        head = int.from_bytes(data[place : place + 2], "little")
        if not head:
            break
        part = data[place + 2 : place + 3 + (head & _SIZE)]
        if len(part) != (head & _SIZE) + 1:
            raise ImageError("a compressed chunk is cut short")
        result += _chunk(part) if head & _PACKED else part
        place += 2 + len(part)
    return bytes(result[:most])


def _chunk(data: bytes) -> bytes:
    result, place = bytearray(), 0
    while place < len(data):
        flags, place = data[place], place + 1
        for bit in range(8):
            if place >= len(data):
                break
            if not flags >> bit & 1:
                result.append(data[place])
                place += 1
                continue
            item = int.from_bytes(data[place : place + 2], "little")
            place += 2
            bits = 12 - max((len(result) - 1).bit_length() - 4, 0)
            back, length = (item >> bits) + 1, (item & (1 << bits) - 1) + 3
            if back > len(result) or len(result) + length > CHUNK:
                raise ImageError("a compressed chunk leads out of itself")
            for _ in range(length):
                result.append(result[-back])
    return bytes(result)
