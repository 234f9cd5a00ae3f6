"""What a unit tells of itself: who it is, product data, mode pages, its capacity, and which runs are stored."""

from __future__ import annotations

import struct
from collections.abc import Callable

from narvet.ground.units import MIB
from narvet.lending.scsi.sense import INVALID_FIELD, NOTHING_SAVED, CheckError
from narvet.lending.scsi.unit import Unit

VENDOR, PRODUCT, REVISION = b"NARVET  ", b"LENT DISK       ", b"1   "
_PHYSICAL = 4096  # bytes of a physical block that a disk with smaller sectors tells of

MOST_MOVED = 16 * MIB
"""Bytes of a disk that one command reads or writes."""
MOST_SAME = 256 * MIB
"""Bytes that one command fills with the same block."""
MOST_GIVEN_UP = 4096 * MIB
"""Bytes of each range that one command gives up."""
MOST_RANGES = 256
"""Ranges that one command gives up."""

# SAM-5, iSCSI, SPC-4 and SBC-3, each without a version claimed (SPC-4, table 145).
_STANDARDS = struct.pack(">4H", 0x00A0, 0x0960, 0x0460, 0x04C0)


def inquiry() -> bytes:
    """Return the standard INQUIRY data of a disk (SPC-4, 6.6.2): responses of format 2, commands are queued."""
    head = bytes([0, 0, 0x06, 0x12, 91, 0, 0, 0x02]) + VENDOR + PRODUCT + REVISION
    return head.ljust(58, b"\0") + _STANDARDS.ljust(38, b"\0")


def inquiry_of_none() -> bytes:
    """Return the INQUIRY data that is told where there is no unit (SPC-4, 6.6.2, qualifier 011b)."""
    return b"\x7f" + inquiry()[1:]


def product_data(unit: Unit, page: int) -> bytes:
    """Return a page of vital product data (SPC-4, 7.8; SBC-3, 6.6).

    Raises:
        CheckError: there is no such page.
    """
    if page == 0:
        content = bytes([0, *sorted(_PRODUCT_DATA)])
    elif page in _PRODUCT_DATA:
        content = _PRODUCT_DATA[page](unit)
    else:
        raise CheckError(INVALID_FIELD)
    return struct.pack(">BBH", 0, page, len(content)) + content


def _identification(unit: Unit) -> bytes:
    """Return who a unit is, by a name address and by vendor and serial number (SPC-4, 7.8.6)."""
    text = VENDOR + unit.serial.encode()
    by_number = struct.pack(">BBBB", 0x01, 0x03, 0, len(unit.naa)) + unit.naa
    return by_number + struct.pack(">BBBB", 0x02, 0x01, 0, len(text)) + text


def _limits(unit: Unit) -> bytes:
    """Return how much one command may ask for, in blocks (SBC-3, 6.6.4)."""
    size = unit.disk.sector_size
    granularity = max(_PHYSICAL // size, 1)
    ranges = 0 if unit.disk.read_only else MOST_RANGES
    return struct.pack(
        ">BBHIIIIIIIQ20x",
        0x01, 0, granularity, MOST_MOVED // size, MIB // size, 0,
        MOST_GIVEN_UP // size if ranges else 0, ranges, granularity, 0x80000000, 0 if not ranges else MOST_SAME // size,
    )  # fmt: skip


def _characteristics(unit: Unit) -> bytes:
    """Return that nothing turns (SBC-3, 6.6.2)."""
    del unit
    return struct.pack(">H58x", 1)


def _provisioning(unit: Unit) -> bytes:
    """Return that the disk is thin: blocks can be given up, and read as zeros then (SBC-3, 6.6.7)."""
    return bytes([0, 0x04 if unit.disk.read_only else 0xE4, 0x02, 0])


_PRODUCT_DATA: dict[int, Callable[[Unit], bytes]] = {
    0x80: lambda unit: unit.serial.encode(),
    0x83: _identification,
    0xB0: _limits,
    0xB1: _characteristics,
    0xB2: _provisioning,
}


def capacity_of_old(unit: Unit) -> bytes:
    """Return the data of READ CAPACITY (10): the last block, all ones where that is too large (SBC-3, 5.15)."""
    return struct.pack(">II", min(unit.blocks - 1, 0xFFFFFFFF), unit.disk.sector_size)


def capacity(unit: Unit) -> bytes:
    """Return the data of READ CAPACITY (16): with the physical block, and that the disk is thin (SBC-3, 5.16)."""
    exponent = max((_PHYSICAL // unit.disk.sector_size).bit_length() - 1, 0)
    return struct.pack(">QIBBH16x", unit.blocks - 1, unit.disk.sector_size, 0, exponent, 0xC000)


def mode_pages(unit: Unit, page: int, subpage: int, control: int, *, descriptor: bool, is_long: bool) -> bytes:
    """Return mode parameters (SPC-4, 7.5): its header, a block descriptor if wanted, and pages.

    Args:
        unit: the unit.
        page: the page, 0x3F for all.
        subpage: the subpage, 0xFF for all.
        control: 0 current, 1 what can be changed, 2 as set out, 3 saved values.
        descriptor: whether a block descriptor is wanted.
        is_long: whether MODE SENSE (10) asks.

    Raises:
        CheckError: there is no such page, or nothing is ever saved.
    """
    if control == 3:
        raise CheckError(NOTHING_SAVED)
    if subpage not in (0, 0xFF) or page not in (*_MODES, 0x3F):
        raise CheckError(INVALID_FIELD)
    content = b"".join(
        struct.pack("BB", code, len(body)) + (bytes(len(body)) if control == 1 else body)
        for code, body in _MODES.items()
        if page in (code, 0x3F)
    )
    about = 0x10 | (0x80 if unit.disk.read_only else 0)
    block = struct.pack(">II", min(unit.blocks, 0xFFFFFFFF), unit.disk.sector_size) if descriptor else b""
    if is_long:
        return struct.pack(">HBBBBH", 6 + len(block) + len(content), 0, about, 0, 0, len(block)) + block + content
    return struct.pack("BBBB", 3 + len(block) + len(content), 0, about, len(block)) + block + content


_MODES = {
    0x08: b"\x04" + bytes(17),  # caching: writes are cached until they are flushed (SBC-3, 6.5.5)
    0x0A: bytes(10),  # control: commands are done in order, sense data are of the fixed format (SPC-4, 7.5.8)
}


def stored_runs(unit: Unit, first: int, room: int) -> bytes:
    """Return which blocks are stored, from `first` on, in at most `room` bytes (GET LBA STATUS: SBC-3, 5.6)."""
    size = unit.disk.sector_size
    reach = min(unit.disk.size - first * size, MOST_GIVEN_UP)
    runs = list[tuple[int, bool]]()  # where each ends, in blocks from the first, and whether it is stored
    at = 0
    for length, holds in unit.disk.runs(first * size, reach):
        at += length
        # A block that is stored in part is stored.
        end = -(-at // size) if holds else at // size
        begin = runs[-1][0] if runs else 0
        if end <= begin:
            continue
        if runs and runs[-1][1] == holds:
            runs[-1] = (end, holds)
        else:
            runs.append((end, holds))
    most = max((room - 8) // 16, 1)
    rows, begin = b"", 0
    for end, holds in runs[:most]:
        rows += struct.pack(">QIB3x", first + begin, end - begin, 0 if holds else 1)
        begin = end
    return struct.pack(">I4x", 4 + len(rows)) + rows
