"""Images lent over NBD: to several clients, in each way to speak, held against a model; refused, stopped, attacked."""

from __future__ import annotations

import os
import random
import re
import signal
import socket
import struct
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from narvet.block.memory import MemoryDevice
from narvet.formats.images.chain import open_image
from narvet.formats.images.trust import Trust
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent
from narvet.ground.units import KIB, MIB
from narvet.lending.contract import Client as Guest
from narvet.lending.contract import Lent, OneForAll
from narvet.lending.nbd.handshake import agree
from narvet.lending.nbd.speaker import NbdSpeaker
from narvet.lending.nbd.transmission import serve
from narvet.lending.server import Address, Server
from narvet.lending.wire import RefusedClientError, WireClosedError
from tests import nbd_client as nbd
from tests.certificates import certificates
from tests.nbd_client import WAYS, Client, FaultError
from tests.program import PROGRAM, disk, facts, make_sheet, run

ENDINGS = ("raw", "qcow2", "vhd", "vhdx", "vmdk")


class Lender:
    """The program, lending."""

    def __init__(self, process: subprocess.Popen[str], where: tuple[str, int] | str) -> None:
        self.process = process
        self.where = where

    @property
    def port(self) -> tuple[str, int]:
        """The host and port that it listens at."""
        assert not isinstance(self.where, str)
        return self.where

    def end(self, number: int = signal.SIGTERM) -> str:
        """End it by a signal; return what it said since it began."""
        self.process.send_signal(number)
        out, err = self.process.communicate(timeout=60)
        if number != signal.SIGKILL:
            assert self.process.returncode == 0 and "acknowledged is stored" in out and "Traceback" not in err, err
        return out + err


@contextmanager
def lent(*words: str, cwd: Path) -> Iterator[Lender]:
    """Lend at a free port, or at the address that is named, as long as the context lasts."""
    more = () if "--at" in words else ("--at", "127.0.0.1:0")
    process = subprocess.Popen(
        [PROGRAM, "lend", *words, *more], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, cwd=cwd
    )
    assert process.stdout is not None
    try:
        first = process.stdout.readline()
        found = re.search(r"at (?:nbd|iscsi)://127.0.0.1:(\d+)/", first)
        named = re.search(r"socket=(\S+)", first)
        assert found or named, first + process.communicate(timeout=30)[1]
        yield Lender(process, ("127.0.0.1", int(found[1])) if found else str(cwd / str(named and named[1])))
    finally:
        process.kill()
        process.communicate()


def image(folder: Path, name: str, size: int = 24 * MIB) -> Path:
    """Make a thin image with nothing on it."""
    path = folder / name
    run("make", str(path), "--size", f"{size} B", "--filesystem", "none", "--table", "none", status=0)
    return path


def stir(client: Client, model: bytearray, dice: random.Random, count: int) -> None:
    """Write, read, trim and zero at random, by one client, and keep a model of what is there."""
    size = len(model)
    for _ in range(count):
        offset = dice.randrange(size // 512) * 512 + dice.choice((0, 0, 0, 7))
        length = min(dice.choice((1, 512, 4096, 65536, 70_000, 1_300_000)), size - offset)
        what = dice.random()
        if what < 0.4:
            data = dice.randbytes(length)
            client.ask(nbd.WRITE, offset, length, nbd.FUA if what < 0.05 else 0, data)
            model[offset : offset + length] = data
        elif what < 0.55:
            client.ask(nbd.TRIM if what < 0.47 else nbd.ZEROES, offset, length, nbd.NO_HOLE if what > 0.52 else 0)
            model[offset : offset + length] = bytes(length)
        elif what < 0.9:
            assert (
                client.ask(nbd.READ, offset, length, nbd.DF if length < MIB else 0) == model[offset : offset + length]
            )
        else:
            client.ask(nbd.FLUSH)


@pytest.mark.parametrize("ending", ENDINGS)
def test_what_clients_write_is_there_once_it_ends(tmp_path: Path, ending: str) -> None:
    """Three clients in three ways share a disk: it reads as the model has it, for each at once, and in the image later."""
    path = image(tmp_path, f"seeds.{ending}")
    model, dice = bytearray(facts("survey", str(path))[0]["size"]), random.Random(ending)
    with lent(path.name, cwd=tmp_path) as lender:
        clients = [Client(lender.where, way) for way in WAYS]
        for client in clients:
            assert client.go("seeds")[-1][0] == 1 and client.size == len(model)
        for _ in range(12):
            stir(dice.choice(clients), model, dice, 12)
        with pytest.raises(AssertionError):
            run("make", str(path), "--size", "1 MiB", status=0)
        runs = clients[2].ask(nbd.STATUS, 0, len(model))
        assert sum(length for length, _ in runs) == len(model)
        at = 0
        for length, flags in runs:
            assert flags == 0 or not any(model[at : at + length])
            at += length
        clients[0].close()
        said = lender.end()
        assert "takes seeds" in said and "written" in said
    with open_image(path) as device:
        assert device.read(0, device.size) == model
        holds = [(run.start, run.length) for run in device.extents()]
    places = [sum(length for length, _ in runs[:number]) for number in range(len(runs))]
    told = [(at, length) for at, (length, flags) in zip(places, runs, strict=True) if not flags]
    assert sum(length for _, length in told) == sum(length for _, length in holds)
    assert {one["rule"] for one in facts("survey", str(path))[0]["findings"]} <= {"bytes-not-known"}
    if ending == "qcow2":
        _goes_on_over_a_base(tmp_path, path, bytes(model), dice)


def _goes_on_over_a_base(folder: Path, base: Path, before: bytes, dice: random.Random) -> None:
    """A child is lent: its base stays, and is refused itself; a client that names nothing gets the only disk."""
    kept, model = base.read_bytes(), bytearray(before)
    run("branch", str(base), str(folder / "child.qcow2"), status=0)
    assert "is a child of it" in run("lend", str(base), status=3).stderr
    with lent("child.qcow2", "--at", str(folder / "socket"), cwd=folder) as lender:
        assert (folder / "socket").stat().st_mode & 0o777 == 0o600
        client = Client(lender.where)
        assert client.go("")[-1][0] == 1
        stir(client, model, dice, 60)
        lender.end(signal.SIGINT)
    assert base.read_bytes() == kept and not (folder / "socket").exists()
    with open_image(folder / "child.qcow2") as device:
        assert device.read(0, device.size) == model


def test_what_is_agreed_on(tmp_path: Path) -> None:
    """Lists, information, contexts, old clients, and everything that is answered with no."""
    for name in ("a.raw", "b.qcow2"):
        image(tmp_path, name, 3 * MIB)
    with lent("a.raw", "b.qcow2", "--read-only", cwd=tmp_path) as lender:
        client = Client(lender.where, "simple")
        assert [data[4:5] for kind, data in client.option(nbd.LIST) if kind == 2] == [b"a", b"b"]
        assert client.option(nbd.LIST, b"x")[0][0] == 0x80000003
        assert client.option(99)[0][0] == 0x80000001
        assert client.option(nbd.STARTTLS)[0][0] == 0x80000002
        assert client.option(nbd.LIST, bytes(70_000))[0][0] == 0x80000009
        assert client.option(nbd.SET_CONTEXTS, struct.pack(">I1sI", 1, b"a", 0))[0][0] == 0x80000003
        assert client.go("c", option=nbd.INFO)[-1][0] == client.go("")[-1][0] == 0x80000006
        assert client.option(nbd.GO, b"\xff\xff\xff\xff")[0][0] == 0x80000003
        assert client.option(nbd.STRUCTURED)[0][0] == client.option(nbd.EXTENDED)[0][0] == 1
        assert client.option(nbd.STRUCTURED)[0][0] == 0x8000000A
        wild = struct.pack(">I1sII5s", 1, b"a", 1, 5, b"base:")
        assert client.option(nbd.LIST_CONTEXTS, wild)[0] == (4, struct.pack(">I", 0) + b"base:allocation")
        assert client.option(nbd.SET_CONTEXTS, wild) == [(1, b"")]
        assert client.go("b", contexts=(), option=nbd.INFO)[-1][0] == 1
        assert client.info[1] == b"b" and client.info[2] == "3\u00a0MiB, qcow2".encode()
        assert struct.unpack(">III", client.info[3]) == (512, 4096, 32 * MIB)
        client.way = "extended"
        assert client.go("a", contexts=("none:such",))[-1][0] == 1 and client.flags & 2
        for kind, fault in ((nbd.STATUS, 22), (nbd.WRITE, 1), (nbd.TRIM, 1), (42, 22)):
            with pytest.raises(FaultError) as failed:
                client.ask(kind, 0, 512, data=bytes(512) if kind == nbd.WRITE else b"")
            assert failed.value.number == fault
        for offset, length, flags, fault in (
            (3 * MIB, 1, 0, 22),
            (0, 2 * MIB, nbd.DF, 75),
            (0, 1, 16, 22),
        ):
            with pytest.raises(FaultError) as failed:
                client.ask(nbd.READ, offset, length, flags)
            assert failed.value.number == fault
        assert client.ask(nbd.READ, 2 * MIB, MIB) == bytes(MIB)
        client.close()
        old = Client(lender.where, "simple")
        old.sock.sendall(b"IHAVEOPT" + struct.pack(">II", 1, 1) + b"b")
        assert struct.unpack(">QH", old.take(10))[0] == 3 * MIB and old.ask(nbd.READ, 0, 512) == bytes(512)
        for first in (b"GET / HTTP/1.1\r\n\r\n", struct.pack(">I", 3) + b"HAVEIOPT" + bytes(8)):
            with socket.create_connection(lender.port) as sock:
                sock.recv(18)
                sock.sendall(first)
                assert sock.recv(100) == b""
        assert "asks for 'nothing'" in _old_asks(lender, b"nothing") + lender.end()


def _old_asks(lender: Lender, name: bytes) -> str:
    old = Client(lender.where, "simple")
    old.sock.sendall(b"IHAVEOPT" + struct.pack(">II", 1, len(name)) + name)
    with pytest.raises((EOFError, ConnectionError)):
        old.take(1)
    return ""


def test_what_is_refused(tmp_path: Path) -> None:
    """An image in use, other machines, two of one name, no such place, a port that is taken: said in a sentence."""
    path, free = image(tmp_path, "a.raw", MIB), ("--at", "127.0.0.1:0")
    (tmp_path / "other").mkdir()
    image(tmp_path / "other", "a.raw", MIB)
    with lent("a.raw", "other/a.raw:0", cwd=tmp_path) as lender:
        assert "is at work on it" in run("lend", str(path), *free, status=3).stderr
        assert "another Narvet uses it" in run("recast", str(path), str(tmp_path / "b.qcow2"), status=3).stderr
        third = image(tmp_path, "third.raw", MIB)
        at = f"127.0.0.1:{lender.where[1]}"
        assert "give another address" in run("lend", str(third), "--at", at, status=2).stderr
    for asked, words, what in (
        (["a.raw"], ("--at", "0.0.0.0:0"), "add --unguarded"),
        (["a.raw"], ("--at", "nowhere"), "no address"),
        (["a.raw:1"], free, "no partitions"),
        (["a.raw", "other/a.raw"], free, "two images have this name"),
        (["a.raw"], (*free, "--child-each", "missing"), "no such folder"),
        (["a.raw"], (*free, "--certificate", "c", "--key", "k"), "name files in PEM"),
        (["missing.raw"], free, "no such file"),
    ):
        done = run("lend", *asked, *words, cwd=tmp_path)
        assert done.returncode in (2, 3) and what in done.stderr.replace("\n  ", " "), done.stderr
    assert path.read_bytes() == bytes(MIB)


def test_a_child_for_each_client(tmp_path: Path) -> None:
    """Each client has what it wrote and no other; the base stays; the children go with their clients, or are kept."""
    base, folder = image(tmp_path, "a.qcow2", 4 * MIB), tmp_path / "children"
    folder.mkdir()
    before = base.read_bytes()
    for keep in (False, True):
        with lent("a.qcow2", "--child-each", "children", *(("--keep",) if keep else ()), cwd=tmp_path) as lender:
            clients = [Client(lender.where) for _ in range(3)]
            for number, client in enumerate(clients):
                client.go("a")
                assert not client.flags & 256
                client.ask(nbd.WRITE, 4096, 4096, data=bytes([number + 1]) * 4096)
            for number, client in enumerate(clients):
                assert client.ask(nbd.READ, 4095, 2) == bytes([0, number + 1])
            assert len(list(folder.glob("*.qcow2"))) == 3
            clients[0].close()
            lender.end()
        assert base.read_bytes() == before and len(list(folder.iterdir())) == (3 if keep else 0)
    found = set()
    for child in folder.iterdir():
        with open_image(child, trust=Trust(bases=frozenset([str(base)]))) as device:
            found.add(device.read(4096, 1))
    assert found == {b"\1", b"\2", b"\3"}


def test_a_partition_that_is_sealed(tmp_path: Path) -> None:
    """One partition of a disk is lent, what is inside it, once a passphrase opens it."""
    (tmp_path / "words").write_bytes(b"rye and oats")
    words = ("--passphrase-file", str(tmp_path / "words"))
    sheet = make_sheet(tmp_path, disk("a", 'size = "64 MiB"', 'at = "/srv/a"\nsealed = {memory = "8 MiB", passes = 1}'))
    run("write", str(sheet), "--yes", *words, "--recovery", str(tmp_path / "recovery"), status=0)
    assert "it is sealed" in run("lend", "shelf/a.raw:1", cwd=tmp_path, status=3).stderr
    with lent("shelf/a.raw:1", *words, cwd=tmp_path) as lender:
        client = Client(lender.where)
        client.go("a:1")
        assert client.size == 46 * MIB and client.ask(nbd.READ, 1080, 2) == b"\x53\xef"
        client.ask(nbd.WRITE, 1024 + 120, 16, data=b"greenhouse".ljust(16, b"\0"))
        lender.end()
    raw = (tmp_path / "shelf" / "a.raw").read_bytes()
    assert b"greenhouse" not in raw


def test_connections_that_are_sealed(tmp_path: Path) -> None:
    """Nothing is told before the connection is sealed, and nothing at all to a client without its certificate."""
    image(tmp_path, "a.raw", 4 * MIB)
    context = certificates(tmp_path)
    words = ("--certificate", "server.pem", "--key", "server.key", "--clients", "authority.pem")
    with lent("a.raw", *words, cwd=tmp_path) as lender:
        bare = Client(lender.where, "simple")
        assert bare.go("a")[-1][0] == bare.option(nbd.LIST)[-1][0] == 0x80000005
        with pytest.raises((OSError, EOFError)):
            Client(lender.where, "structured", context)
        context.load_cert_chain(tmp_path / "client.pem", tmp_path / "client.key")
        client = Client(lender.where, "structured", context)
        assert client.go("a")[-1][0] == 1
        data = random.Random(7).randbytes(3 * MIB)
        client.ask(nbd.WRITE, 512, len(data), data=data)
        assert client.ask(nbd.READ, 512, len(data)) == data
        lender.end()
    assert (tmp_path / "a.raw").read_bytes()[512 : 512 + len(data)] == data


@pytest.mark.parametrize("ending", ENDINGS)
def test_an_image_does_not_grow_with_each_trim(tmp_path: Path, ending: str) -> None:
    """Trimmed and written again, many times over: its file stays as large as it has to be, and reads as written."""
    path, dice = image(tmp_path, f"a.{ending}", 64 * MIB), random.Random(ending)
    size, model = 8 * MIB, bytearray(64 * MIB)
    with lent(path.name, cwd=tmp_path) as lender:
        client = Client(lender.where)
        client.go("a")
        for number in range(20):
            data, at = dice.randbytes(size), dice.randrange(3) * size
            client.ask(nbd.WRITE, at, len(data), data=data)
            model[at : at + len(data)] = data
            client.ask(nbd.FLUSH)
            gone = dice.randrange(3) * size + (number % 2) * 2 * MIB
            client.ask(nbd.TRIM, gone, 4 * MIB)
            model[gone : gone + 4 * MIB] = bytes(4 * MIB)
            client.ask(nbd.FLUSH)
        assert client.ask(nbd.READ, 0, 28 * MIB) == model[: 28 * MIB]
        lender.end()
    assert path.stat().st_size <= (64 if ending == "raw" else 44) * MIB
    with open_image(path) as opened:
        assert opened.read(0, len(model)) == model
    assert {one["rule"] for one in facts("survey", str(path))[0]["findings"]} <= {"bytes-not-known"}


@pytest.mark.parametrize("ending", ["qcow2", "vhdx"])
def test_killed_at_any_moment(tmp_path: Path, ending: str) -> None:
    """Killed again and again under writes: what was flushed is there, the image is sound, and lending goes on."""
    path, dice = image(tmp_path, f"a.{ending}", 64 * MIB), random.Random(ending)
    kept = dict[int, bytes]()
    for _ in range(6):
        with lent(path.name, cwd=tmp_path) as lender:
            client = Client(lender.where, "simple")
            client.go("a")
            for block, data in kept.items():
                assert client.ask(nbd.READ, block * 4096, 4096) == data
            for number in range(dice.randrange(4, 40)):
                fresh = {dice.randrange(16 * KIB): dice.randbytes(4096) for _ in range(20)}
                for block, data in fresh.items():
                    client.ask(nbd.WRITE, block * 4096, 4096, data=data)
                if number % 2:  # what is given up, other blocks have soon
                    gone = dice.randrange(64)
                    client.ask(nbd.TRIM, gone * MIB, MIB)
                    for block in [one for one in (*kept, *fresh) if one * 4096 // MIB == gone]:
                        kept.pop(block, None)
                        fresh.pop(block, None)
                if number % 3 == 2:
                    client.ask(nbd.FLUSH)
                    kept.update(fresh)
                else:
                    for block in fresh:
                        kept.pop(block, None)
            lender.end(signal.SIGKILL)
        assert {one["rule"] for one in facts("survey", str(path))[0]["findings"]} <= {"bytes-not-known"}
    assert kept


def test_clients_that_stand_still(tmp_path: Path) -> None:
    """Half-open, silent and slow clients keep nobody else waiting, nor the end."""
    image(tmp_path, "a.raw", 40 * MIB)
    with lent("a.raw", cwd=tmp_path) as lender:
        still = [socket.create_connection(lender.port) for _ in range(20)]
        slow = Client(lender.where, "simple")
        slow.go("a")
        for _ in range(4):
            slow.sock.sendall(struct.pack(">IHHQQI", 0x25609513, 0, nbd.READ, 1, 0, 32 * MIB))
        half = Client(lender.where, "simple")
        half.go("a")
        half.sock.sendall(struct.pack(">IHHQQI", 0x25609513, 0, nbd.WRITE, 1, 0, 4096) + bytes(100))
        client = Client(lender.where)
        client.go("a")
        started = time.monotonic()
        client.ask(nbd.WRITE, 0, 4096, data=bytes([9]) * 4096)
        assert client.ask(nbd.READ, 0, 4096) == bytes([9]) * 4096 and time.monotonic() - started < 5
        lender.end()
        assert time.monotonic() - started < 30
    for sock in still:
        sock.close()


class Tape:
    """A wire of a client that said everything beforehand."""

    def __init__(self, data: bytes) -> None:
        self.data, self.at, self.given = data, 0, 0

    def take(self, length: int) -> bytes:
        assert length <= 33 * MIB
        if self.at + length > len(self.data):
            raise WireClosedError("the end")
        self.at += length
        return self.data[self.at - length : self.at]

    def take_into(self, room: memoryview) -> None:
        room[:] = self.take(len(room))

    def give(self, *parts: bytes | memoryview) -> None:
        self.given += sum(map(len, parts))
        if self.given > 200 * MIB:
            raise WireClosedError("enough")


def _said(dice: random.Random) -> bytes:
    """Return what a client that keeps to the protocol might say from its first byte to its last."""
    extended = dice.random() < 0.5
    parts = [struct.pack(">I", dice.choice((1, 3)))]

    def option(number: int, data: bytes = b"") -> None:
        parts.append(b"IHAVEOPT" + struct.pack(">II", number, len(data)) + data)

    for number in dice.sample([nbd.LIST, nbd.STARTTLS, 99], dice.randrange(3)):
        option(number)
    option(nbd.EXTENDED if extended else nbd.STRUCTURED)
    option(nbd.SET_CONTEXTS, struct.pack(">I1sII15s", 1, b"a", 1, 15, b"base:allocation"))
    option(nbd.GO, struct.pack(">I1sHH", 1, b"a", 1, 3))
    for cookie in range(dice.randrange(12)):
        kind = dice.randrange(9)
        offset, length = dice.randrange(MIB), dice.choice((0, 1, 512, 5000, 300_000))
        flags = dice.choice((0, 0, 1, 4, 8)) | (nbd.PAYLOAD if extended and kind == nbd.WRITE else 0)
        form, magic = (">IHHQQQ", 0x21E41C71) if extended else (">IHHQQI", 0x25609513)
        parts.append(struct.pack(form, magic, flags, kind, cookie, offset, length))
        parts.append(bytes(length) if kind == nbd.WRITE else b"")
    return b"".join(parts)


@pytest.mark.parametrize("seed", range(2))
def test_hostile_clients_get_nothing_else(seed: int) -> None:
    """Messages changed at random: bounded, an end that is foreseen, no write to what is read only, no byte elsewhere."""
    dice = random.Random(seed)
    for _ in range(int(os.environ.get("NARVET_TRIES", "1500"))):
        said = bytearray(_said(dice))
        for _ in range(dice.randrange(4)):
            at = dice.randrange(len(said))
            part = dice.choice((b"\xff", b"\xff" * 4, b"\xff" * 8, bytes(4), b"\x7f" + b"\xff" * 7, dice.randbytes(4)))
            if dice.random() < 0.3:
                del said[at : at + dice.randrange(1, 30)]
            else:
                said[at : at + len(part)] = part
        device = MemoryDevice(MIB)
        device.write(0, b"kept" * 16)
        tape, read_only = Tape(bytes(said)), dice.random() < 0.5
        shelf = OneForAll({"a": Lent("a", device, read_only=read_only)})
        try:
            wire, agreed = agree(tape, shelf)
            with shelf.lend(agreed.name, Guest(1, "")) as there:
                serve(wire, there, agreed, Guest(1, ""), lambda: False)
        except (WireClosedError, RefusedClientError):
            pass
        assert not read_only or device.read(0, 64) == b"kept" * 16


class Failing(MemoryDevice):
    """A disk on which nothing behind its first MiB works, all of which seems to hold something."""

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        end = self.size if end is None else end
        yield Extent(start, end - start)

    def read(self, offset: int, length: int) -> bytes:
        if offset + length > MIB:
            raise ImageError("a secret place")
        return super().read(offset, length)

    def write(self, offset: int, data: Any) -> None:
        if offset + len(data) > MIB:
            raise OSError(28, "full")
        super().write(offset, data)


@pytest.mark.parametrize("way", WAYS)
def test_a_disk_that_fails(way: str) -> None:
    """A fault is answered, the next request as if nothing had been; what cannot be told any more ends it."""
    heard = []
    shelf = OneForAll({"a": Lent("a", Failing(4 * MIB))})
    server = Server(NbdSpeaker(shelf), Address(), lambda what, client, why: heard.append((what, client.fault, why)))
    server.start()
    client = Client(("127.0.0.1", server.address.port), way)
    assert client.go("a")[-1][0] == 1
    data = bytes([5]) * (2 * MIB)
    for kind, offset, length, fault in ((nbd.WRITE, 512, len(data), 28), (nbd.READ, 2 * MIB, 512, 5)):
        with pytest.raises(FaultError) as failed:
            client.ask(kind, offset, length, data=data if kind == nbd.WRITE else b"")
        assert failed.value.number == fault and "secret" not in str(failed.value)
    client.ask(nbd.WRITE, 0, 1024, data=data[:1024])
    assert client.ask(nbd.READ, 0, 1024) == data[:1024]
    with pytest.raises((EOFError, ConnectionError) if way == "simple" else FaultError):
        client.ask(nbd.READ, 0, 2 * MIB)
    client.sock.close()
    server.end()
    assert heard[0][0] == "came" and heard[-1][1] == "a secret place" and not server.clients
    assert heard[-1][0] == ("refused" if way == "simple" else "went")
