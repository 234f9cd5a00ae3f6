"""The records at the start of a pool's member, and at the start of each of its two rings of texts.

The text format of pools as Linux guests know it: a label in one of the first four sectors, which names the member and
where its extents and rings are; and rings, each a header with the place of the newest text, and texts behind it.
Numbers are little-endian.
"""

from __future__ import annotations

import zlib

from narvet.ground.records import Record, raw, u32, u64

LABEL_MAGIC, LABEL_TYPE = b"LABELONE", b"LVM2 001"
RING_MAGIC = b" LVM2 x[5A%r0N*>"
LABEL_SECTOR = 512
"""Bytes of a sector as labels count them, whatever the disk's sectors are."""
LABEL_PLACES = range(0, 4 * LABEL_SECTOR, LABEL_SECTOR)
RING_HEADER = 512
"""Bytes of a ring's header; the first text may start behind them."""
IN_USE = 1
"""Flag of a member whose label is that of one that a pool has."""
IGNORED = 1
"""Flag of a ring's text that is not to be looked at."""
_START = 0xF597A6CF
_ALL = 0xFFFFFFFF


def checksum(data: bytes, start: int = _START) -> int:
    """Return the checksum of labels, headers and texts: a CRC-32 from a start of its own, not inverted at the end."""
    return zlib.crc32(data, start ^ _ALL) ^ _ALL


class Label(Record, title="label of a pool's member", size=32):
    """What tells that a partition is a member; `crc_xl` covers the sector from `offset_xl` on."""

    id: bytes = raw(0, 8, "", "LABELONE")
    sector_xl: int = u64(8, "sectors", "where this label is")
    crc_xl: int = u32(16, "", "checksum of the rest of the sector")
    offset_xl: int = u32(20, "bytes", "where what it says starts")
    type: bytes = raw(24, 8, "", "LVM2 001")


class MemberHeader(Record, title="header of a pool's member", size=40):
    """Which member it is; runs of extents and of rings follow, each list ended by an empty run."""

    pv_uuid: bytes = raw(0, 32, "", "id, without hyphens")
    device_size_xl: int = u64(32, "bytes", "of the partition when it was written")


class Run(Record, title="run of a pool's member", size=16):
    """A run of a member; extents that reach to its end have no size."""

    offset: int = u64(0, "bytes", "from the start of the member")
    length: int = u64(8, "bytes", "")


class Extension(Record, title="extension of a member's header", size=8):
    """What follows the lists of runs, with a list of its own behind it."""

    version: int = u32(0, "", "2")
    flags: int = u32(4, "", "1: a pool has it")


class RingHeader(Record, title="header of a ring of texts", size=40):
    """Where a ring lies; places of texts follow, the newest one first, ended by an empty one."""

    checksum_xl: int = u32(0, "", "checksum of the rest of the 512 bytes")
    magic: bytes = raw(4, 16, "", "what tells it")
    version: int = u32(20, "", "1")
    start: int = u64(24, "bytes", "of the ring, from the start of the member")
    length: int = u64(32, "bytes", "of the ring with this header")


class TextPlace(Record, title="place of a text", size=24):
    """Where a text lies in its ring; it goes on behind the header where the ring ends."""

    offset: int = u64(0, "bytes", "from the start of the ring")
    length: int = u64(8, "bytes", "with the zero at its end")
    checksum: int = u32(16, "", "of the text")
    flags: int = u32(20, "", "1: not to be looked at")
