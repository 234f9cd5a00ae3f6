"""What a client asks for once it has a disk: bytes, and what is stored where (section "Transmission phase").

Requests are answered in order. Memory is bounded whatever is asked for: bytes go through in pieces.
"""

from __future__ import annotations

import errno
from collections.abc import Callable

from narvet.ground.errors import NarvetError
from narvet.lending.contract import Client, Lent
from narvet.lending.nbd import messages as m
from narvet.lending.nbd.handshake import Agreed
from narvet.lending.nbd.messages import Chunk, Command, Fault, Flag
from narvet.lending.wire import RefusedClientError, Wire

_PIECE = 1 << 20
_SMALL = 1 << 16  # bytes of a read for which holes are not looked for
_AT_ONCE = 1 << 30  # bytes that are made zero before others have their turn

# Plain numbers, as they are held against each request.
_FUA, _NO_HOLE, _DF, _REQ_ONE, _PAYLOAD_LEN = (
    int(one) for one in (Flag.FUA, Flag.NO_HOLE, Flag.DF, Flag.REQ_ONE, Flag.PAYLOAD_LEN)
)
_READ, _WRITE, _DISC, _FLUSH, _TRIM, _ZEROES, _STATUS = (
    int(one)
    for one in (
        Command.READ, Command.WRITE, Command.DISC, Command.FLUSH, Command.TRIM, Command.WRITE_ZEROES,
        Command.BLOCK_STATUS,
    )
)  # fmt: skip
_KNOWN: dict[int, int] = {
    Command.READ: _DF | _FUA,
    Command.WRITE: _FUA | _PAYLOAD_LEN,
    Command.FLUSH: 0,
    Command.TRIM: _FUA,
    Command.CACHE: 0,
    Command.WRITE_ZEROES: _FUA | _NO_HOLE,
    Command.BLOCK_STATUS: _REQ_ONE,
}
_CHANGES = (_WRITE, _TRIM, _ZEROES)


class _FaultError(Exception):
    """A request that is not done: why, as a number and in words."""

    def __init__(self, fault: Fault, told: str) -> None:
        super().__init__(told)
        self.fault = fault


def serve(wire: Wire, disk: Lent, agreed: Agreed, client: Client, is_ending: Callable[[], bool]) -> None:
    """Answer a client's requests until it goes, or `is_ending`.

    Raises:
        RefusedClientError: it does not keep to the protocol.
        WireClosedError: it has gone without a word.
    """
    session = _Session(wire, disk, agreed, client)
    while not is_ending() and session.answer_one():
        pass


class _Session:
    """One client's requests."""

    def __init__(self, wire: Wire, disk: Lent, agreed: Agreed, client: Client) -> None:
        self._wire = wire
        self._disk = disk
        self._agreed = agreed
        self._client = client
        self._request = m.LONG_REQUEST if agreed.extended else m.SHORT_REQUEST
        self._magic = m.EXTENDED_REQUEST if agreed.extended else m.REQUEST
        self._room: memoryview | None = None
        self._cookie = self._offset = 0

    def answer_one(self) -> bool:
        """Take a request and answer it; return whether others may follow."""
        magic, flags, kind, cookie, offset, length = self._request.unpack(self._wire.take(self._request.size))
        if magic != self._magic:
            raise RefusedClientError("a request does not begin as one")
        if kind == _DISC:
            return False
        self._cookie, self._offset = cookie, offset
        self._client.requests += 1
        follows = length if kind == _WRITE or (self._agreed.extended and flags & _PAYLOAD_LEN) else 0
        if follows > m.LARGEST_PAYLOAD:
            raise RefusedClientError(f"a request claims that {follows} bytes follow it")
        try:
            try:
                self._check(kind, flags, offset, length)
            except _FaultError:
                self._pass_over(follows)
                raise
            self._do(kind, flags, offset, length)
        except _FaultError as error:
            self._failed(error.fault, str(error))
        except (NarvetError, OSError) as error:
            full = isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT)
            self._failed(Fault.ENOSPC if full else Fault.EIO, "there is no room" if full else "it cannot be done")
            self._client.fault = str(error)
        return True

    def _check(self, kind: int, flags: int, offset: int, length: int) -> None:
        known = _KNOWN.get(kind)
        if known is None or flags & ~known:
            raise _FaultError(Fault.EINVAL, "this is not known here")
        if self._disk.read_only and kind in _CHANGES:
            raise _FaultError(Fault.EPERM, "the disk is lent to be read only")
        if kind != _FLUSH and offset + length > self._disk.size:
            raise _FaultError(Fault.ENOSPC if kind in _CHANGES else Fault.EINVAL, "this lies behind the disk's end")
        if kind == _READ and length > m.LARGEST_PAYLOAD:
            raise _FaultError(Fault.EOVERFLOW, f"at most {m.LARGEST_PAYLOAD} bytes are read at once")
        if kind == _STATUS and not (self._agreed.allocation and length):
            raise _FaultError(Fault.EINVAL, "no context was agreed on, or nothing is asked about")

    def _do(self, kind: int, flags: int, offset: int, length: int) -> None:
        if kind == _READ:
            self._read(offset, length, whole=bool(flags & _DF))
            return
        if kind == _STATUS:
            self._status(offset, length, one=bool(flags & _REQ_ONE))
            return
        if kind == _WRITE:
            self._write(offset, length)
        elif kind in (_TRIM, _ZEROES):
            for at in range(offset, offset + length, _AT_ONCE):
                part = min(_AT_ONCE, offset + length - at)
                self._disk.zero(at, part, keep_stored=bool(flags & _NO_HOLE))
        elif kind == _FLUSH:
            self._disk.flush()
        if flags & _FUA:
            self._disk.flush()
        self._done()

    # Bytes.

    def _write(self, offset: int, length: int) -> None:
        """Take what is to be written, piece by piece; after a fault the rest is passed over."""
        if self._room is None or len(self._room) < min(length, _PIECE):
            self._room = memoryview(bytearray(_PIECE if length > _SMALL else _SMALL))
        fault: Exception | None = None
        for at in range(0, length, len(self._room)):
            part = self._room[: min(len(self._room), length - at)]
            self._wire.take_into(part)
            if fault is None:
                try:
                    self._disk.write(offset + at, part)
                except (NarvetError, OSError) as error:
                    fault = error
        if fault is not None:
            raise fault
        self._client.written += length

    def _pass_over(self, length: int) -> None:
        for at in range(0, length, _SMALL):
            self._wire.take(min(_SMALL, length - at))

    def _read(self, offset: int, length: int, *, whole: bool) -> None:
        if whole and length > _PIECE:
            raise _FaultError(Fault.EOVERFLOW, f"at most {_PIECE} bytes are read in one")
        if self._agreed.structured:
            self._read_in_parts(offset, length, whole=whole)
        else:
            data = self._disk.read(offset, min(length, _PIECE))
            self._wire.give(m.SIMPLE.pack(m.SIMPLE_REPLY, 0, self._cookie), data)
            for at in range(_PIECE, length, _PIECE):
                try:
                    data = self._disk.read(offset + at, min(_PIECE, length - at))
                except (NarvetError, OSError) as error:
                    self._client.fault = str(error)
                    raise RefusedClientError("the disk cannot be read, which cannot be told any more") from None
                self._wire.give(data)
        self._client.read += length

    def _read_in_parts(self, offset: int, length: int, *, whole: bool) -> None:
        end, at = offset + length, offset
        if not length:
            self._done()
        while at < end:
            part = min(_PIECE, end - at)
            if not whole and length > _SMALL:
                part, holds = self._disk.runs(at, part)[0]
                if not holds:
                    self._chunk(Chunk.OFFSET_HOLE, m.HOLE.pack(at, part), last=at + part == end)
                    at += part
                    continue
            data = self._disk.read(at, part)
            self._chunk(Chunk.OFFSET_DATA, m.PLACE.pack(at), data, last=at + part == end)
            at += part

    def _status(self, offset: int, length: int, *, one: bool) -> None:
        runs = self._disk.runs(offset, length)[: 1 if one else None]
        told = [(size, 0 if holds else m.HOLE_THAT_READS_ZERO) for size, holds in runs]
        if self._agreed.extended:
            rows = b"".join(m.LONG_RUN.pack(*row) for row in told)
            head = m.RUN.pack(m.ALLOCATION_ID, len(told))
            self._chunk(Chunk.BLOCK_STATUS_EXT, head, rows, last=True)
        else:
            rows = b"".join(m.RUN.pack(*row) for row in told)
            self._chunk(Chunk.BLOCK_STATUS, m.NUMBER.pack(m.ALLOCATION_ID), rows, last=True)

    # Replies.

    def _chunk(self, kind: Chunk, *parts: bytes, last: bool) -> None:
        length = sum(map(len, parts))
        about = m.DONE if last else 0, kind, self._cookie
        if self._agreed.extended:
            head = m.LONG_CHUNK.pack(m.EXTENDED_REPLY, *about, self._offset, length)
        else:
            head = m.CHUNK.pack(m.STRUCTURED_REPLY, *about, length)
        self._wire.give(head, *parts)

    def _done(self) -> None:
        if self._agreed.structured:
            self._chunk(Chunk.NONE, last=True)
        else:
            self._wire.give(m.SIMPLE.pack(m.SIMPLE_REPLY, 0, self._cookie))

    def _failed(self, fault: Fault, told: str) -> None:
        if self._agreed.structured:
            text = told.encode()
            self._chunk(Chunk.ERROR, m.FAULT.pack(fault, len(text)) + text, last=True)
        else:
            self._wire.give(m.SIMPLE.pack(m.SIMPLE_REPLY, fault, self._cookie))
