"""A session once it is logged in (RFC 7143, sections 4.2 and 11): commands in order, their data, and their ends.

A command is done before the next one begins; what comes while a command waits for its data waits in turn, no more than
the window lets come. Memory is bounded whatever is asked for: bytes go through in pieces.
"""

from __future__ import annotations

import errno
import struct
from collections import deque
from collections.abc import Callable, Mapping

from narvet.ground.errors import NarvetError
from narvet.lending.contract import Client
from narvet.lending.iscsi.login import PORTAL_GROUP, LoggedIn
from narvet.lending.iscsi.pdu import CONTINUES, FINAL, NO_TAG, DataDigestError, Op, Pdu, Reason, packed, take
from narvet.lending.iscsi.text import MOST_ALONG, MOST_TEXT, parsed, written
from narvet.lending.scsi.commands import order_of, order_without_unit
from narvet.lending.scsi.orders import Compare, Order, Read, Take, Tell, Work, Write
from narvet.lending.scsi.sense import (
    BAD_CHECKSUM,
    DIFFERS,
    NO_ROOM,
    READ_FAULT,
    TOO_LITTLE_DATA,
    WRITE_FAULT,
    CheckError,
    ConflictError,
    Sense,
    Status,
)
from narvet.lending.scsi.unit import Unit
from narvet.lending.wire import RefusedClientError, Wire

_WINDOW = 32  # commands that may be under way
_MOST_WAITING = 2 * _WINDOW  # messages; those out of order count too
_PIECE = 1 << 20
_WRAP = 0xFFFFFFFF
_READS, _WRITES, _OVER, _UNDER = 0x40, 0x20, 0x04, 0x02
_NUMBERS = struct.Struct(">III")
_DATA_HEAD = struct.Struct(">BBxB12xII")
# Plain numbers, as they are held against each message.
_NOP, _COMMAND, _TASK, _TEXT, _DATA, _LOGOUT, _DATA_IN = (
    int(one) for one in (Op.NOP_OUT, Op.COMMAND, Op.TASK, Op.TEXT, Op.DATA_OUT, Op.LOGOUT, Op.DATA_IN)
)
_RESPONSE = int(Op.RESPONSE)
_ONLY_READS, _ONLY_WRITES = FINAL | _READS, FINAL | _WRITES
_PLAIN_HEAD = struct.Struct(">BBxxI8xIIIII12x")
_TAG = (0, NO_TAG)  # the second one of an answer, for a write and for a read
_SHORT, _LONG = struct.Struct(">8x8s4xI9xBIxHB6x"), struct.Struct(">8x8s4xI9xBQIxB")
_PLAIN = {(_ONLY_READS, 0x28): _SHORT, (_ONLY_READS, 0x88): _LONG, (_ONLY_WRITES, 0x2A): _SHORT,
          (_ONLY_WRITES, 0x8A): _LONG}  # fmt: skip
"""Plain commands, by their flags and first byte: unit, bytes expected, bits, first block, count, and control."""
_NUMBERED = frozenset((_NOP, _COMMAND, _TASK, _TEXT, _LOGOUT))

# What a task management function is answered with (section 11.6.1).
_DONE, _NO_TASK, _NO_UNIT, _NOT_SUPPORTED = 0, 1, 2, 5
_ABORT_TASK, _ABORT_SET, _CLEAR_ACA, _CLEAR_SET, _RESET_UNIT, _RESET_WARM, _RESET_COLD = range(1, 8)


class _AbortedError(Exception):
    """The command under way is not wanted any more."""


class Session:
    """One initiator's session; `units` are those it reaches, by their numbers."""

    def __init__(
        self, wire: Wire, units: Mapping[int, Unit], logged_in: LoggedIn, client: Client, target: str, address: str
    ) -> None:
        self._wire = wire
        self._units = units
        self._terms = logged_in.terms
        self._most_at_once = min(self._terms.most_sent, self._terms.longest_burst, _PIECE)
        self._is_discovery = logged_in.is_discovery
        self._client = client
        self._target = target
        self._address = address
        self._command_number = logged_in.command_number
        self._status_number = logged_in.status_number
        self._waiting = deque[Pdu]()
        self._text = b""
        self._transfer_tag = 0
        self._parts = self._moved = 0  # of the command under way: messages, and bytes
        self.has_logged_out = False
        self._most_along = self._terms.first_burst if self._terms.immediate else 0
        self._is_plain = not (self._is_discovery or self._terms.digests.header or self._terms.digests.data)
        self._by_field = {number.to_bytes(2, "big") + bytes(6): unit for number, unit in units.items() if number < 256}

    def serve(self, is_ending: Callable[[], bool]) -> None:
        """Answer an initiator until it logs out, or `is_ending`.

        Raises:
            RefusedClientError: it does not keep to the protocol.
            WireClosedError: it has gone without a word.
        """
        for unit in self._units.values():
            unit.meet(self)
        try:
            while not is_ending() and not self.has_logged_out:
                self._act(self._waiting.popleft() if self._waiting else self._next())
        finally:
            for unit in self._units.values():
                unit.part(self)

    # Messages.

    def _next(self) -> Pdu:
        """Return the next message whose turn it is by its number; what lies outside of the window is passed over."""
        while True:
            try:
                pdu = take(self._wire, self._terms.digests)
            except DataDigestError as error:
                self._reject(error.pdu, Reason.DATA_DIGEST)
                if error.pdu.op == _COMMAND:
                    self._count(error.pdu)
                    self._respond(error.pdu, BAD_CHECKSUM)
                raise RefusedClientError("the data of a message came damaged") from None
            if self._count(pdu):
                return pdu

    def _count(self, pdu: Pdu) -> bool:
        """Count a command by its number; return whether it is to be acted upon."""
        if pdu.op not in _NUMBERED or pdu.is_immediate:
            return True
        ahead = (pdu.number(24) - self._command_number) & _WRAP
        if ahead == 0:
            self._command_number = (self._command_number + 1) & _WRAP
            return True
        if ahead < _WINDOW:
            raise RefusedClientError("a command is missing before the one that came")
        return False

    def _give(self, header: bytes, data: bytes | memoryview = b"") -> None:
        self._wire.give(*packed(header, data, self._terms.digests))

    def _numbers(self, *, counts: bool = True) -> bytes:
        """Return the numbers that each answer has: its own, and which commands may come."""
        number = self._status_number
        if counts:
            self._status_number = (number + 1) & _WRAP
        room = _WINDOW - 1
        if self._waiting:
            room -= sum(1 for one in self._waiting if not one.is_immediate)
        return _NUMBERS.pack(number, self._command_number, (self._command_number + room) & _WRAP)

    def _reject(self, pdu: Pdu, reason: Reason) -> None:
        header = struct.pack(">BBB13xII", Op.REJECT, FINAL, reason, NO_TAG, 0) + self._numbers() + bytes(12)
        self._give(header, pdu.header)

    def _act(self, pdu: Pdu) -> None:
        if self._is_done_at_once(pdu):
            return
        if pdu.op == _COMMAND and not self._is_discovery:
            self._command(pdu)
        elif pdu.op == _NOP:
            self._echo(pdu)
        elif pdu.op == _TASK and not self._is_discovery:
            self._manage(pdu, None)
        elif pdu.op == _TEXT:
            self._tell_targets(pdu)
        elif pdu.op == _LOGOUT:
            self._log_out(pdu)
        elif pdu.op == _DATA:
            pass  # of a command that has ended meanwhile
        else:
            self._reject(pdu, Reason.PROTOCOL if pdu.op in (_COMMAND, _TASK, Op.LOGIN) else Reason.NOT_SUPPORTED)

    def _echo(self, pdu: Pdu) -> None:
        if pdu.tag == NO_TAG:
            return
        header = struct.pack(">BB6x8sII", Op.NOP_IN, FINAL, pdu.header[8:16], pdu.tag, NO_TAG)
        self._give(header + self._numbers() + bytes(12), pdu.data[: self._terms.most_sent])

    def _tell_targets(self, pdu: Pdu) -> None:
        """Answer text, which may ask where which targets are (section 4.3 and appendix C)."""
        self._text += pdu.data
        if len(self._text) > MOST_TEXT:
            raise RefusedClientError("it sends text without an end")
        pairs = list[tuple[str, str]]()
        if not pdu.flags & CONTINUES:
            asked, self._text = parsed(self._text), b""
            wanted = asked.pop("SendTargets", None)
            pairs += [(key, "NotUnderstood") for key in asked]
            if wanted in ("All", self._target) or (wanted == "" and not self._is_discovery):
                pairs += [("TargetName", self._target), ("TargetAddress", f"{self._address},{PORTAL_GROUP}")]
        goes_on = bool(pdu.flags & CONTINUES)
        header = struct.pack(
            ">BB6x8sII", Op.TEXT_RESPONSE, 0 if goes_on else FINAL, pdu.header[8:16], pdu.tag, 1 if goes_on else NO_TAG
        )
        self._give(header + self._numbers() + bytes(12), written(pairs)[: self._terms.most_sent])

    def _log_out(self, pdu: Pdu) -> None:
        """Let the initiator go, its data flushed before it is told so; there is nothing to recover (section 11.14)."""
        reason = pdu.flags & 0x7F
        self.has_logged_out = reason <= 1
        if self.has_logged_out:
            for unit in self._units.values():
                unit.disk.flush()
        answer = 0 if self.has_logged_out else 2
        header = struct.pack(">BBB13xI4x", Op.LOGOUT_RESPONSE, FINAL, answer, pdu.tag) + self._numbers()
        self._give(header + bytes(12))

    # Tasks.

    def _manage(self, pdu: Pdu, current: Pdu | None) -> bool:
        """Do a task management function; return whether the command under way is ended by it."""
        function, unit = pdu.flags & 0x7F, self._units.get(pdu.lun)
        ends, answer = False, _DONE
        if function == _ABORT_TASK:
            tag = pdu.number(20)
            ends = current is not None and current.tag == tag
            found = [one for one in self._waiting if one.op == _COMMAND and one.tag == tag]
            self._drop(lambda one: one in found)
            answer = _DONE if ends or found else _NO_TASK
        elif function in (_ABORT_SET, _CLEAR_SET, _RESET_UNIT):
            if unit is None:
                answer = _NO_UNIT
            else:
                ends = current is not None and current.lun == pdu.lun
                self._drop(lambda one: one.lun == pdu.lun)
                if function == _RESET_UNIT:
                    unit.reset()
        elif function in (_RESET_WARM, _RESET_COLD):
            ends = current is not None
            self._drop(lambda one: one.op == _COMMAND)
            for one in self._units.values():
                one.reset()
        else:
            answer = _NOT_SUPPORTED
        header = struct.pack(">BBB13xI4x", Op.TASK_RESPONSE, FINAL, answer, pdu.tag) + self._numbers()
        self._give(header + bytes(12))
        if function == _RESET_COLD:
            raise RefusedClientError("it had everything reset")
        return ends

    def _drop(self, which: Callable[[Pdu], bool]) -> None:
        """Forget commands that wait."""
        self._waiting = deque(one for one in self._waiting if one.op != _COMMAND or not which(one))

    def _command(self, pdu: Pdu) -> None:
        """Do a SCSI command, and say how it ended."""
        self._client.requests += 1
        self._parts = self._moved = 0
        if len(pdu.data) > self._most_along:
            raise RefusedClientError("it sends more data along with a command than was agreed on")
        unit = self._units.get(pdu.lun)
        cdb = pdu.header[32:48]
        try:
            order = order_without_unit(cdb, self._units) if unit is None else order_of(unit, cdb, self, self._units)
            self._do(pdu, unit, order)
        except CheckError as error:
            self._respond(pdu, error.sense)
        except ConflictError:
            self._respond(pdu, None, Status.RESERVATION_CONFLICT)
        except _AbortedError:
            pass
        except (NarvetError, OSError) as error:
            self._client.fault = str(error)
            full = isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT)
            self._respond(pdu, NO_ROOM if full else READ_FAULT if pdu.flags & _READS else WRITE_FAULT)

    def _do(self, pdu: Pdu, unit: Unit | None, order: Order) -> None:
        if isinstance(order, Tell):
            self._send(pdu, len(order.data), lambda at, length: order.data[at : at + length])
        elif isinstance(order, Read) and unit is not None:
            disk = unit.disk
            self._send(pdu, order.length, lambda at, length: disk.read(order.offset + at, length))
            self._client.read += order.length
        elif isinstance(order, Write) and unit is not None:
            disk = unit.disk
            self._receive(pdu, order.length, lambda at, data: disk.write(order.offset + at, data))
            if order.through:
                disk.flush()
            self._client.written += order.length
            self._respond(pdu)
        elif isinstance(order, Compare) and unit is not None:
            self._compare(pdu, unit, order)
        elif isinstance(order, Take):
            taken = bytearray(order.length)
            self._receive(pdu, order.length, lambda at, data: taken.__setitem__(slice(at, at + len(data)), data))
            order.done(bytes(taken))
            self._respond(pdu)
        elif isinstance(order, Work):
            order.do()
            self._respond(pdu)

    def _plain_order(self, pdu: Pdu) -> tuple[Unit, int, int, bool] | None:
        """Return unit, offset and bytes of a plain command, and whether it reads; None for what is not one."""
        form = _PLAIN.get((pdu.flags, pdu.header[32]))
        if form is None or pdu.op != _COMMAND or self._waiting or not self._is_plain:
            return None
        field, expected, bits, first, count, control = form.unpack(pdu.header)
        unit = self._by_field.get(field)
        if unit is None or bits or control or not unit.is_free or first + count > unit.blocks:
            return None
        reads, along, length = pdu.flags == _ONLY_READS, len(pdu.data), count * unit.sector_size
        fits = length == expected and 0 < length <= self._most_at_once and along == (0 if reads else length)
        if not fits or (not reads and (unit.disk.read_only or length > self._most_along)):
            return None
        return unit, first * unit.sector_size, length, reads

    def _is_done_at_once(self, pdu: Pdu) -> bool:
        """Do a plain read or write that fits into one message; return False, with nothing done, for what is not one.

        Most commands of a client that works at random places are such ones, and each call of the interpreter counts
        for them.
        """
        order = self._plain_order(pdu)
        if order is None:
            return False
        unit, offset, length, reads = order
        data = b""
        try:
            if reads:
                data = unit.disk.read(offset, length)
                self._client.read += length
            else:
                unit.disk.write(offset, pdu.data)
                self._client.written += length
        except (NarvetError, OSError):  # done once more by the way that can tell of it
            return False
        number, commands = self._status_number, self._command_number
        self._status_number = (number + 1) & _WRAP
        room = (commands + _WINDOW - 1) & _WRAP
        op, flags = (_DATA_IN, FINAL | 1) if reads else (_RESPONSE, FINAL)
        self._wire.give(_PLAIN_HEAD.pack(op, flags, len(data), pdu.tag, _TAG[reads], number, commands, room), data)
        self._client.requests += 1
        return True

    def _compare(self, pdu: Pdu, unit: Unit, order: Compare) -> None:
        differs: list[int] = []

        def hold(at: int, data: bytes | memoryview) -> None:
            there = unit.disk.read(order.offset + at, len(data))
            if not differs and there != data:
                differs.append(
                    at + next(n for n, pair in enumerate(zip(there, data, strict=True)) if pair[0] != pair[1])
                )

        self._receive(pdu, order.length, hold)
        self._respond(pdu, Sense(DIFFERS.key, DIFFERS.code, 0, differs[0]) if differs else None)

    # Data.

    def _send(self, pdu: Pdu, length: int, read: Callable[[int, int], bytes]) -> None:
        """Send what a command reads, its good end with the last part; what was not expected is left out."""
        expected = pdu.number(20) if pdu.flags & _READS else 0
        sent, at, burst = min(length, expected), 0, self._terms.longest_burst
        if not sent:
            self._respond(pdu, short=length)
            return
        end = (
            (FINAL | 1, 0)
            if length == expected
            else (FINAL | 1 | _residual(length, expected)[0], abs(length - expected))
        )
        while at < sent:
            data = read(at, min(_PIECE, sent - at))
            if len(data) == sent <= self._most_at_once:
                self._wire.give(*self._part(pdu, 0, data, *end))
                self._moved = sent
                return
            parts, inner = list[bytes | memoryview](), 0
            view = memoryview(data)
            while inner < len(view):
                place = at + inner
                size = min(self._terms.most_sent, len(view) - inner, burst - place % burst)
                flags = FINAL if (place + size) % burst == 0 else 0
                told = end if place + size == sent else (flags, 0)
                parts += self._part(pdu, place, view[inner : inner + size], *told)
                inner += size
            self._wire.give(*parts)
            at += len(view)
            self._moved = at

    def _part(
        self, pdu: Pdu, place: int, data: bytes | memoryview, flags: int, residual: int
    ) -> list[bytes | memoryview]:
        """Return a message with data for the initiator; the last one of a command says how that ended as well."""
        numbers = self._numbers(counts=bool(flags & 1))
        head = _DATA_HEAD.pack(_DATA_IN, flags, 0, pdu.tag, NO_TAG)
        tail = _NUMBERS.pack(self._parts, place, residual)
        self._parts += 1
        return packed(head + (numbers if flags & 1 else bytes(4) + numbers[4:]) + tail, data, self._terms.digests)

    def _receive(self, pdu: Pdu, length: int, write: Callable[[int, bytes | memoryview], object]) -> None:
        """Take what a command writes: what came with it, and what is asked for then.

        All is taken even if something of it cannot be written, so that the initiator can be told.

        Raises:
            CheckError: the initiator means to send less than the command needs.
            NarvetError: what came cannot be written.
            OSError: likewise.
        """
        expected = pdu.number(20) if pdu.flags & _WRITES else 0
        if expected < length:
            raise CheckError(TOO_LITTLE_DATA)
        fault: Exception | None = None

        def put(at: int, data: bytes | memoryview) -> None:
            nonlocal fault
            if fault is None:
                try:
                    write(at, data)
                except (NarvetError, OSError, CheckError) as error:
                    fault = error

        at = min(len(pdu.data), length)
        if at:
            put(0, memoryview(pdu.data)[:at])
        while at < length:
            size = min(length - at, self._terms.longest_burst)
            self._ask(pdu, at, size)
            self._burst(pdu, at, size, put)
            at += size
        self._moved = length
        if fault is not None:
            raise fault

    def _ask(self, pdu: Pdu, at: int, size: int) -> None:
        """Ask for a part of what a command writes (R2T)."""
        self._transfer_tag = (self._transfer_tag + 1) % NO_TAG
        head = struct.pack(">BB6x8sII", Op.R2T, FINAL, pdu.header[8:16], pdu.tag, self._transfer_tag)
        self._give(head + self._numbers(counts=False) + struct.pack(">III", self._parts, at, size))
        self._parts += 1

    def _burst(self, pdu: Pdu, at: int, size: int, put: Callable[[int, bytes | memoryview], None]) -> None:
        """Take the part that was asked for; other messages wait, or are answered if they are out of order."""
        end = at + size
        while at < end:
            came = self._next()
            if came.op == _DATA:
                if came.tag != pdu.tag:
                    continue  # of a command that has ended
                if came.number(20) != self._transfer_tag or came.number(40) != at or at + len(came.data) > end:
                    raise RefusedClientError("it sends other data than were asked for")
                put(at, came.data)
                at += len(came.data)
                if bool(came.flags & FINAL) != (at == end):
                    raise RefusedClientError("it sends more or less data than were asked for")
            elif came.op == _TASK:
                if self._manage(came, pdu):
                    raise _AbortedError
            elif came.op == _NOP and came.is_immediate:
                self._echo(came)
            elif len(self._waiting) >= _MOST_WAITING or len(came.data) > MOST_ALONG:
                raise RefusedClientError("it sends more commands than it may")
            else:
                self._waiting.append(came)

    def _respond(
        self, pdu: Pdu, sense: Sense | None = None, status: Status = Status.GOOD, short: int | None = None
    ) -> None:
        """Say how a command ended; `short` is the count of bytes it had for the initiator, if not those that moved."""
        expected = pdu.number(20) if pdu.flags & (_READS | _WRITES) else 0
        data = b""
        if sense is not None:
            status, told = Status.CHECK_CONDITION, sense.packed()
            data = struct.pack(">H", len(told)) + told
        flags, residual = _residual(self._moved if short is None else short, expected)
        head = struct.pack(">BBBB12xI4x", Op.RESPONSE, FINAL | flags, 0, status, pdu.tag) + self._numbers()
        self._give(head + struct.pack(">III", self._parts, 0, residual), data)


def _residual(length: int, expected: int) -> tuple[int, int]:
    """Return the flag and the count of bytes that were expected and did not come, or the other way round."""
    if length > expected:
        return _OVER, length - expected
    return (_UNDER, expected - length) if length < expected else (0, 0)
