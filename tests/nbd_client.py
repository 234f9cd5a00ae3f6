"""A client of NBD, without the product's code: by the protocol's document, in each of its three ways to speak."""

from __future__ import annotations

import socket
import ssl
import struct
from typing import Any

WAYS = ("simple", "structured", "extended")
LIST, STARTTLS, INFO, GO, STRUCTURED, LIST_CONTEXTS, SET_CONTEXTS, EXTENDED = 3, 5, 6, 7, 8, 9, 10, 11
READ, WRITE, DISC, FLUSH, TRIM, CACHE, ZEROES, STATUS = range(8)
FUA, NO_HOLE, DF, REQ_ONE, PAYLOAD = 1, 2, 4, 8, 32


class FaultError(Exception):
    """An error that the server answered with, by its number."""

    def __init__(self, number: int, text: str = "") -> None:
        super().__init__(f"{number} {text}")
        self.number = number


class Client:
    """A connection; `where` is a host and port, or the path of a socket."""

    def __init__(
        self, where: tuple[str, int] | str, way: str = "structured", tls: ssl.SSLContext | None = None
    ) -> None:
        self.way = way
        if isinstance(where, str):
            self.sock = socket.socket(socket.AF_UNIX)
        else:
            self.sock = socket.socket(socket.AF_INET)
        self.sock.settimeout(60)
        self.sock.connect(where)
        magic, have, flags = struct.unpack(">8s8sH", self.take(18))
        assert (magic, have, flags) == (b"NBDMAGIC", b"IHAVEOPT", 3)
        self.sock.sendall(struct.pack(">I", 3))
        self.cookie = 0
        self.size = self.flags = 0
        self.info: dict[int, bytes] = {}
        if tls is not None:
            assert self.option(STARTTLS) == [(1, b"")]
            self.sock = tls.wrap_socket(self.sock, server_hostname="localhost")
        if way == "structured":
            assert self.option(STRUCTURED) == [(1, b"")]
        elif way == "extended":
            assert self.option(EXTENDED) == [(1, b"")]

    def take(self, length: int) -> bytes:
        """Return exactly so many bytes."""
        parts = []
        while length:
            part = self.sock.recv(min(length, 1 << 20))
            if not part:
                raise EOFError
            parts.append(part)
            length -= len(part)
        return b"".join(parts)

    def option(self, number: int, data: bytes = b"") -> list[tuple[int, bytes]]:
        """Give an option and return the answers, the last of which is no further part."""
        self.sock.sendall(b"IHAVEOPT" + struct.pack(">II", number, len(data)) + data)
        answers = []
        while True:
            magic, asked, kind, length = struct.unpack(">QIII", self.take(20))
            assert (magic, asked) == (0x3E889045565A9, number)
            answers.append((kind, self.take(length)))
            if kind not in (2, 3, 4):
                return answers

    def go(
        self, name: str, *, contexts: tuple[str, ...] = ("base:allocation",), option: int = GO
    ) -> list[tuple[int, bytes]]:
        """Take a disk by its name, or ask about it; return the answers."""
        text = name.encode()
        if self.way != "simple" and contexts:
            asked = b"".join(struct.pack(">I", len(one)) + one.encode() for one in contexts)
            self.option(SET_CONTEXTS, struct.pack(">I", len(text)) + text + struct.pack(">I", len(contexts)) + asked)
        answers = self.option(option, struct.pack(">I", len(text)) + text + struct.pack(">HHHH", 3, 1, 2, 3))
        for kind, data in answers:
            if kind == 3:
                self.info[struct.unpack_from(">H", data)[0]] = data[2:]
        if 0 in self.info:
            self.size, self.flags = struct.unpack(">QH", self.info[0])
        return answers

    def ask(self, kind: int, offset: int = 0, length: int = 0, flags: int = 0, data: bytes = b"") -> Any:
        """Make a request and return what it is answered with: bytes for a read, runs for a status."""
        self.cookie += 1
        if self.way == "extended":
            flags |= PAYLOAD if kind == WRITE else 0
            head = struct.pack(">IHHQQQ", 0x21E41C71, flags, kind, self.cookie, offset, length)
        else:
            head = struct.pack(">IHHQQI", 0x25609513, flags, kind, self.cookie, offset, length)
        self.sock.sendall(head + data)
        return None if kind == DISC else self._answer(kind, offset, length)

    def _answer(self, kind: int, offset: int, length: int) -> Any:
        if self.way == "simple":
            magic, fault, cookie = struct.unpack(">IIQ", self.take(16))
            assert (magic, cookie) == (0x67446698, self.cookie)
            if fault:
                raise FaultError(fault)
            return self.take(length) if kind == READ else None
        found, runs, seen = bytearray(length if kind == READ else 0), None, 0
        last, failed = 0, None
        while not last:
            last, what, data = self._chunk(offset)
            if what == 1:
                at = struct.unpack_from(">Q", data)[0] - offset
                found[at : at + len(data) - 8] = data[8:]
                seen += len(data) - 8
            elif what == 2:
                seen += struct.unpack(">QI", data)[1]
            elif what in (5, 6):
                runs = self._runs(what, data)
            elif what >= 0x8000:
                number, words = struct.unpack_from(">IH", data)
                assert len(data) == 6 + words
                failed = FaultError(number, data[6:].decode())
            else:
                assert (what, data) == (0, b"")
        if failed:
            raise failed
        assert kind != READ or seen == length
        return bytes(found) if kind == READ else runs

    def _chunk(self, offset: int) -> tuple[int, int, bytes]:
        """Return whether a part of an answer is the last, what it is, and what it holds."""
        if self.way == "extended":
            magic, flags, what, cookie, place, size = struct.unpack(">IHHQQQ", self.take(32))
            assert (magic, place) == (0x6E8A278C, offset)
        else:
            magic, flags, what, cookie, size = struct.unpack(">IHHQI", self.take(20))
            assert magic == 0x668E33EF
        assert cookie == self.cookie and flags in (0, 1)
        return flags, what, self.take(size)

    def _runs(self, what: int, data: bytes) -> list[tuple[int, int]]:
        assert data[:4] == struct.pack(">I", 1) and (what == 6) == (self.way == "extended")
        if what == 6:
            assert struct.unpack_from(">I", data, 4)[0] * 16 == len(data) - 8
        return list(struct.iter_unpack(">QQ" if what == 6 else ">II", data[8 if what == 6 else 4 :]))

    def __del__(self) -> None:
        """Go without a word."""
        self.sock.close()

    def close(self) -> None:
        """Go, with a word."""
        self.ask(DISC)
        self.sock.close()
