"""What a client and the server agree on before the first request (sections "Fixed newstyle negotiation" and on)."""

from __future__ import annotations

import struct
from collections.abc import Callable
from typing import Protocol

from narvet.ground.values import Frozen, replace
from narvet.lending.contract import Lent, Shelf
from narvet.lending.nbd import messages as m
from narvet.lending.nbd.messages import Answer, Can, Info, Option
from narvet.lending.wire import RefusedClientError, Wire, WireClosedError

_MOST_OPTIONS = 1000  # of one client; more agree on nothing
_MOST_QUERIES = 64
_PREFERRED = 4096


class Agreed(Frozen):
    """What was agreed on: the name of the disk, and how its bytes are asked for and sent."""

    name: str = ""
    structured: bool = False
    extended: bool = False
    allocation: bool = False


class Sealing(Protocol):
    """How a connection is sealed (TLS)."""

    def sealed(self, wire: Wire) -> Wire:
        """Return the wire sealed; WireClosedError where the client does not come along."""


def flags_of(disk: Lent) -> int:
    """Return what can be done with a disk, as clients are told."""
    can = Can.HAS_FLAGS | Can.SEND_FLUSH | Can.SEND_FUA | Can.SEND_DF | Can.SEND_CACHE
    can |= Can.CAN_MULTI_CONN if disk.is_shared else 0
    if disk.read_only:
        return int(can | Can.READ_ONLY)
    return int(can | Can.SEND_TRIM | Can.SEND_WRITE_ZEROES)


def agree(wire: Wire, shelf: Shelf, sealing: Sealing | None = None) -> tuple[Wire, Agreed]:
    """Speak with a client until it takes a disk; return the wire, sealed by then if it asked for that.

    With `sealing` nothing else is told before the connection is sealed.

    Raises:
        RefusedClientError: it agrees on nothing, or does not keep to the protocol.
        WireClosedError: it has gone.
    """
    wire.give(m.GREETING.pack(m.NBDMAGIC, m.IHAVEOPT, m.FIXED_NEWSTYLE | m.NO_ZEROES))
    (flags,) = m.NUMBER.unpack(wire.take(m.NUMBER.size))
    if flags & ~(m.FIXED_NEWSTYLE | m.NO_ZEROES) or not flags & m.FIXED_NEWSTYLE:
        raise RefusedClientError(f"it begins with flags that are not known, {flags:#x}")
    return _Talk(wire, shelf, sealing, zeroes=not flags & m.NO_ZEROES).until_agreed()


class _Talk:
    """One client's handshake."""

    def __init__(self, wire: Wire, shelf: Shelf, sealing: Sealing | None, *, zeroes: bool) -> None:
        self._wire = wire
        self._shelf = shelf
        self._sealing = sealing
        self._zeroes = zeroes
        self._agreed = Agreed()
        self._chosen = self._context_of = ""

    def until_agreed(self) -> tuple[Wire, Agreed]:
        for _ in range(_MOST_OPTIONS):
            magic, option, length = m.OPTION.unpack(self._wire.take(m.OPTION.size))
            if magic != m.IHAVEOPT:
                raise RefusedClientError("an option does not begin as one")
            if length > m.LARGEST_OPTION:
                self._skip(length)
                self._answer(option, Answer.ERR_TOO_BIG)
                continue
            data = self._wire.take(length)
            if option == Option.EXPORT_NAME:
                return self._by_name(data)
            if option == Option.ABORT:
                self._answer(option, Answer.ACK)
                raise WireClosedError("it only looked")
            if self._sealing is not None and option != Option.STARTTLS:
                self._answer(option, Answer.ERR_TLS_REQD)
            elif option == Option.GO:
                if self._info(option, data):
                    return self._wire, self._taken(self._chosen)
            else:
                handle = _OPTIONS.get(option)
                if handle is None:
                    self._answer(option, Answer.ERR_UNSUP)
                else:
                    handle(self, option, data)
        raise RefusedClientError("it asks on and on, and takes nothing")

    def _skip(self, length: int) -> None:
        if length > m.LARGEST_PAYLOAD:
            raise RefusedClientError(f"an option claims {length} bytes")
        for at in range(0, length, m.LARGEST_OPTION):
            self._wire.take(min(m.LARGEST_OPTION, length - at))

    def _answer(self, option: int, kind: Answer, data: bytes = b"") -> None:
        self._wire.give(m.REPLY_TO_OPTION.pack(m.OPTION_REPLY, option, kind, len(data)) + data)

    def _by_name(self, data: bytes) -> tuple[Wire, Agreed]:
        """Take the disk that an old client names: it cannot be told why it gets none."""
        if self._sealing is not None:
            raise RefusedClientError("it wants a disk over a connection that is not sealed")
        disk, name = self._disk(data)
        if disk is None:
            raise RefusedClientError(f"it asks for {name[:60]!r}, which is not lent")
        self._wire.give(m.EXPORT.pack(disk.size, flags_of(disk)) + (bytes(124) if self._zeroes else b""))
        return self._wire, self._taken(name)

    def _taken(self, name: str) -> Agreed:
        """Return what was agreed on for a disk; contexts that were agreed on for another one do not count."""
        same = self._shelf.about(self._context_of) is self._shelf.about(name)
        return replace(self._agreed, name=name, allocation=self._agreed.allocation and same)

    def _disk(self, data: bytes) -> tuple[Lent | None, str]:
        name = data.decode("utf-8", "replace")
        return (self._shelf.about(name) if len(data) <= m.LONGEST_NAME else None), name

    def _list(self, option: int, data: bytes) -> None:
        if data:
            self._answer(option, Answer.ERR_INVALID, b"a list takes no words")
            return
        for name in self._shelf.names:
            disk, text = self._shelf.about(name), name.encode()
            about = disk.about.encode()[: m.LONGEST_NAME] if disk else b""
            self._answer(option, Answer.SERVER, m.NUMBER.pack(len(text)) + text + about)
        self._answer(option, Answer.ACK)

    def _start_sealing(self, option: int, data: bytes) -> None:
        if data:
            self._answer(option, Answer.ERR_INVALID, b"this takes no words")
        elif self._sealing is None:
            self._answer(option, Answer.ERR_POLICY, b"there is no certificate here")
        else:
            self._answer(option, Answer.ACK)
            self._wire, self._sealing = self._sealing.sealed(self._wire), None
            self._agreed = Agreed()

    def _info(self, option: int, data: bytes) -> bool:
        """Tell about a disk; return whether there is one."""
        try:
            (length,) = m.NUMBER.unpack_from(data)
            name = data[4 : 4 + length]
            (count,) = _COUNT.unpack_from(data, 4 + length)
            asked = [value for (value,) in _COUNT.iter_unpack(data[6 + length :])]
            if len(name) != length or len(asked) != count:
                raise struct.error
        except struct.error:
            self._answer(option, Answer.ERR_INVALID, b"this is not how a disk is asked for")
            return False
        disk, text = self._disk(name)
        if disk is None:
            self._answer(option, Answer.ERR_UNKNOWN, b"there is no such disk here")
            return False
        self._chosen = text
        self._answer(option, Answer.INFO, m.INFO_EXPORT.pack(Info.EXPORT, disk.size, flags_of(disk)))
        if Info.NAME in asked:
            self._answer(option, Answer.INFO, _COUNT.pack(Info.NAME) + disk.name.encode())
        if Info.DESCRIPTION in asked and disk.about:
            self._answer(option, Answer.INFO, _COUNT.pack(Info.DESCRIPTION) + disk.about.encode()[: m.LONGEST_NAME])
        sizes = m.INFO_BLOCK_SIZE.pack(Info.BLOCK_SIZE, disk.sector_size, _PREFERRED, m.LARGEST_PAYLOAD)
        self._answer(option, Answer.INFO, sizes)
        self._answer(option, Answer.ACK)
        return True

    def _structured(self, option: int, data: bytes) -> None:
        if data:
            self._answer(option, Answer.ERR_INVALID, b"this takes no words")
        elif self._agreed.extended:
            self._answer(option, Answer.ERR_EXT_HEADER_REQD, b"longer headers are agreed on already")
        else:
            self._agreed = replace(self._agreed, structured=True)
            self._answer(option, Answer.ACK)

    def _extended(self, option: int, data: bytes) -> None:
        if data:
            self._answer(option, Answer.ERR_INVALID, b"this takes no words")
        else:
            self._agreed = replace(self._agreed, structured=True, extended=True)
            self._answer(option, Answer.ACK)

    def _contexts(self, option: int, data: bytes) -> None:
        """Tell, or agree on, what is known of each run of a disk: whether it is stored."""
        setting = option == Option.SET_META_CONTEXT
        if setting:
            self._agreed = replace(self._agreed, allocation=False)
        if setting and not self._agreed.structured:
            self._answer(option, Answer.ERR_INVALID, b"structured replies are to be agreed on first")
            return
        queries = _queries(data)
        if queries is None:
            self._answer(option, Answer.ERR_INVALID, b"this is not how contexts are asked for")
            return
        name, asked = queries
        if self._disk(name)[0] is None:
            self._answer(option, Answer.ERR_UNKNOWN, b"there is no such disk here")
            return
        text = m.ALLOCATION.encode()
        if text in asked or (not setting and (not asked or b"base:" in asked)):
            self._answer(option, Answer.META_CONTEXT, m.NUMBER.pack(m.ALLOCATION_ID if setting else 0) + text)
            self._agreed = replace(self._agreed, allocation=self._agreed.allocation or setting)
            self._context_of = name.decode("utf-8", "replace")
        self._answer(option, Answer.ACK)


_COUNT = struct.Struct(">H")
_OPTIONS: dict[int, Callable[[_Talk, int, bytes], object]] = {
    Option.LIST: _Talk._list,
    Option.STARTTLS: _Talk._start_sealing,
    Option.INFO: _Talk._info,
    Option.STRUCTURED_REPLY: _Talk._structured,
    Option.EXTENDED_HEADERS: _Talk._extended,
    Option.LIST_META_CONTEXT: _Talk._contexts,
    Option.SET_META_CONTEXT: _Talk._contexts,
}


def _queries(data: bytes) -> tuple[bytes, list[bytes]] | None:
    """Return the disk and the contexts that an option names, None where it is not of that form."""
    try:
        name, at = _text(data, 0)
        (count,) = m.NUMBER.unpack_from(data, at)
        at += m.NUMBER.size
        texts = []
        for _ in range(min(count, _MOST_QUERIES + 1)):
            text, at = _text(data, at)
            texts.append(text)
    except struct.error:
        return None
    return (name, texts) if at == len(data) and len(texts) == count else None


def _text(data: bytes, at: int) -> tuple[bytes, int]:
    """Return a text that stands behind its length, and the place behind it; one that is cut short ends nowhere."""
    (length,) = m.NUMBER.unpack_from(data, at)
    return data[at + 4 : at + 4 + length], at + 4 + length
