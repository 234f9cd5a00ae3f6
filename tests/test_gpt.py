"""The GUID partition table: its bytes, its copies, and every way of damaging it."""

from __future__ import annotations

import zlib
from uuid import UUID

import pytest

from narvet.block.memory import MemoryDevice
from narvet.formats.tables.contract import PartitionEntry, Table
from narvet.formats.tables.gpt import FORMAT, LINUX_TYPE
from narvet.ground.units import MIB
from tests.program import HERE

DISK = "00112233-4455-6677-8899-aabbccddeeff"
PART = "8899aabb-ccdd-eeff-0011-223344556677"
TABLE = Table("gpt", DISK, (PartitionEntry(1, MIB, 2 * MIB, LINUX_TYPE, PART, "seeds"),))


def on_disk(size: int = 8 * MIB, sector: int = 512, table: Table = TABLE) -> MemoryDevice:
    device = MemoryDevice(size, sector)
    FORMAT.write(device, table)
    return device


def test_bytes_of_a_small_disk() -> None:
    device = on_disk()
    assert device.read(440, 72) == bytes.fromhex(
        "00000000" "0000"  # no disk signature
        "00" "000200" "ee" "ffffff" "01000000" "ff3f0000"  # all of the disk but its first sector
        + "00" * 48  # three empty records
        + "55aa"
    )  # fmt: skip
    header = device.read(512, 92)
    assert header[:16] == b"EFI PART" + bytes.fromhex("000001005c000000")  # revision 1.0, 92 bytes
    assert header[20:72] == bytes.fromhex(
        "00000000"  # reserved
        "0100000000000000" "ff3f000000000000"  # this copy, the other one
        "2200000000000000" "de3f000000000000"  # first and last usable sector
        "33221100554477668899aabbccddeeff"  # id of the disk
    )  # fmt: skip
    assert header[72:88] == bytes.fromhex("02000000000000008000000080000000")  # 128 entries of 128 bytes
    entries = device.read(1024, 16384)
    assert entries[:56] == bytes.fromhex(
        "af3dc60f838472478e793d69d8477de4"  # Linux data
        "bbaa9988ddccffee0011223344556677"  # id of the partition
        "0008000000000000" "ff17000000000000"  # sectors 2048 to 6143
        "0000000000000000"  # no attributes
    )  # fmt: skip
    assert entries[56:68] == "seeds\0".encode("utf-16-le")
    assert int.from_bytes(header[88:92], "little") == zlib.crc32(entries)
    assert int.from_bytes(header[16:20], "little") == zlib.crc32(header[:16] + bytes(4) + header[20:])
    assert device.read(device.size - 512, 92)[24:40] == bytes.fromhex("ff3f0000000000000100000000000000")
    assert device.read(device.size - 512 - 16384, 16384) == entries


@pytest.mark.parametrize("sector", [512, 4096])
def test_reads_back(sector: int) -> None:
    assert FORMAT.read(on_disk(8 * MIB, sector), HERE) == (TABLE, ())
    parts = tuple(
        PartitionEntry(number, number * MIB, MIB, LINUX_TYPE, str(UUID(int=number)), "n" * 36)
        for number in range(1, 129)
    )
    full = Table("gpt", DISK, parts)
    assert FORMAT.read(on_disk(200 * MIB, sector, full), HERE) == (full, ())


@pytest.mark.parametrize("place", ["first", "second"])
def test_every_damaged_byte_is_reported_and_the_other_copy_serves(place: str) -> None:
    end = 8 * MIB
    spans = {"first": [(512, 92), (1024, 200)], "second": [(end - 512, 92), (end - 512 - 16384, 200)]}
    for start, length in spans[place]:
        for offset in range(start, start + length):
            device = on_disk()
            device.write(offset, bytes([device.read(offset, 1)[0] ^ 0x41]))
            table, found = FORMAT.read(device, HERE)
            assert table == TABLE, offset
            assert [finding.rule for finding in found] == ["table-damaged"], offset
            assert f"the {place} copy" in found[0].message


def test_both_copies_lost_is_told_apart_from_no_table() -> None:
    device = on_disk()
    for offset in (512, device.size - 512):
        device.write(offset, bytes(512))
    table, found = FORMAT.read(device, HERE)
    assert table is None and [finding.rule for finding in found] == ["table-damaged"] * 2
    device.write(0, bytes(512))
    assert FORMAT.read(device, HERE) == (None, ())


def test_cut_short_enlarged_overlapping_and_outside() -> None:
    whole = on_disk()
    cut, larger = MemoryDevice(5 * MIB), MemoryDevice(9 * MIB)
    for device in (cut, larger):
        device.write(0, whole.read(0, min(device.size, whole.size)))
    assert [finding.rule for finding in FORMAT.read(cut, HERE)[1]] == ["table-cut-short"]
    assert [finding.rule for finding in FORMAT.read(larger, HERE)[1]] == ["table-not-at-end"]
    rows = ((MIB, 2 * MIB), (2 * MIB, 2 * MIB), (6 * MIB + 512, 9 * MIB))
    bad = Table("gpt", DISK, tuple(
        PartitionEntry(number, start, size, LINUX_TYPE, str(UUID(int=number)))
        for number, (start, size) in enumerate(rows, 1)
    ))  # fmt: skip
    found = FORMAT.read(on_disk(table=bad), HERE)[1]
    assert [finding.rule for finding in found] == ["partitions-overlap", "partition-past-end", "partition-misaligned"]


def test_hostile_headers_stay_bounded() -> None:
    for offset, value in ((80, 0xFFFFFFFF), (84, 0xFFFFFFFF), (84, 3), (72, 1 << 60), (12, 1 << 31), (24, 7)):
        device = on_disk()
        for start in (512, device.size - 512):
            header = bytearray(device.read(start, 92))
            header[offset : offset + 4] = (value & 0xFFFFFFFF).to_bytes(4, "little")
            header[16:20] = bytes(4)
            header[16:20] = zlib.crc32(bytes(header)).to_bytes(4, "little")
            device.write(start, bytes(header))
        table, found = FORMAT.read(device, HERE)
        assert table is None or value == 1 << 60
        assert found and all(finding.level == "error" for finding in found)


@pytest.mark.parametrize("sector", [512, 4096])
def test_both_copies_are_sound_however_little_the_disk_changes(sector: int) -> None:
    """Old and new second copy overlap where a disk gets a few sectors more or less; neither harms the other."""
    for change in (*range(-70, 71), -300, 300, 5000):
        device = on_disk(8 * MIB, sector)
        device.resize(8 * MIB + change * sector)
        FORMAT.follow_end(device, 8 * MIB)
        assert FORMAT.read(device, HERE) == (TABLE, ()), change
        header, end = device.read(device.size - sector, 92), device.size - 33 * 512 if sector == 512 else 0
        at = int.from_bytes(header[72:80], "little") * sector
        assert int.from_bytes(header[88:92], "little") == zlib.crc32(device.read(at, 16384))
        assert int.from_bytes(header[16:20], "little") == zlib.crc32(header[:16] + bytes(4) + header[20:])
        assert at == (end or device.size - 5 * sector)
        stale = [run for run in device.extents(3 * MIB + 1) if device.read(*run).strip(b"\0") and run.end < at]
        assert not stale, change
