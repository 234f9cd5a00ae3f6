"""Why a command was not done: status codes (SAM-5, 5.3) and sense data (SPC-4, 4.5)."""

from __future__ import annotations

import struct
from enum import IntEnum

from narvet.ground.values import Frozen


class Status(IntEnum):
    """How a command ended."""

    GOOD = 0x00
    CHECK_CONDITION = 0x02
    RESERVATION_CONFLICT = 0x18
    TASK_SET_FULL = 0x28


class Sense(Frozen):
    """A sense key with its additional code and qualifier; `information` is a logical block, or a byte's offset."""

    key: int
    code: int
    qualifier: int = 0
    information: int | None = None

    def packed(self) -> bytes:
        """Return the sense data in the fixed format (SPC-4, 4.5.3)."""
        known = self.information is not None and self.information < 1 << 32
        about = (self.information or 0) if known else 0
        return struct.pack(">BBBIB4xBB4x", 0xF0 if known else 0x70, 0, self.key, about, 10, self.code, self.qualifier)


NOTHING = Sense(0x0, 0x00)
READ_FAULT = Sense(0x3, 0x11)
WRITE_FAULT = Sense(0x3, 0x0C)
LIST_LENGTH = Sense(0x5, 0x1A)
UNKNOWN_COMMAND = Sense(0x5, 0x20)
OUT_OF_RANGE = Sense(0x5, 0x21)
INVALID_FIELD = Sense(0x5, 0x24)
NO_SUCH_UNIT = Sense(0x5, 0x25)
INVALID_PARAMETER = Sense(0x5, 0x26)
NOTHING_SAVED = Sense(0x5, 0x39)
WAS_RESET = Sense(0x6, 0x29, 0x03)
WRITE_PROTECTED = Sense(0x7, 0x27)
NO_ROOM = Sense(0x7, 0x27, 0x07)
BAD_CHECKSUM = Sense(0xB, 0x47, 0x05)
TOO_LITTLE_DATA = Sense(0xB, 0x4B)
DIFFERS = Sense(0xE, 0x1D)


class CheckError(Exception):
    """A command that is not done, and why."""

    def __init__(self, sense: Sense) -> None:
        super().__init__(f"{sense.key:x}/{sense.code:02x}/{sense.qualifier:02x}")
        self.sense = sense


class ConflictError(Exception):
    """A command that is not done as somebody else has reserved the unit."""
