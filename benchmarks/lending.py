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


def connected(port: int, *, agrees: bool) -> socket.socket:
    """Return a connection on which requests can be made; with `agrees` the only disk there is asked for first."""
    link = socket.create_connection(("127.0.0.1", port))
    link.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    if agrees:
        link.recv(18, socket.MSG_WAITALL)
        link.sendall(struct.pack(">I", 3) + b"IHAVEOPT" + struct.pack(">II", 1, 0))
        link.recv(10, socket.MSG_WAITALL)
    return link


def ask(link: socket.socket, kind: int, offset: int, length: int, data: bytes = b"") -> None:
    """Make one request, and take its answer."""
    link.sendall(REQUEST.pack(0x25609513, 0, kind, 1, offset, length) + data)
    link.recv(REPLY.size + (length if kind == 0 else 0), socket.MSG_WAITALL)


def works() -> dict[str, Callable[[socket.socket], None]]:
    """Return what is measured: reads and writes of 1 MiB in order, of 4 KiB at random."""
    block, small, dice = bytes(range(256)) * (4 * KIB), bytes(4 * KIB), random.Random(1)
    places = [dice.randrange(SIZE // (4 * KIB)) * 4 * KIB for _ in range(5000)]

    def each(kind: int, where: list[int], data: bytes) -> Callable[[socket.socket], None]:
        def work(link: socket.socket) -> None:
            for offset in where:
                ask(link, kind, offset, len(data), data if kind else b"")

        return work

    steps = list(range(0, SIZE, MIB))
    return {
        "1 MiB read in order": each(0, steps, block),
        "1 MiB written in order": each(1, steps, block),
        "4 KiB read at random": each(0, places, small),
        "4 KiB written at random": each(1, places, small),
    }


def rows(folder: Path) -> Iterator[tuple[str, str, float, float]]:
    """Yield format, work, and the median seconds of the floor and of Narvet, taken in turn."""
    plain = folder / "plain"
    plain.write_bytes(bytes(range(256)) * (SIZE // 256))
    for ending in ("raw", "qcow2", "vhdx"):
        image = folder / f"a.{ending}"
        subprocess.run(
            ["narvet", "recast", str(plain), str(image), "--image-format", "raw"], check=True, stdout=subprocess.DEVNULL
        )
        with (
            served(sys.executable, "-c", FLOOR, str(plain)) as floor,
            served("narvet", "lend", str(image), "--at", "127.0.0.1:0") as own,
            connected(floor, agrees=False) as one,
            connected(own, agrees=True) as other,
        ):
            for name, work in works().items():
                times: dict[socket.socket, list[float]] = {one: [], other: []}
                for _ in range(RUNS):
                    for link, taken in times.items():
                        started = time.perf_counter()
                        work(link)
                        taken.append(time.perf_counter() - started)
                yield ending, name, statistics.median(times[one]), statistics.median(times[other])
        image.unlink()


def section(folder: Path) -> Iterator[str]:
    """Yield the table of this measurement, line by line."""
    yield "## A disk lent over NBD, against a plain file served by a loop as small as it can be"
    yield ""
    yield "| format | what | Narvet | the loop | as fast as the loop |"
    yield "|---|---|---:|---:|---:|"
    for ending, name, floor, own in rows(folder):
        yield f"| {ending} | {name} | {own:.3f} s | {floor:.3f} s | {floor / own:.0%} |"


if __name__ == "__main__":
    with tempfile.TemporaryDirectory(dir=sys.argv[1] if len(sys.argv) > 1 else None) as made:
        print("\n".join(section(Path(made))))
