"""The messages (RFC 7143, section 11): 48 bytes of header, further headers, data, and their checksums if agreed on."""

from __future__ import annotations

import struct
from enum import IntEnum
from typing import NamedTuple

import crc32c

from narvet.ground.values import Frozen
from narvet.lending.wire import RefusedClientError, Wire

PORT = 3260  # as IANA has it
HEADER = 48
NO_TAG = 0xFFFFFFFF
MOST_TAKEN = 256 << 10
"""Bytes of data in one message that are taken (MaxRecvDataSegmentLength)."""

FINAL, CONTINUES = 0x80, 0x40


class Op(IntEnum):
    """The kinds of messages: those from initiators, then the answers."""

    NOP_OUT = 0x00
    COMMAND = 0x01
    TASK = 0x02
    LOGIN = 0x03
    TEXT = 0x04
    DATA_OUT = 0x05
    LOGOUT = 0x06
    NOP_IN = 0x20
    RESPONSE = 0x21
    TASK_RESPONSE = 0x22
    LOGIN_RESPONSE = 0x23
    TEXT_RESPONSE = 0x24
    DATA_IN = 0x25
    LOGOUT_RESPONSE = 0x26
    R2T = 0x31
    REJECT = 0x3F


class Reason(IntEnum):
    """Why a message is rejected (section 11.17.1)."""

    DATA_DIGEST = 0x02
    PROTOCOL = 0x04
    NOT_SUPPORTED = 0x05
    INVALID_FIELD = 0x09


class Pdu(NamedTuple):
    """A message as it came: what it is, its second byte, and the initiator's tag of its task; then all of it."""

    op: int
    is_immediate: bool
    flags: int
    tag: int
    header: bytes
    data: bytes = b""

    @classmethod
    def of(cls, header: bytes, data: bytes = b"") -> Pdu:
        """Take a header apart."""
        first, flags, tag = _BEGIN.unpack_from(header)
        return cls(first & 0x3F, first & 0x40 != 0, flags, tag, header, data)

    @property
    def lun(self) -> int:
        """The unit's number, -1 for one of another form than disks here have (SAM-5, 4.7)."""
        first, rest = _LUN.unpack_from(self.header, 8)
        if rest != _NO_FURTHER or first >> 14 > 1:
            return -1
        return int(first & 0x3FFF if first >> 14 else first if first < 256 else -1)

    def number(self, at: int, length: int = 4) -> int:
        """Return a number of the header."""
        return int.from_bytes(self.header[at : at + length], "big")


_WORD = struct.Struct(">I")
_BEGIN = struct.Struct(">BB14xI")
_LUN = struct.Struct(">H6s")
_NO_FURTHER = bytes(6)
_LENGTHS = struct.Struct(">4xI")  # of further headers, in words, and of data, in bytes


class Digests(Frozen):
    """Which checksums go with each message (CRC32C: section 13.1)."""

    header: bool = False
    data: bool = False


class DataDigestError(Exception):
    """Data that are not what was sent; `pdu` has their header."""

    def __init__(self, pdu: Pdu) -> None:
        super().__init__("data came damaged")
        self.pdu = pdu


def take(wire: Wire, digests: Digests) -> Pdu:
    """Return the next message.

    Raises:
        RefusedClientError: it claims more data than was agreed on, or its header is damaged.
        DataDigestError: its data are damaged.
        WireClosedError: the initiator has gone.
    """
    header = wire.take(HEADER)
    (lengths,) = _LENGTHS.unpack_from(header)
    more, length = lengths >> 24 << 2, lengths & 0xFFFFFF
    further = wire.take(more) if more else b""
    if digests.header and wire.take(4) != _digest(header + further):
        raise RefusedClientError("the header of a message came damaged")
    if length > MOST_TAKEN:
        raise RefusedClientError(f"a message claims {length} bytes of data, at most {MOST_TAKEN} were agreed on")
    if not length:
        return Pdu.of(header)
    padded = bytearray(length + -length % 4)
    wire.take_into(memoryview(padded))
    if digests.data and wire.take(4) != _digest(padded):
        raise DataDigestError(Pdu.of(header))
    return Pdu.of(header, bytes(memoryview(padded)[:length]))


def packed(header: bytes, data: bytes | memoryview, digests: Digests) -> list[bytes | memoryview]:
    """Return the parts of a message, whose header gets the length of its data."""
    length = len(data)
    head = header
    if length:
        head = header[:4] + _WORD.pack(length) + header[8:]
    if not (digests.header or digests.data or length & 3):
        return [head, data]
    parts: list[bytes | memoryview] = [head]
    if digests.header:
        parts.append(_digest(head))
    if length:
        pad = bytes(-length % 4)
        parts += [data, pad] if pad else [data]
        if digests.data:
            parts.append(struct.pack("<I", crc32c.crc32c(pad, crc32c.crc32c(data))))
    return parts


def _digest(data: bytes | bytearray | memoryview) -> bytes:
    return struct.pack("<I", crc32c.crc32c(data))
