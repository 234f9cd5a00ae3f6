"""Images lent over iSCSI: held against the standards' tables and a model; logins, several initiators, attacks."""

from __future__ import annotations

import os
import random
import struct
import time
from pathlib import Path
from typing import Any

import pytest

from narvet.block.memory import MemoryDevice
from narvet.formats.images.chain import open_image
from narvet.ground.units import KIB, MIB, TIB
from narvet.lending.contract import Client, Lent, OneForAll
from narvet.lending.iscsi.chap import Logins
from narvet.lending.iscsi.login import log_in
from narvet.lending.iscsi.session import Session
from narvet.lending.scsi.unit import Unit
from narvet.lending.wire import RefusedClientError, WireClosedError
from tests.iscsi_client import NAME, TARGET, Initiator, LoginError, noise, read10, write10
from tests.program import facts, run
from tests.test_lend import ENDINGS, Tape, image, lent

BLANK = bytes(16)
CHECK, CONFLICT = 2, 0x18


def read16(first: int, count: int) -> bytes:
    return struct.pack(">BBQIBB", 0x88, 0, first, count, 0, 0)


def same16(first: int, count: int, flags: int = 0) -> bytes:
    return struct.pack(">BBQIBB", 0x93, flags, first, count, 0, 0)


def unmap(*ranges: tuple[int, int]) -> tuple[bytes, bytes]:
    rows = b"".join(struct.pack(">QI4x", *one) for one in ranges)
    data = struct.pack(">HH4x", 6 + len(rows), len(rows)) + rows
    return struct.pack(">B6xHB", 0x42, len(data), 0), data


def status_of(initiator: Initiator, lun: int, first: int) -> list[tuple[int, int, int]]:
    cdb = struct.pack(">BBQIBB", 0x9E, 0x12, first, 4096, 0, 0)
    data = initiator.good(lun, cdb, 4096)
    assert struct.unpack(">I", data[:4])[0] == len(data) - 4
    return list(struct.iter_unpack(">QIB3x", data[8:]))


def test_what_units_tell(tmp_path: Path) -> None:
    """Each answer as the standards' tables have it: of a disk with small sectors, one with large ones, and none."""
    image(tmp_path, "a.qcow2", 24 * MIB)
    run("make", "b.vhdx", "--size", "80 MiB", "--filesystem", "none", "--sector", "4096", status=0, cwd=tmp_path)
    run("make", "c.raw", "--size", "80 MiB", "--filesystem", "ext4", "--sector", "4096", status=0, cwd=tmp_path)
    with lent("a.qcow2", "b.vhdx", "c.raw", "--by", "iscsi", cwd=tmp_path) as lender:
        one = Initiator(lender.port, SessionType="Discovery").login()
        asked = one.other(4, 0, data=b"SendTargets=All\0", immediate=False)
        where = f"{lender.port[0]}:{lender.port[1]},1"
        assert asked.data == f"TargetName={TARGET}\0TargetAddress={where}\0".encode()
        assert one.other(1, 0).op == 0x3F
        one.log_out()
        one = Initiator(lender.port, HeaderDigest="CRC32C,None", DataDigest="CRC32C", IFMarker="No", XNew="7").login()
        assert one.told["XNew"] == "NotUnderstood" and one.told["HeaderDigest"] == "CRC32C"
        assert one.good(0, struct.pack(">B8xB", 0xA0, 255), 255) == struct.pack(">I4xQQQ", 24, 0, 1 << 48, 2 << 48)
        basic = one.good(0, struct.pack(">BBBHB", 0x12, 0, 0, 96, 0), 96)
        assert basic[:8] == bytes([0, 0, 6, 0x12, 91, 0, 0, 2]) and basic[8:36] == b"NARVET  LENT DISK       1   "
        sizes = {0: (512, 24 * MIB, 3), 1: (4096, 80 * MIB, 0), 2: (4096, 80 * MIB, 0)}
        serials = set()
        for lun, (size, whole, exponent) in sizes.items():
            assert one.good(lun, BLANK) == b""
            assert one.good(lun, b"\x25", 8) == struct.pack(">II", whole // size - 1, size)
            told = one.good(lun, struct.pack(">BB8xIBB", 0x9E, 0x10, 32, 0, 0), 32)
            assert told == struct.pack(">QIBBH16x", whole // size - 1, size, 0, exponent, 0xC000)
            pages = one.good(lun, bytes([0x12, 1, 0, 0, 255, 0]), 255)[4:]
            assert pages == b"\x00\x80\x83\xb0\xb1\xb2"
            for page in pages:
                data = one.good(lun, bytes([0x12, 1, page, 0, 255, 0]), 255)
                assert data[:2] == bytes([0, page]) and struct.unpack(">H", data[2:4])[0] == len(data) - 4
                assert page not in (0xB0, 0xB1) or len(data) == 64
                serials |= {data[4:]} if page == 0x80 else set()
                if page == 0x83:
                    assert (
                        data[4:8] == bytes([1, 3, 0, 8]) and data[8] >> 4 == 3 and data[16:20] == bytes([2, 1, 0, 28])
                    )
                if page == 0xB2:
                    assert data[5] == 0xE4 and data[6] == 2
            short, long = (
                one.good(lun, cdb, 255) for cdb in (b"\x1a\x08\x3f\x00\xff", b"\x5a\x08\x3f\0\0\0\0\0\xff\0")
            )
            assert short[0] == len(short) - 1 and short[1:4] == bytes([0, 0x10, 0]) and short[4:] == long[8:]
            assert short[4:7] == bytes([8, 18, 4]) and short[24:26] == bytes([10, 10])
            assert one.ask(lun, bytes([0x03, 0, 0, 0, 18, 0]), 18).data == bytes([0x70, 0, 0, 0, 0, 0, 0, 10]) + bytes(
                10
            )
        assert len(serials) == 3
        blocks = 24 * MIB // 512
        for lun, cdb, read, data, sense in (
            (0, b"\xff", 0, b"", (5, 0x20, 0)),
            (0, b"\x04", 0, b"", (5, 0x20, 0)),
            (5, BLANK, 0, b"", (5, 0x25, 0)),
            (0, read10(blocks, 1), 512, b"", (5, 0x21, 0)),
            (0, read16((1 << 64) - 1, 1), 512, b"", (5, 0x21, 0)),
            (0, read16(0, 16 * MIB // 512 + 1), 512, b"", (5, 0x24, 0)),
            (0, write10(blocks - 1, 2), 0, bytes(1024), (5, 0x21, 0)),
            (0, write10(0, 3), 0, bytes(1024), (0xB, 0x4B, 0)),
            (0, b"\x28\x20" + bytes(8), 512, b"", (5, 0x24, 0)),
            (0, bytes([0, 0, 0, 0, 0, 4]), 0, b"", (5, 0x24, 0)),
            (0, bytes([0x12, 1, 0x77, 0, 255, 0]), 255, b"", (5, 0x24, 0)),
            (0, bytes([0x1A, 0, 0xC8, 0, 255, 0]), 255, b"", (5, 0x39, 0)),
            (0, bytes([0x1A, 0, 0x22, 0, 255, 0]), 255, b"", (5, 0x24, 0)),
            (0, same16(0, 0), 0, bytes(512), (5, 0x24, 0)),
            (0, unmap((0, 8), (blocks, 1))[0], 0, unmap((0, 8), (blocks, 1))[1], (5, 0x21, 0)),
            (0, struct.pack(">B6xHB", 0x42, 4, 0), 0, bytes(4), (5, 0x1A, 0)),
            (0, struct.pack(">BBQIBB", 0x8F, 2, 0, 1, 0, 0), 0, bytes(512), (0xE, 0x1D, 0)),
        ):
            if sense[0] == 0xE:
                one.good(0, write10(0, 1), data=b"x" * 512)
            ended = one.ask(lun, cdb, read, data)
            assert (ended.status, ended.sense) == (CHECK, sense), (cdb, ended)
        none = one.good(5, struct.pack(">BBBHB", 0x12, 0, 0, 36, 0), 36)
        assert none[0] == 0x7F and len(none) == 36
        # More, and less, than was expected is told.
        assert one.ask(0, read10(0, 2), 512).residual == 512 and one.ask(0, read10(0, 1), 4096).residual == -3584
        one.log_out()
        lender.end()


@pytest.mark.parametrize("ending", ENDINGS)
def test_what_initiators_write_is_there_once_it_ends(tmp_path: Path, ending: str) -> None:
    """Three initiators, each on its own terms, write, give up and read one disk at random: as a model says."""
    size, dice = 24 * MIB, random.Random(ending)
    path, model = image(tmp_path, f"a.{ending}", size), bytearray(size)
    with lent(path.name, "--by", "iscsi", cwd=tmp_path) as lender:
        terms = (
            {"HeaderDigest": "CRC32C", "DataDigest": "CRC32C", "ImmediateData": "No"},
            {"MaxRecvDataSegmentLength": "262144", "MaxBurstLength": "1048576", "FirstBurstLength": "65536"},
            {"MaxRecvDataSegmentLength": "512", "MaxBurstLength": "1536", "InitialR2T": "No"},
        )
        there = [Initiator(lender.port, isid=number, **own).login() for number, own in enumerate(terms)]
        most = [0, 65536, 1536]
        for _ in range(120):
            number = dice.randrange(3)
            one, what = there[number], dice.random()
            first = dice.randrange(size // 512)
            count = min(dice.choice((1, 8, 40, 300, 1500)), size // 512 - first)
            begin, end = first * 512, (first + count) * 512
            if what < 0.45:
                data = noise(end - begin)
                one.good(0, write10(first, count, through=what < 0.1), data=data, along=dice.choice((0, most[number])))
                model[begin:end] = data
            elif what < 0.6:
                cdb, data = (
                    unmap((first, count)) if what < 0.5 else (same16(first, count, 8 * (what < 0.55)), bytes(512))
                )
                one.good(0, cdb, data=data, along=0)
                model[begin:end] = bytes(end - begin)
            elif what < 0.65:
                one.good(0, same16(first, count), data=b"ab" * 256)
                model[begin:end] = b"ab" * ((end - begin) // 2)
            elif what < 0.95:
                assert one.good(0, read10(first, count), end - begin) == model[begin:end]
            else:
                one.good(0, struct.pack(">B9x", 0x35))
        assert one.good(0, struct.pack(">BBQIBB", 0x8F, 2, 0, 2000, 0, 0), data=bytes(model[: 2000 * 512])) == b""
        there[0].log_out()
        said = lender.end()
    assert "client 1" in said and "goes" in said
    with open_image(path) as opened:
        assert opened.read(0, size) == model
    assert {one["rule"] for one in facts("survey", str(path))[0]["findings"]} <= {"bytes-not-known"}


def test_thin_disks_stay_thin(tmp_path: Path) -> None:
    """Which blocks are stored is told, what is given up is given back, and a disk of 14 TiB costs no more."""
    path = image(tmp_path, "a.vhdx", 14 * TIB)
    before = path.stat().st_blocks
    with lent(path.name, "--by", "iscsi", cwd=tmp_path) as lender:
        one = Initiator(lender.port).login()
        assert one.good(0, b"\x25", 8)[:4] == b"\xff" * 4
        far = 12 * TIB // 512
        assert status_of(one, 0, far) == [(far, 4096 * MIB // 512, 1)]
        one.good(0, struct.pack(">BBQIBB", 0x8A, 0, far, 8, 0, 0), data=b"y" * 4096)
        told = status_of(one, 0, far)
        assert told[0][0] == far and told[0][2] == 0 and told[0][1] >= 8 and told[1][2] == 1
        assert one.good(0, read16(far, 8), 4096) == b"y" * 4096
        wide = MIB * 128 // 512
        one.good(0, unmap((far, wide))[0], data=unmap((far, wide))[1])
        assert status_of(one, 0, far)[0][2] == 1 and one.good(0, read16(far, 8), 4096) == bytes(4096)
        assert one.good(0, same16(0, 256 * MIB // 512, 0x09)) == b""
        one.log_out()
        lender.end()
    assert path.stat().st_blocks < before + 64 * MIB // 512


def test_who_may_log_in(tmp_path: Path) -> None:
    """By each algorithm, both ways; a wrong secret, none, and another target are refused, as are files of secrets."""
    image(tmp_path, "a.raw")
    file = tmp_path / "logins.toml"
    good = '[clients]\nrack3 = "twelve bytes and more"\n[server]\nname = "vault"\nsecret = "another long secret"\n'
    for text, mode, told in (
        (good, 0o644, "others may read these secrets"),
        ("clients = 3", 0o600, "needs [clients]"),
        ('[clients]\na = "short"', 0o600, "12 to 255 bytes"),
        (good.replace("another long secret", "twelve bytes and more"), 0o600, "one secret"),
        ("[", 0o600, "not TOML"),
    ):
        file.write_text(text)
        file.chmod(mode)
        words = ("lend", "a.raw", "--by", "iscsi", "--logins", str(file))
        assert told in run(*words, status=2, cwd=tmp_path).stderr
    file.write_text(good)
    assert (
        "no name of a target"
        in run("lend", "a.raw", "--by", "iscsi", "--target", "My Disk", status=2, cwd=tmp_path).stderr
    )
    with lent("a.raw", "--by", "iscsi", "--logins", str(file), "--read-only", cwd=tmp_path) as lender:
        secret = ("rack3", "twelve bytes and more")
        for algorithm in ("5", "6,5", "7", "8", "5,7"):
            one = Initiator(lender.port).login(secret=secret, theirs="another long secret", algorithm=algorithm)
            ended = one.ask(0, write10(0, 1), data=bytes(512))
            assert (ended.status, ended.sense) == (CHECK, (7, 0x27, 0))
            assert one.good(0, b"\x1a\x08\x3f\x00\xff", 255)[2] == 0x90
            one.log_out()
        for bad in (("rack3", "another long secret"), ("nobody", "twelve bytes and more"), None):
            with pytest.raises(LoginError, match="0201"):
                Initiator(lender.port).login(secret=bad)
        wrong: tuple[tuple[dict[str, Any], str], ...] = (
            ({"TargetName": "iqn.2026-11.internal.narvet:other"}, "0203"),
            ({"SessionType": "Odd"}, "0209"),
            ({"InitiatorName": ""}, "0207"),
        )
        for keys, status in wrong:
            with pytest.raises(LoginError, match=status):
                Initiator(lender.port, **keys).login(secret=secret)
        skipping = Initiator(lender.port)
        with pytest.raises(LoginError, match="0201"):
            skipping.step(1, 3, {"InitiatorName": NAME, "TargetName": TARGET}, final=True)
        said = lender.end()
    assert "twelve bytes" not in said and "it does not know the secret of 'nobody'" in said


def test_several_initiators(tmp_path: Path) -> None:
    """One holds a unit; a reset frees it, and is heard of once; a session that begins anew ends the one before."""
    image(tmp_path, "a.raw")
    with lent("a.raw", "--by", "iscsi", cwd=tmp_path) as lender:
        one, two = (Initiator(lender.port, f"{NAME}{number}").login() for number in range(2))
        one.good(0, b"\x16" + bytes(5))
        for cdb, status in ((b"\x16", CONFLICT), (read10(0, 1), CONFLICT), (b"\x17", 0), (b"\x25", 0)):
            assert two.ask(0, cdb, 8 if cdb == b"\x25" else 0).status == status
        one.good(0, write10(0, 1), data=b"1" * 512)
        assert two.other(2, 1, struct.pack(">I", 999)).header[2] == 1  # abort: there is no such task
        assert two.other(2, 5).header[2] == 0  # the unit is reset
        for each in (one, two):
            ended = each.ask(0, read10(0, 1), 512)
            assert (ended.status, ended.sense) == (CHECK, (6, 0x29, 3))
            assert each.good(0, read10(0, 1), 512) == b"1" * 512
        two.good(0, b"\x56" + bytes(9))
        again = Initiator(lender.port, f"{NAME}1").login()
        with pytest.raises((EOFError, ConnectionError)):
            two.ask(0, BLANK)
        one.good(0, read10(0, 1), 512)
        # A command given up while its data are awaited, and others that came meanwhile.
        first = one.start(0, write10(0, 8), data=bytes(4096))
        assert one.take().op == 0x31
        second = one.start(0, read10(0, 1), 512)
        assert one.other(0, 0, data=b"ping").data == b"ping"
        assert one.other(2, 1, struct.pack(">I", first)).header[2] == 0
        assert one.finish(second).data == b"1" * 512
        # Nine commands at once, all with their data along.
        tags = [one.start(0, write10(n, 1), data=bytes([n]) * 512, along=512) for n in range(9)]
        assert [one.finish(tag).status for tag in tags] == [0] * 9
        assert again.good(0, read10(0, 9), 9 * 512) == b"".join(bytes([n]) * 512 for n in range(9))
        # What came damaged is not written, and ends the session.
        bad = Initiator(lender.port, f"{NAME}2", DataDigest="CRC32C").login()
        tag = bad.start(0, write10(0, 1), data=b"?" * 512, along=512, harm="data")
        assert bad.take().op == 0x3F and bad.finish(tag).sense == (0xB, 0x47, 5)
        with pytest.raises(EOFError):
            bad.take()
        assert one.good(0, read10(0, 1), 512) == bytes(512)
        lender.end()


def test_each_initiator_has_a_child(tmp_path: Path) -> None:
    """Its own, which is still there when it comes back without having logged out, and gone once it has."""
    base = image(tmp_path, "a.qcow2")
    (tmp_path / "kids").mkdir()
    with lent("a.qcow2", "--by", "iscsi", "--child-each", "kids", cwd=tmp_path) as lender:
        one, two = (Initiator(lender.port, f"{NAME}{number}").login() for number in range(2))
        for each in (one, two):
            each.good(0, write10(0, 8), data=each.name[-1].encode() * 4096)
        one.sock.close()
        one = Initiator(lender.port, f"{NAME}0", isid=5).login()
        for each in (one, two):
            assert each.good(0, read10(0, 8), 4096) == each.name[-1].encode() * 4096
        assert len(list((tmp_path / "kids").glob("[!.]*"))) == 2
        one.log_out()
        for _ in range(100):
            if len(list((tmp_path / "kids").glob("[!.]*"))) == 1:
                break
            time.sleep(0.1)
        one = Initiator(lender.port, f"{NAME}0").login()
        assert one.good(0, read10(0, 8), 4096) == bytes(4096)
        lender.end()
    assert list((tmp_path / "kids").iterdir()) == []
    with open_image(base) as opened:
        assert not any(opened.read(0, MIB))


def _said(dice: random.Random) -> list[bytearray]:
    """Return what an initiator that keeps to the protocol might say from its first message to its last."""

    def pdu(header: bytes, data: bytes = b"") -> None:
        head = bytearray(header.ljust(48, b"\0"))
        head[5:8] = len(data).to_bytes(3, "big")
        parts.append(head + data + bytes(-len(data) % 4))

    parts = list[bytearray]()
    text = f"InitiatorName={NAME}\0TargetName={TARGET}\0AuthMethod=None\0".encode()
    isid = bytes([0x40, 0, 0, 0, 0, 1])
    pdu(struct.pack(">BBBB4x6sHIHHII", 0x43, 0x81, 0, 0, isid, 0, 1, 1, 0, 1, 0), text)
    keys = b"MaxRecvDataSegmentLength=65536\0MaxBurstLength=16384\0ImmediateData=Yes\0DataDigest=None\0"
    pdu(struct.pack(">BBBB4x6sHIHHII", 0x43, 0x87, 0, 0, isid, 0, 2, 1, 0, 1, 0), keys)
    for number in range(dice.randrange(14)):
        first, count = dice.randrange(2048), dice.choice((0, 1, 8, 64))
        kind, lun = dice.randrange(10), dice.choice((0, 0, 0, 1))
        head = struct.pack(">BB6xH6xII", 0x01, 0xC0, lun, number, count * 512) + struct.pack(">II", number + 1, 0)
        if kind < 4:
            data = bytes(count * 512)
            along = dice.choice((0, len(data)))
            head = head[:1] + b"\xa0" + head[2:]
            pdu(head + write10(first, count), data[:along])
            for transfer, at in enumerate(range(along, len(data), 16384), 1):
                part = data[at : at + 16384]
                pdu(struct.pack(">BB6xQIIIIIII4x", 5, 0x80, 0, number, transfer, 0, 0, 0, 0, at), part)
        elif kind < 7:
            cdb = dice.choice(
                (read10(first, count), bytes([0x12, 1, 0x83, 0, 255, 0]), b"\x9e\x12" + bytes(12), b"\xa0")
            )
            pdu(head + cdb)
        elif kind == 7:
            cdb, data = unmap((first, count)) if dice.random() < 0.5 else (same16(first, count), bytes(512))
            pdu(struct.pack(">BB6xH6xIIII", 0x01, 0xA0, lun, number, len(data), number + 1, 0) + cdb, data)
        else:
            op, flags = dice.choice(((0x40, 0x80), (0x42, 0x81), (0x42, 0x85), (0x44, 0x80), (0x46, 0x80)))
            pdu(struct.pack(">BB14xIIII", op, flags, number, dice.randrange(10), number + 1, 0), b"SendTargets=\0")
    return parts


@pytest.mark.parametrize("seed", range(2))
def test_hostile_initiators_get_nothing_else(seed: int) -> None:
    """Messages changed at random: bounded, an end that is foreseen, no write without a login or to what is read only."""
    dice, done = random.Random(seed), 0
    for _ in range(int(os.environ.get("NARVET_TRIES", "1500"))):
        parts = _said(dice)
        for _ in range(dice.randrange(4)):
            part = dice.choice(parts)
            at = dice.randrange(min(len(part), 48) if dice.random() < 0.7 else len(part))
            change = dice.choice(
                (b"\xff", b"\xff" * 4, b"\xff" * 8, bytes(4), b"\x7f" + b"\xff" * 7, dice.randbytes(2))
            )
            if dice.random() < 0.1:
                del part[at : at + dice.randrange(1, 30)]
            else:
                part[at : at + len(change)] = change
        device = MemoryDevice(MIB)
        device.write(0, b"kept" * 128)
        tape, read_only, locked = Tape(b"".join(parts)), dice.random() < 0.3, dice.random() < 0.3
        disk = Lent("a", device, read_only=read_only)
        shelf = OneForAll({"a": disk})
        try:
            logged_in = log_in(tape, TARGET, Logins({"a": "b" * 12}) if locked else None, 1)
            with shelf.lend("a", Client(1, "")) as there:
                units = {} if logged_in.is_discovery else {0: Unit(0, there)}
                done += 1
                Session(tape, units, logged_in, Client(1, ""), TARGET, "here").serve(lambda: False)
        except (WireClosedError, RefusedClientError):
            pass
        assert not (read_only or locked) or device.read(0, 512) == b"kept" * 128
        assert tape.given < 64 * MIB
    assert done > 200


def test_memory_is_bounded(tmp_path: Path) -> None:
    """Initiators that ask for much and take nothing cost little."""
    image(tmp_path, "a.raw", 64 * MIB)
    with lent("a.raw", "--by", "iscsi", cwd=tmp_path) as lender:
        there = [Initiator(lender.port, f"{NAME}{number}").login() for number in range(12)]
        for one in there:
            for _ in range(30):
                one.start(0, read10(0, 16 * MIB // 512), 16 * MIB)
        time.sleep(2)
        status = Path(f"/proc/{lender.process.pid}/status").read_text()
        held = int(status.partition("VmRSS:")[2].split()[0]) * KIB
        assert held < 160 * MIB, held
        lender.end()
