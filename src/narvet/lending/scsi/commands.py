"""The commands of a disk (SPC-4, chapter 6; SBC-3, chapter 5): what their bytes ask for, checked against the unit."""

from __future__ import annotations

import struct
from collections.abc import Callable, Collection
from typing import NamedTuple

from narvet.ground.units import MIB
from narvet.lending.scsi import pages
from narvet.lending.scsi.orders import Compare, Order, Read, Take, Tell, Work, Write
from narvet.lending.scsi.sense import (
    INVALID_FIELD,
    INVALID_PARAMETER,
    LIST_LENGTH,
    NO_SUCH_UNIT,
    NOTHING,
    OUT_OF_RANGE,
    UNKNOWN_COMMAND,
    WRITE_PROTECTED,
    CheckError,
    ConflictError,
)
from narvet.lending.scsi.unit import Nexus, Unit

_INQUIRY, _REQUEST_SENSE, _REPORT_LUNS = 0x12, 0x03, 0xA0
_PIECE = MIB


class _Asked(NamedTuple):
    """A command's bytes, the unit it goes to, and the session it comes from."""

    unit: Unit
    cdb: bytes
    nexus: Nexus

    def number(self, at: int, length: int) -> int:
        return int.from_bytes(self.cdb[at : at + length], "big")

    def range(self, first: int, count: int, most: int = pages.MOST_MOVED) -> tuple[int, int]:
        """Return the bytes that blocks take.

        Raises:
            CheckError: they lie behind the disk's end, or are more than one command may ask for.
        """
        size = self.unit.sector_size
        if first + count > self.unit.blocks:
            raise CheckError(OUT_OF_RANGE)
        if count * size > most:
            raise CheckError(INVALID_FIELD)
        return first * size, count * size

    def place(self) -> tuple[int, int]:
        """Return the first block and the count that the command names; where they stand goes by its length."""
        group = self.cdb[0] >> 5
        if group == 0:
            return self.number(1, 3) & 0x1FFFFF, self.cdb[4] or 256
        first, count = _PLACES[group].unpack_from(self.cdb)
        return first, count

    def check_writable(self) -> None:
        if self.unit.disk.read_only:
            raise CheckError(WRITE_PROTECTED)


_WIDTHS = {0: 6, 1: 10, 2: 10, 4: 16, 5: 12}  # bytes of a command, by its group (SPC-4, 4.2.5.1)
_PLACES = {
    1: struct.Struct(">2xIxH"), 2: struct.Struct(">2xIxH"), 4: struct.Struct(">2xQI"), 5: struct.Struct(">2xII"),
}  # fmt: skip


def order_of(unit: Unit, cdb: bytes, nexus: Nexus, numbers: Collection[int]) -> Order:
    """Return what a command asks for.

    Args:
        unit: the unit it goes to.
        cdb: its bytes, 16 of them.
        nexus: the session it comes from.
        numbers: of the units that the session reaches.

    Raises:
        CheckError: it is not known, or asks for what cannot be done.
        ConflictError: another session has reserved the unit.
    """
    code = cdb[0]
    if code == _REPORT_LUNS:
        return _units(_Asked(unit, cdb, nexus), numbers)
    if code not in (_INQUIRY, _REQUEST_SENSE):
        unit.check_attention(nexus)
    found = _COMMANDS.get(code)
    if found is None:
        raise CheckError(UNKNOWN_COMMAND)
    if unit.is_held_from(nexus) and code not in _DESPITE_RESERVATION:
        raise ConflictError
    width = _WIDTHS[code >> 5]
    if cdb[width - 1] & 0x04:  # NACA (SAM-5, 5.2): there is no such condition here
        raise CheckError(INVALID_FIELD)
    return found(_Asked(unit, cdb, nexus))


def order_without_unit(cdb: bytes, numbers: Collection[int]) -> Order:
    """Return what a command asks for that goes to a number at which there is no unit (SPC-4, 6.6.1).

    Raises:
        CheckError: it needs a unit.
    """
    if cdb[0] == _INQUIRY and not cdb[1] & 1:
        return Tell(pages.inquiry_of_none()[: int.from_bytes(cdb[3:5], "big")])
    if cdb[0] == _REQUEST_SENSE:
        return Tell(NO_SUCH_UNIT.packed()[: cdb[4]])
    if cdb[0] == _REPORT_LUNS:
        return _numbers(numbers, int.from_bytes(cdb[6:10], "big"), cdb[2])
    raise CheckError(NO_SUCH_UNIT)


# Who and what it is.


def _units(asked: _Asked, numbers: Collection[int]) -> Order:
    return _numbers(numbers, asked.number(6, 4), asked.cdb[2])


def _numbers(numbers: Collection[int], room: int, kind: int) -> Order:
    """Return the units' numbers (REPORT LUNS: SPC-4, 6.33), each in the form of SAM-5, 4.7.7."""
    if kind > 2:
        raise CheckError(INVALID_FIELD)
    own = () if kind == 1 else numbers  # 1: only well known ones, of which there are none
    rows = b"".join(struct.pack(">H6x", number if number < 256 else 0x4000 | number) for number in own)
    return Tell((struct.pack(">I4x", len(rows)) + rows)[:room])


def _inquiry(asked: _Asked) -> Order:
    room, page = asked.number(3, 2), asked.cdb[2]
    if asked.cdb[1] & 1:
        return Tell(pages.product_data(asked.unit, page)[:room])
    if page:
        raise CheckError(INVALID_FIELD)
    return Tell(pages.inquiry()[:room])


def _request_sense(asked: _Asked) -> Order:
    if asked.cdb[1] & 1:  # sense data with descriptors
        raise CheckError(INVALID_FIELD)
    return Tell((asked.unit.attention(asked.nexus) or NOTHING).packed()[: asked.cdb[4]])


def _mode_sense(asked: _Asked) -> Order:
    is_long = asked.cdb[0] == 0x5A
    page, control, subpage = asked.cdb[2] & 0x3F, asked.cdb[2] >> 6, asked.cdb[3]
    descriptor = not asked.cdb[1] & 0x08
    data = pages.mode_pages(asked.unit, page, subpage, control, descriptor=descriptor, is_long=is_long)
    return Tell(data[: asked.number(7, 2) if is_long else asked.cdb[4]])


def _capacity_of_old(asked: _Asked) -> Order:
    return Tell(pages.capacity_of_old(asked.unit))


def _service_in(asked: _Asked) -> Order:
    """Do what the group of commands does whose second byte says more (SERVICE ACTION IN (16))."""
    action, room = asked.cdb[1] & 0x1F, asked.number(10, 4)
    if action == 0x10:
        return Tell(pages.capacity(asked.unit)[:room])
    if action == 0x12:
        first = asked.number(2, 8)
        if first >= asked.unit.blocks:
            raise CheckError(OUT_OF_RANGE)
        return Tell(pages.stored_runs(asked.unit, first, room)[:room])
    raise CheckError(INVALID_FIELD)


def _nothing(asked: _Asked) -> Order:
    del asked
    return Tell()


# Reservations (SPC-2, 7.21 and 7.22): those of a whole unit.


def _reserve(asked: _Asked) -> Order:
    if asked.cdb[1] & 0x13:  # for a third one, or of extents
        raise CheckError(INVALID_FIELD)
    if not asked.unit.reserve(asked.nexus):
        raise ConflictError
    return Tell()


def _release(asked: _Asked) -> Order:
    if asked.cdb[1] & 0x13:
        raise CheckError(INVALID_FIELD)
    asked.unit.release(asked.nexus)
    return Tell()


# Blocks.


def _protected(asked: _Asked) -> bool:
    """Return whether a command asks for protection information, which no disk here has."""
    return bool(asked.cdb[1] & 0xE0)


def _read(asked: _Asked) -> Order:
    if asked.cdb[0] != 0x08 and _protected(asked):
        raise CheckError(INVALID_FIELD)
    return Read(*asked.range(*asked.place()))


def _write(asked: _Asked) -> Order:
    short = asked.cdb[0] == 0x0A
    if not short and _protected(asked):
        raise CheckError(INVALID_FIELD)
    asked.check_writable()
    return Write(*asked.range(*asked.place()), through=not short and bool(asked.cdb[1] & 0x08))


def _write_and_verify(asked: _Asked) -> Order:
    if _protected(asked):
        raise CheckError(INVALID_FIELD)
    asked.check_writable()
    return Write(*asked.range(*asked.place()), through=True)


def _verify(asked: _Asked) -> Order:
    """Read blocks, or hold them against what is sent (SBC-3, 5.29)."""
    kind = asked.cdb[1] >> 1 & 3
    if _protected(asked) or kind > 1:
        raise CheckError(INVALID_FIELD)
    offset, length = asked.range(*asked.place(), most=pages.MOST_MOVED if kind else pages.MOST_SAME)
    if kind:
        return Compare(offset, length)
    disk = asked.unit.disk
    return Work(
        lambda: [disk.read(at, min(_PIECE, offset + length - at)) for at in range(offset, offset + length, _PIECE)]
    )


def _flush(asked: _Asked) -> Order:
    first, count = asked.place()
    if first + count > asked.unit.blocks:
        raise CheckError(OUT_OF_RANGE)
    return Work(asked.unit.disk.flush)


def _start_stop(asked: _Asked) -> Order:
    return Work(asked.unit.disk.flush)


def _write_same(asked: _Asked) -> Order:
    """Fill blocks with one that is sent, or with zeros, or give them up (SBC-3, 5.41 and 5.42)."""
    first, count = asked.place()
    gives_up, is_blank = bool(asked.cdb[1] & 0x08), asked.cdb[0] == 0x93 and bool(asked.cdb[1] & 0x01)
    if _protected(asked) or asked.cdb[1] & 0x10 or not count:
        raise CheckError(INVALID_FIELD)
    asked.check_writable()
    offset, length = asked.range(first, count, most=pages.MOST_SAME)
    disk, size = asked.unit.disk, asked.unit.disk.sector_size

    def fill(block: bytes) -> None:
        if not any(block):
            disk.zero(offset, length, keep_stored=not gives_up)
            return
        whole = block * (_PIECE // size)
        for at in range(0, length, _PIECE):
            disk.write(offset + at, memoryview(whole)[: min(_PIECE, length - at)])

    return Work(lambda: fill(b"")) if is_blank else Take(size, fill)


def _unmap(asked: _Asked) -> Order:
    """Give up ranges of blocks (SBC-3, 5.28): all of them, or none where one is not on the disk."""
    if asked.cdb[1] & 1:  # anchored ones keep their place, which no image has
        raise CheckError(INVALID_FIELD)
    asked.check_writable()
    length, disk = asked.number(7, 2), asked.unit.disk

    def give_up(data: bytes) -> None:
        if len(data) < 8:
            raise CheckError(LIST_LENGTH)
        told = min(int.from_bytes(data[2:4], "big"), len(data) - 8) // 16
        if told > pages.MOST_RANGES:
            raise CheckError(INVALID_PARAMETER)
        rows = struct.iter_unpack(">QI4x", data[8 : 8 + 16 * told])
        ranges = [asked.range(first, count, most=pages.MOST_GIVEN_UP) for first, count in rows]
        for offset, size in ranges:
            if size:
                disk.zero(offset, size)

    return Take(length, give_up) if length else Tell()


_COMMANDS: dict[int, Callable[[_Asked], Order]] = {
    0x00: _nothing,  # TEST UNIT READY
    _REQUEST_SENSE: _request_sense,
    0x08: _read,
    0x0A: _write,
    _INQUIRY: _inquiry,
    0x16: _reserve,
    0x17: _release,
    0x1A: _mode_sense,
    0x1B: _start_stop,
    0x1E: _nothing,  # PREVENT ALLOW MEDIUM REMOVAL
    0x25: _capacity_of_old,
    0x28: _read,
    0x2A: _write,
    0x2E: _write_and_verify,
    0x2F: _verify,
    0x35: _flush,
    0x41: _write_same,
    0x42: _unmap,
    0x56: _reserve,
    0x57: _release,
    0x5A: _mode_sense,
    0x88: _read,
    0x8A: _write,
    0x8E: _write_and_verify,
    0x8F: _verify,
    0x91: _flush,
    0x93: _write_same,
    0x9E: _service_in,
    0xA8: _read,
    0xAA: _write,
    0xAE: _write_and_verify,
    0xAF: _verify,
}
_DESPITE_RESERVATION = {_REQUEST_SENSE, _INQUIRY, 0x17, 0x1E, 0x25, 0x57}
"""What is done for sessions that have not reserved the unit (SPC-2, 5.5.1; SBC-2, table 5)."""
