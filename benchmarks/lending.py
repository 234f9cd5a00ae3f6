"""How fast lent disks are, against a plain file served by a loop as small as it can be, over the same kind of socket.

python benchmarks/lending.py [FOLDER]
"""

from __future__ import annotations

import random
import re
import socket
import statistics
import struct
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from narvet.ground.units import KIB, MIB

RUNS = 5
SIZE = 256 * MIB
PART, ALONG = 256 * KIB, 64 * KIB  # bytes of a message over iSCSI, and of what comes along with a command
REQUEST, REPLY = struct.Struct(">IHHQQI"), struct.Struct(">IIQ")
FLOOR = """
import os, socket, struct, sys
request, reply = struct.Struct(">IHHQQI"), struct.Struct(">IIQ")
file = os.open(sys.argv[1], os.O_RDWR)
server = socket.socket(); server.bind(("127.0.0.1", 0)); server.listen()
print(server.getsockname()[1], flush=True)
while True:
    link, _ = server.accept()
    link.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    while head := link.recv(28, socket.MSG_WAITALL):
        _, _, kind, cookie, offset, length = request.unpack(head)
        if kind == 0:
            link.sendall(reply.pack(0x67446698, 0, cookie) + os.pread(file, length, offset))
        elif kind == 1:
            os.pwrite(file, link.recv(length, socket.MSG_WAITALL), offset)
            link.sendall(reply.pack(0x67446698, 0, cookie))
        elif kind == 3:
            os.fsync(file)
            link.sendall(reply.pack(0x67446698, 0, cookie))
        else:
            break
"""


@contextmanager
def served(*command: str) -> Iterator[int]:
    """Run a server and return the port that it names."""
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as process:
        assert process.stdout is not None
        found = re.search(r"(?:127.0.0.1:)?(\d+)(?:/\S+)?\s*$", process.stdout.readline())
        assert found is not None
        try:
            yield int(found[1])
        finally:
            process.kill()


class Link:
    """A connection on which one request is made after another, over NBD; with `agrees` the only disk is asked for."""

    def __init__(self, port: int, *, agrees: bool) -> None:
        self.sock = socket.create_connection(("127.0.0.1", port))
        self.sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        if agrees:
            self.agree()

    def agree(self) -> None:
        """Ask for the disk."""
        self.get(18)
        self.sock.sendall(struct.pack(">I", 3) + b"IHAVEOPT" + struct.pack(">II", 1, 0))
        self.get(10)

    def get(self, length: int) -> bytes:
        """Return so many bytes."""
        return self.sock.recv(length, socket.MSG_WAITALL)

    def ask(self, kind: int, offset: int, length: int, data: bytes = b"") -> None:
        """Make one request, and take its answer."""
        self.sock.sendall(REQUEST.pack(0x25609513, 0, kind, 1, offset, length) + data)
        self.get(REPLY.size + (length if kind == 0 else 0))


class IscsiLink(Link):
    """The same over iSCSI."""

    def agree(self) -> None:
        """Log in."""
        self.number = 1
        keys = (
            "InitiatorName=iqn.2026-11.internal.tests:speed", "TargetName=iqn.2026-11.internal.narvet:lend",
            f"MaxRecvDataSegmentLength={PART}", "MaxBurstLength=1048576", f"FirstBurstLength={ALONG}",
        )  # fmt: skip
        text = b"".join(key.encode() + b"\0" for key in keys)
        head = bytearray(struct.pack(">BB6xQIIII16x", 0x43, 0x87, 0x4000 << 48 | 1 << 16, 1, 1 << 16, 1, 0))
        head[5:8] = len(text).to_bytes(3, "big")
        self.sock.sendall(head + text + bytes(-len(text) % 4))
        answer = self.get(48)
        length = int.from_bytes(answer[5:8], "big")
        self.get(length + -length % 4)
        if answer[36:38] != b"\0\0":
            raise RuntimeError("the login is refused")

    def message(self, head: bytes, data: bytes) -> None:
        """Send a message."""
        self.sock.sendall(head[:5] + len(data).to_bytes(3, "big") + head[8:] + data)

    def ask(self, kind: int, offset: int, length: int, data: bytes = b"") -> None:
        """Make one request, and take its answer."""
        flags, code = (0xA0, 0x8A) if kind else (0xC0, 0x88)
        along = data[:ALONG]
        head = struct.pack(">BB14xIIII", 1, flags, 7, length, self.number, 0)
        self.number += 1
        self.message(head + struct.pack(">BBQIBB", code, 0, offset // 512, length // 512, 0, 0), along)
        if not kind:
            self.get(length + 48 * -(-length // PART))
            return
        if length > ALONG:
            asked = self.get(48)
            for number, at in enumerate(range(ALONG, length, PART)):
                last = 0x80 if at + PART >= length else 0
                head = struct.pack(">BB14xI4sIIIII4x", 5, last, 7, asked[20:24], 0, 0, 0, number, at)
                self.message(head, data[at : at + PART])
        self.get(48)


def works() -> dict[str, Callable[[Link], None]]:
    """Return what is measured: reads and writes of 1 MiB in order, of 4 KiB at random."""
    block, small, dice = bytes(range(256)) * (4 * KIB), bytes(4 * KIB), random.Random(1)
    places = [dice.randrange(SIZE // (4 * KIB)) * 4 * KIB for _ in range(5000)]

    def each(kind: int, where: list[int], data: bytes) -> Callable[[Link], None]:
        def work(link: Link) -> None:
            for offset in where:
                link.ask(kind, offset, len(data), data if kind else b"")

        return work

    steps = list(range(0, SIZE, MIB))
    return {
        "1 MiB read in order": each(0, steps, block),
        "1 MiB written in order": each(1, steps, block),
        "4 KiB read at random": each(0, places, small),
        "4 KiB written at random": each(1, places, small),
    }


def rows(folder: Path) -> Iterator[tuple[str, str, float, float, float]]:
    """Yield format, work, and the median seconds of the floor, of Narvet over NBD and over iSCSI, taken in turn."""
    plain = folder / "plain"
    plain.write_bytes(bytes(range(256)) * (SIZE // 256))
    for ending in ("raw", "qcow2", "vhdx"):
        images = [folder / f"{name}.{ending}" for name in "ab"]
        for image in images:
            subprocess.run(
                ["narvet", "recast", str(plain), str(image), "--image-format", "raw"],
                check=True,
                stdout=subprocess.DEVNULL,
            )
        at = ("--at", "127.0.0.1:0")
        with (
            served(sys.executable, "-c", FLOOR, str(plain)) as floor,
            served("narvet", "lend", str(images[0]), *at) as nbd,
            served("narvet", "lend", str(images[1]), "--by", "iscsi", *at) as iscsi,
        ):
            links = Link(floor, agrees=False), Link(nbd, agrees=True), IscsiLink(iscsi, agrees=True)
            for name, work in works().items():
                times: dict[Link, list[float]] = {link: [] for link in links}
                for _ in range(RUNS):
                    for link, taken in times.items():
                        started = time.perf_counter()
                        work(link)
                        taken.append(time.perf_counter() - started)
                one, two, three = (statistics.median(taken) for taken in times.values())
                yield ending, name, one, two, three
            for link in links:
                link.sock.close()
        for image in images:
            image.unlink()


def section(folder: Path) -> Iterator[str]:
    """Yield the table of this measurement, line by line."""
    yield "## A disk lent, against a plain file served by a loop as small as it can be"
    yield ""
    yield "The loop has one fixed header for each order, and does nothing but read the file and send it; so what is"
    yield "measured is what a protocol asks for beyond that, most of all at 4 KiB."
    yield ""
    yield "| format | what | the loop | over NBD | over iSCSI |"
    yield "|---|---|---:|---:|---:|"
    for ending, name, floor, nbd, iscsi in rows(folder):
        yield (
            f"| {ending} | {name} | {floor:.3f} s | {nbd:.3f} s, {floor / nbd:.0%} as fast | "
            f"{iscsi:.3f} s, {floor / iscsi:.0%} |"
        )


if __name__ == "__main__":
    with tempfile.TemporaryDirectory(dir=sys.argv[1] if len(sys.argv) > 1 else None) as made:
        print("\n".join(section(Path(made))))
