"""The numbers and the messages of the protocol; all are big-endian. The names are those of its document."""

from __future__ import annotations

import struct
from enum import IntEnum, IntFlag

PORT = 10809  # as IANA has it

NBDMAGIC = 0x4E42444D41474943
IHAVEOPT = 0x49484156454F5054
OPTION_REPLY = 0x0003E889045565A9
REQUEST = 0x25609513
EXTENDED_REQUEST = 0x21E41C71
SIMPLE_REPLY = 0x67446698
STRUCTURED_REPLY = 0x668E33EF
EXTENDED_REPLY = 0x6E8A278C

FIXED_NEWSTYLE, NO_ZEROES = 1, 2

GREETING = struct.Struct(">QQH")
OPTION = struct.Struct(">QII")  # magic, option, length
REPLY_TO_OPTION = struct.Struct(">QIII")  # magic, option, kind, length
EXPORT = struct.Struct(">QH")  # size, flags
INFO_EXPORT = struct.Struct(">HQH")
INFO_BLOCK_SIZE = struct.Struct(">HIII")
SHORT_REQUEST = struct.Struct(">IHHQQI")  # magic, flags, type, cookie, offset, length
LONG_REQUEST = struct.Struct(">IHHQQQ")
SIMPLE = struct.Struct(">IIQ")  # magic, error, cookie
CHUNK = struct.Struct(">IHHQI")  # magic, flags, type, cookie, length
LONG_CHUNK = struct.Struct(">IHHQQQ")  # magic, flags, type, cookie, offset, length
NUMBER = struct.Struct(">I")
RUN = struct.Struct(">II")
LONG_RUN = struct.Struct(">QQ")
HOLE = struct.Struct(">QI")
PLACE = struct.Struct(">Q")
FAULT = struct.Struct(">IH")

LARGEST_OPTION = 1 << 16
"""Bytes of an option that are taken."""
LONGEST_NAME = 4096
LARGEST_PAYLOAD = 32 << 20
"""Bytes of a read or a write."""


class Option(IntEnum):
    """What a client asks for during the handshake."""

    EXPORT_NAME = 1
    ABORT = 2
    LIST = 3
    STARTTLS = 5
    INFO = 6
    GO = 7
    STRUCTURED_REPLY = 8
    LIST_META_CONTEXT = 9
    SET_META_CONTEXT = 10
    EXTENDED_HEADERS = 11


class Answer(IntEnum):
    """How an option is answered."""

    ACK = 1
    SERVER = 2
    INFO = 3
    META_CONTEXT = 4
    ERR_UNSUP = 0x80000001
    ERR_POLICY = 0x80000002
    ERR_INVALID = 0x80000003
    ERR_TLS_REQD = 0x80000005
    ERR_UNKNOWN = 0x80000006
    ERR_SHUTDOWN = 0x80000007
    ERR_TOO_BIG = 0x80000009
    ERR_EXT_HEADER_REQD = 0x8000000A


class Info(IntEnum):
    """What is told of a disk."""

    EXPORT = 0
    NAME = 1
    DESCRIPTION = 2
    BLOCK_SIZE = 3


class Can(IntFlag):
    """What can be done with a disk."""

    HAS_FLAGS = 1
    READ_ONLY = 2
    SEND_FLUSH = 4
    SEND_FUA = 8
    SEND_TRIM = 32
    SEND_WRITE_ZEROES = 64
    SEND_DF = 128
    CAN_MULTI_CONN = 256
    SEND_CACHE = 1024


class Command(IntEnum):
    """What a client asks for in transmission."""

    READ = 0
    WRITE = 1
    DISC = 2
    FLUSH = 3
    TRIM = 4
    CACHE = 5
    WRITE_ZEROES = 6
    BLOCK_STATUS = 7


class Flag(IntFlag):
    """How it is to be done."""

    FUA = 1
    NO_HOLE = 2
    DF = 4
    REQ_ONE = 8
    FAST_ZERO = 16
    PAYLOAD_LEN = 32


class Chunk(IntEnum):
    """What a part of a reply holds."""

    NONE = 0
    OFFSET_DATA = 1
    OFFSET_HOLE = 2
    BLOCK_STATUS = 5
    BLOCK_STATUS_EXT = 6
    ERROR = 0x8001


DONE = 1
"""The flag of the last part of a reply."""


class Fault(IntEnum):
    """Why something is not done."""

    NONE = 0
    EPERM = 1
    EIO = 5
    EINVAL = 22
    ENOSPC = 28
    EOVERFLOW = 75
    ENOTSUP = 95
    ESHUTDOWN = 108


ALLOCATION = "base:allocation"
"""The context that tells which runs are stored."""
ALLOCATION_ID = 1
HOLE_THAT_READS_ZERO = 3
