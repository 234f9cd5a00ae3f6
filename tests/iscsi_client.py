"""A small initiator of the tests' own, by RFC 7143; nothing in it comes from the program."""

from __future__ import annotations

import base64
import hashlib
import itertools
import os
import socket
import struct
from typing import Any, NamedTuple

import crc32c

TARGET = "iqn.2026-11.internal.narvet:lend"
NAME = "iqn.2026-11.internal.tests:one"


class Came(NamedTuple):
    """A message that came: its header, and its data."""

    header: bytes
    data: bytes

    @property
    def op(self) -> int:
        return self.header[0] & 0x3F

    def number(self, at: int) -> int:
        return int.from_bytes(self.header[at : at + 4], "big")


class Ended(NamedTuple):
    """How a command ended: its status, sense key and codes, what was read, and the residual count (less is below 0)."""

    status: int
    sense: tuple[int, int, int]
    data: bytes
    residual: int


class LoginError(Exception):
    """The target refuses a login: its status."""


class Initiator:
    """A session of one connection."""

    def __init__(self, where: tuple[str, int], name: str = NAME, isid: int = 1, **keys: Any) -> None:
        self.sock = socket.create_connection(where, timeout=60)
        self.name, self.isid = name, struct.pack(">HI", 0x4000, isid)
        self.header_digest = self.data_digest = False
        self.tags = itertools.count(1)
        self.number, self.expected, self.most = 7, 0, 8192
        self.keys = keys
        self.told: dict[str, str] = {}

    def __del__(self) -> None:
        self.sock.close()

    # Messages.

    def send(self, header: bytes | bytearray, data: bytes = b"", *, harm: str = "") -> None:
        head = bytearray(header)
        head[5:8] = len(data).to_bytes(3, "big")
        out = bytes(head)
        if self.header_digest:
            out += struct.pack("<I", crc32c.crc32c(out) ^ (harm == "header"))
        data += bytes(-len(data) % 4)
        if data:
            out += data
            if self.data_digest:
                out += struct.pack("<I", crc32c.crc32c(data) ^ (harm == "data"))
        self.sock.sendall(out)

    def take(self) -> Came:
        header = self.exactly(48)
        assert header[4] == 0
        if self.header_digest:
            assert struct.unpack("<I", self.exactly(4))[0] == crc32c.crc32c(header)
        length = int.from_bytes(header[5:8], "big")
        assert length <= self.most
        data = self.exactly(length + -length % 4)
        if length and self.data_digest:
            assert struct.unpack("<I", self.exactly(4))[0] == crc32c.crc32c(data)
        return Came(header, data[:length])

    def exactly(self, length: int) -> bytes:
        out = bytearray()
        while len(out) < length:
            part = self.sock.recv(length - len(out))
            if not part:
                raise EOFError
            out += part
        return bytes(out)

    # Login.

    def login(self, *, secret: tuple[str, str] | None = None, theirs: str = "", algorithm: str = "7,5") -> Initiator:
        """Log in, by CHAP with a name and a secret, and with `theirs` hear the target's secret as well."""
        who = {"InitiatorName": self.name, "SessionType": "Normal", "TargetName": TARGET}
        who.update(self.keys)
        if who["SessionType"] == "Discovery":
            del who["TargetName"]
        wanted = {one: who.pop(one) for one in list(who) if one not in ("InitiatorName", "SessionType", "TargetName")}
        self.told = self.step(0, 1, {**who, "AuthMethod": "CHAP,None" if secret else "None"}, final=secret is None)
        if secret is not None:
            assert self.told["AuthMethod"] == "CHAP"
            asked = self.step(0, 1, {"CHAP_A": algorithm}, final=False)
            said = {"CHAP_N": secret[0], "CHAP_R": "0x" + response(asked, secret[1]).hex()}
            own = {"CHAP_I": "77", "CHAP_C": "0b" + base64.b64encode(b"who are you, target?").decode()}
            self.told = self.step(0, 1, {**said, **(own if theirs else {})}, final=True)
            if theirs:
                shown = response({"CHAP_A": asked["CHAP_A"], "CHAP_I": "77", "CHAP_C": own["CHAP_C"]}, theirs)
                assert bytes.fromhex(self.told["CHAP_R"][2:]) == shown and self.told["CHAP_N"] == "vault"
        told = self.step(1, 3, {"MaxRecvDataSegmentLength": "16384", **wanted}, final=True)
        self.most = int(wanted.get("MaxRecvDataSegmentLength", 16384))
        self.told |= told
        self.header_digest, self.data_digest = (told.get(f"{one}Digest") == "CRC32C" for one in ("Header", "Data"))
        return self

    def step(self, stage: int, following: int, keys: dict[str, str], *, final: bool) -> dict[str, str]:
        text = b"".join(f"{key}={value}".encode() + b"\0" for key, value in keys.items())
        flags = (0x80 | following if final else 0) | stage << 2
        tag = next(self.tags)
        self.send(
            struct.pack(">BBBB4x6sHIHHII16x", 0x43, flags, 0, 0, self.isid, 0, tag, 1, 0, self.number, self.expected),
            text,
        )
        came = self.take()
        assert came.op == 0x23 and came.number(16) == tag
        status = struct.unpack(">H", came.header[36:38])[0]
        if status:
            raise LoginError(f"{status:04x}")
        self.expected = came.number(24) + 1
        assert came.header[1] == flags
        return dict(pair.split("=", 1) for pair in came.data.decode().split("\0") if pair)

    # Commands.

    def start(self, lun: int, cdb: bytes, read: int = 0, data: bytes = b"", along: int = 0, harm: str = "") -> int:
        """Send a command with the first `along` bytes of its data; return its tag."""
        tag = next(self.tags)
        flags = 0x80 | (0x40 if read else 0) | (0x20 if data else 0)
        head = struct.pack(">BB6xH6xIIII", 0x01, flags, lun, tag, read or len(data), self.number, self.expected)
        self.number += 1
        self.send(head + cdb.ljust(16, b"\0"), data[:along], harm=harm)
        return tag

    def finish(self, tag: int, data: bytes = b"", part: int = 8192) -> Ended:
        """Take what comes until a command has ended, and send the data that are asked for in parts."""
        there = bytearray()
        while True:
            came = self.take()
            assert came.number(16) == tag, came
            if came.op == 0x31:
                (transfer,), (at, size) = (
                    struct.unpack(">I", came.header[20:24]),
                    struct.unpack(">II", came.header[40:48]),
                )
                for number, inner in enumerate(range(at, at + size, part)):
                    piece = data[inner : min(inner + part, at + size)]
                    last = 0x80 if inner + part >= at + size else 0
                    head = struct.pack(">BB6xQIIIIIII4x", 5, last, 0, tag, transfer, 0, self.expected, 0, number, inner)
                    self.send(head, piece)
                continue
            if came.op == 0x25:
                assert came.number(40) == len(there)
                there += came.data
                if not came.header[1] & 1:
                    continue
            else:
                assert came.op == 0x21, came
            self.expected = came.number(24) + 1
            over = {0x04: 1, 0x02: -1}.get(came.header[1] & 0x06, 0)
            sense = (0, 0, 0)
            if came.op == 0x21 and came.data:
                assert struct.unpack(">H", came.data[:2])[0] == len(came.data) - 2 and came.data[2] & 0x7F == 0x70
                sense = (came.data[4] & 15, came.data[14], came.data[15])
            return Ended(came.header[3], sense, bytes(there), over * came.number(44))

    def ask(self, lun: int, cdb: bytes, read: int = 0, data: bytes = b"", along: int = 0) -> Ended:
        """Send a command, and take all that comes of it."""
        return self.finish(self.start(lun, cdb, read, data, along), data)

    def good(self, lun: int, cdb: bytes, read: int = 0, data: bytes = b"", along: int = 0) -> bytes:
        """Send a command that has to end well; return what was read."""
        ended = self.ask(lun, cdb, read, data, along)
        assert ended.status == 0, ended
        return ended.data

    def other(self, op: int, flags: int, rest: bytes = b"", data: bytes = b"", *, immediate: bool = True) -> Came:
        """Send another message, and return what comes: `rest` is what stands at offset 20, but for the numbers."""
        tag = next(self.tags)
        head = struct.pack(
            ">BB14xI4sII", op | 0x40 * immediate, 0x80 | flags, tag, rest[:4].ljust(4, b"\0"), self.number, 0
        )
        self.number += not immediate
        self.send(head + rest[4:].ljust(16, b"\0"), data)
        came = self.take()
        assert came.number(16) == (0xFFFFFFFF if came.op == 0x3F else tag), came
        self.expected = came.number(24) + 1
        return came

    def log_out(self) -> None:
        came = self.other(6, 0)
        assert came.op == 0x26 and came.header[2] == 0
        self.sock.close()


def response(asked: dict[str, str], secret: str) -> bytes:
    """Return the response to a challenge of CHAP."""
    digits = asked["CHAP_C"]
    challenge = bytes.fromhex(digits[2:]) if digits[:2] == "0x" else base64.b64decode(digits[2:])
    name = {"5": "md5", "6": "sha1", "7": "sha256", "8": "sha3_256"}[asked["CHAP_A"]]
    return hashlib.new(name, bytes([int(asked["CHAP_I"])]) + secret.encode() + challenge).digest()


def read10(first: int, count: int) -> bytes:
    return struct.pack(">BBIBHB", 0x28, 0, first, 0, count, 0)


def write10(first: int, count: int, *, through: bool = False) -> bytes:
    return struct.pack(">BBIBHB", 0x2A, 8 * through, first, 0, count, 0)


def noise(length: int) -> bytes:
    return os.urandom(length)
