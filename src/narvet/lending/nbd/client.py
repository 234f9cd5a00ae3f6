"""A disk that another Narvet lends over NBD, read as a block device; nothing that the other side sends is trusted.

It agrees on longer headers and on runs that are stored, which Narvet's own lending has, and gives up without them.
"""

from __future__ import annotations

import socket
import ssl
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TypeVar

from narvet.block.contract import check_read
from narvet.ground.errors import BugError, RefusedError
from narvet.ground.extents import Extent
from narvet.lending.nbd import messages as m
from narvet.lending.nbd.messages import Answer, Can, Chunk, Command, Info, Option
from narvet.lending.wire import SocketWire, WireClosedError

T = TypeVar("T")
_PATIENCE = 60.0  # seconds that an answer may take
_MOST_ANSWERS = 64  # to one option
_MOST_RUNS = 1 << 16  # in one answer
_MOST_PIECE = 4 << 20  # bytes that are asked for at once
_MOST_SIZE = 1 << 62
_ERROR_TOLD = 4096


class LentDisk:
    """A disk that is lent, for reading only."""

    def __init__(self, wire: SocketWire, size: int, sector_size: int) -> None:
        self._wire = wire
        self._size = size
        self._sector_size = sector_size
        self._cookie = 0

    @property
    def size(self) -> int:
        """Bytes of the disk."""
        return self._size

    @property
    def sector_size(self) -> int:
        """Bytes of a logical sector."""
        return self._sector_size

    def read(self, offset: int, length: int) -> bytes:
        """Return exactly `length` bytes; RefusedError where they do not come."""
        check_read(self, offset, length)
        room = bytearray(length)
        for at in range(0, length, _MOST_PIECE):
            piece = memoryview(room)[at : at + _MOST_PIECE]
            _told(lambda at=at, piece=piece: self._read_into(offset + at, piece))  # type: ignore[misc]
        return bytes(room)

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Raise BugError: it is for reading."""
        raise BugError(f"a write of {len(data)} bytes at {offset} to a disk of another machine")

    def zero(self, offset: int, length: int) -> None:
        """Raise BugError: it is for reading."""
        raise BugError(f"zeros for {length} bytes at {offset} of a disk of another machine")

    def flush(self) -> None:
        """Return if the other side finds the disk as it was; RefusedError where it does not."""
        _told(self._flush)

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """Yield the runs that may hold data, ascending and joined; RefusedError where the answer does not come."""
        limit = self._size if end is None else min(end, self._size)
        first = at = start
        while at < limit:
            for length, holds in _told(lambda at=at: self._runs(at, limit - at)):  # type: ignore[misc]
                if not holds and first < at:
                    yield Extent(first, at - first)
                at += length
                first = first if holds else at
        if first < limit:
            yield Extent(first, limit - first)

    def _ask(self, command: Command, offset: int, length: int) -> None:
        self._cookie += 1
        self._wire.give(m.LONG_REQUEST.pack(m.EXTENDED_REQUEST, 0, command, self._cookie, offset, length))

    def _chunk(self) -> tuple[int, int, bool]:
        """Return kind and length of the next part of an answer, and whether it is the last."""
        magic, flags, kind, cookie, _, length = m.LONG_CHUNK.unpack(self._wire.take(m.LONG_CHUNK.size))
        if magic != m.EXTENDED_REPLY or cookie != self._cookie:
            raise _not_kept("it sends something else than an answer")
        if kind == Chunk.ERROR:
            told = self._wire.take(min(length, _ERROR_TOLD))
            why = told[m.FAULT.size :].decode("utf-8", "replace")[:300]
            raise RefusedError(f"it could not be read there, or was changed meanwhile: {why}")
        return kind, length, bool(flags & m.DONE)

    def _flush(self) -> None:
        self._ask(Command.FLUSH, 0, 0)
        kind, length, is_last = self._chunk()
        if kind != Chunk.NONE or length or not is_last:
            raise _not_kept("it answers a flush with something else")

    def _read_into(self, offset: int, room: memoryview) -> None:
        """Fill some memory with what lies at an offset; parts come in order, as Narvet sends them."""
        self._ask(Command.READ, offset, len(room))
        done, is_last = 0, False
        while not is_last:
            kind, length, is_last = self._chunk()
            left = len(room) - done
            if kind == Chunk.OFFSET_DATA and m.PLACE.size <= length <= m.PLACE.size + left:
                (at,) = m.PLACE.unpack(self._wire.take(m.PLACE.size))
                part = length - m.PLACE.size
                self._wire.take_into(room[done : done + part])
            elif kind == Chunk.OFFSET_HOLE and length == m.HOLE.size:
                at, part = m.HOLE.unpack(self._wire.take(m.HOLE.size))
            else:
                raise _not_kept("it answers a read with something else")
            if at != offset + done or not 0 < part <= left:
                raise _not_kept("it sends other bytes than were asked for")
            done += part
        if done != len(room):
            raise _not_kept("it sends fewer bytes than were asked for")

    def _runs(self, offset: int, length: int) -> list[tuple[int, bool]]:
        """Return runs from an offset on, within `length` bytes: how long they are, and whether they hold anything."""
        self._ask(Command.BLOCK_STATUS, offset, length)
        kind, size, is_last = self._chunk()
        count, left = divmod(size - m.RUN.size, m.LONG_RUN.size)
        if kind != Chunk.BLOCK_STATUS_EXT or not is_last or left or not 0 < count <= _MOST_RUNS:
            raise _not_kept("it does not tell what is stored")
        about, told = m.RUN.unpack(self._wire.take(m.RUN.size))
        rows = [m.LONG_RUN.unpack(self._wire.take(m.LONG_RUN.size)) for _ in range(count)]
        if (about, told) != (m.ALLOCATION_ID, count) or sum(row[0] for row in rows) > length:
            raise _not_kept("it tells what is stored in another place than was asked about")
        if not all(row[0] for row in rows):
            raise _not_kept("it tells of runs without length")
        return [(row[0], row[1] != m.HOLE_THAT_READS_ZERO) for row in rows]


def _not_kept(what: str) -> RefusedError:
    return RefusedError(f"{what}; it does not keep to the protocol")


def _told(call: Callable[[], T]) -> T:
    """Return what a call returns; RefusedError where the other side has gone."""
    try:
        return call()
    except WireClosedError as error:
        raise RefusedError(f"the connection was lost ({str(error)[:100]})") from None


@contextmanager
def lent_disk(address: tuple[str, int], name: str, context: ssl.SSLContext | None = None) -> Iterator[LentDisk]:
    """Take a disk that is lent at an address (IP, port) under a name, until the context ends; sealed with `context`.

    Once the context has ended well, the other side holds the disk no more.

    Raises:
        RefusedError: it is not lent there, or the other side does not keep to the protocol.
    """
    try:
        sock = socket.create_connection(address, timeout=_PATIENCE)
    except OSError as error:
        raise RefusedError(f"{address[0]}:{address[1]} does not answer: {error.strerror or error}") from None
    sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    wire = SocketWire(sock)
    try:
        wire = _told(lambda: _sealed(wire, context))
        disk = _told(lambda: _agreed(wire, name))
        yield disk
        _told(lambda: disk._ask(Command.DISC, 0, 0))
        _wait_for_end(wire)
    finally:
        wire.close()


def _wait_for_end(wire: SocketWire) -> None:
    """Return once the other side has let go of the disk, which is before it ends the connection."""
    with suppress(WireClosedError):
        wire.take(1)


def context_of(authority: Path, certificate: Path, key: Path) -> ssl.SSLContext:
    """Return what a connection is sealed with: the other side's certificate is to come from the same authority.

    Raises:
        RefusedError: one of the files is not what it is to be.
    """
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    context.check_hostname = False  # hosts are told apart by what they are asked for, not by their names
    try:
        context.load_verify_locations(authority)
        context.load_cert_chain(certificate, key)
    except (OSError, ssl.SSLError) as error:
        raise RefusedError(f"{certificate}: {error.strerror or 'this is no certificate with its key'}") from None
    return context


def _sealed(wire: SocketWire, context: ssl.SSLContext | None) -> SocketWire:
    """Return the wire after the first words, sealed if that is asked for."""
    magic, option, flags = m.GREETING.unpack(wire.take(m.GREETING.size))
    if (magic, option) != (m.NBDMAGIC, m.IHAVEOPT) or not flags & m.FIXED_NEWSTYLE:
        raise _not_kept("it does not greet as one that lends disks")
    wire.give(m.NUMBER.pack(m.FIXED_NEWSTYLE | m.NO_ZEROES))
    if context is None:
        return wire
    _option(wire, Option.STARTTLS)
    try:
        return SocketWire(context.wrap_socket(wire.sock))
    except (OSError, ssl.SSLError) as error:
        raise RefusedError(f"the connection cannot be sealed: {error}") from None


def _agreed(wire: SocketWire, name: str) -> LentDisk:
    text = name.encode()
    _option(wire, Option.EXTENDED_HEADERS)
    context = m.ALLOCATION.encode()
    asked = m.NUMBER.pack(len(text)) + text + m.NUMBER.pack(1) + m.NUMBER.pack(len(context)) + context
    if m.NUMBER.pack(m.ALLOCATION_ID) + context not in _option(wire, Option.SET_META_CONTEXT, asked):
        raise _not_kept("it does not tell what is stored")
    wanted = m.NUMBER.pack(len(text)) + text + (1).to_bytes(2, "big") + int(Info.BLOCK_SIZE).to_bytes(2, "big")
    told = _option(wire, Option.GO, wanted)
    export = next((one for one in told if len(one) == m.INFO_EXPORT.size and one[1] == Info.EXPORT), None)
    sizes = next((one for one in told if len(one) == m.INFO_BLOCK_SIZE.size and one[1] == Info.BLOCK_SIZE), None)
    if export is None or sizes is None:
        raise _not_kept("it does not tell how large the disk is")
    _, size, flags = m.INFO_EXPORT.unpack(export)
    sector = m.INFO_BLOCK_SIZE.unpack(sizes)[1]
    if size > _MOST_SIZE or not flags & Can.HAS_FLAGS or sector not in (512, 4096):
        raise _not_kept("it tells of an impossible disk")
    return LentDisk(wire, size, sector)


def _option(wire: SocketWire, option: Option, data: bytes = b"") -> list[bytes]:
    """Ask for something, and return what is told of it before it is granted."""
    wire.give(m.OPTION.pack(m.IHAVEOPT, option, len(data)) + data)
    told: list[bytes] = []
    for _ in range(_MOST_ANSWERS):
        magic, about, kind, length = m.REPLY_TO_OPTION.unpack(wire.take(m.REPLY_TO_OPTION.size))
        if magic != m.OPTION_REPLY or about != option or length > m.LARGEST_OPTION:
            raise _not_kept("it answers an option with something else")
        text = wire.take(length)
        if kind == Answer.ACK:
            return told
        if kind not in (Answer.INFO, Answer.META_CONTEXT):
            raise RefusedError(
                f"it does not lend that: {text.decode('utf-8', 'replace')[:200] or 'it is not known there'}"
            )
        told.append(text)
    raise _not_kept("it answers on and on")
