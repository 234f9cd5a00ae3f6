"""NTFS: runs packed and unpacked, access rights, and each fault that the checker names."""

from __future__ import annotations

import struct
from uuid import UUID

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from narvet.block.memory import MemoryDevice
from narvet.errors import ImageError
from narvet.filesystems import filesystem
from narvet.filesystems.contract import Options
from narvet.filesystems.ntfs import records as r
from narvet.filesystems.ntfs.attributes import Attribute, file_record, mapping_pairs, protected
from narvet.filesystems.ntfs.geometry import Geometry
from narvet.filesystems.ntfs.parse import Volume, attributes, unprotected, volume_of
from narvet.filesystems.ntfs.security import descriptor, descriptor_hash, fresh, sid_bytes
from narvet.units import KIB, MIB

SIZE = 40 * MIB
NTFS = filesystem("ntfs")
OPTIONS = Options(uuid=UUID("dfffbcdb-06ed-58a1-816e-248d46307df8"), label="Herbarium")


def made() -> tuple[MemoryDevice, Geometry]:
    device, geometry = MemoryDevice(SIZE), NTFS.geometry(SIZE, OPTIONS)
    NTFS.write(device, geometry)
    return device, geometry


def volume(device: MemoryDevice) -> Volume:
    found = volume_of(device)
    assert found is not None
    return found


def told(device: MemoryDevice) -> list[str]:
    """Return the messages of a survey."""
    found = NTFS.read(device, "x")
    assert found is not None
    return [finding.message for finding in found.findings]


def record_place(geometry: Geometry, number: int) -> int:
    return geometry.places["table"][0] * geometry.cluster + number * geometry.record


def change(device: MemoryDevice, geometry: Geometry, number: int, old: bytes, new: bytes) -> None:
    """Replace bytes of a record, its update sequence made anew; in the mirror too, if it lies there."""
    place = record_place(geometry, number)
    data = unprotected(device.read(place, geometry.record), b"FILE", "")
    assert data.count(old) == 1 and len(old) == len(new)
    data = protected(data.replace(old, new), r.FileRecord.size)
    device.write(place, data)
    if number < 4:
        device.write(geometry.places["mirror"][0] * geometry.cluster + number * geometry.record, data)


RUNS = st.lists(st.tuples(st.one_of(st.none(), st.integers(0, 2**40)), st.integers(1, 2**33)), max_size=30)


@settings(max_examples=200, deadline=None)
@given(RUNS)
def test_runs_unpack_to_what_was_packed(runs: list[tuple[int | None, int]]) -> None:
    """Forwards and backwards, with holes; lengths and steps whose upper bit is set take a byte more."""
    wide = Volume(MemoryDevice(0), r.BootSector.of(), 4096, 1 << 60, 1024, 4096)
    pairs = mapping_pairs(runs)
    clusters = sum(count for _, count in runs)
    head = r.AttributeHead.of(type=r.DATA, length=(64 + len(pairs) + 7) // 8 * 8, non_resident=1)
    rest = r.RunsHead.of(highest_vcn=(clusters - 1) % (1 << 64), mapping_pairs_offset=64)
    body = (head.encode() + rest.encode() + pairs).ljust(head.length, b"\0") + b"\xff\xff\xff\xff"
    record = (
        r.FileRecord.of(magic=b"FILE", attrs_offset=48, bytes_in_use=48 + len(body), flags=r.IN_USE).encode() + body
    )
    (found,) = attributes(wide, record.ljust(4096, b"\0"), "x")
    assert list(found.runs) == runs


def test_packed_runs_byte_by_byte() -> None:
    assert mapping_pairs([(0x267, 16), (None, 0x80), (0x200, 1)]) == bytes.fromhex(
        "21" "10" "6702"  # 16 clusters from 0x267
        "02" "8000"  # 128 of nothing: a second byte, or the number would be below zero
        "11" "01" "99"  # one cluster, 0x67 back
        "00"
    )  # fmt: skip


def test_access_rights() -> None:
    """A descriptor by [MS-DTYP]: header, list of what is allowed, owner, group; found by hash and by number."""
    assert sid_bytes("S-1-5-32-544") == bytes.fromhex("01020000000000052000000020020000")
    data = descriptor("S-1-5-18", "S-1-5-18", ())
    assert data == bytes.fromhex(
        "01" "00" "0480" "1c000000" "28000000" "00000000" "14000000"  # revision, self-relative with a list, offsets
        "02" "00" "0800" "0000" "0000"  # an empty list
        "0101" "000000000005" "12000000" "0101" "000000000005" "12000000"
    )  # fmt: skip
    assert descriptor_hash(struct.pack("<III", 1, 0x80000000, 5)) == (5 + ((0x80000000 + 8) << 3 | 4)) & 0xFFFFFFFF
    stream, hashes, numbers = fresh()
    rows = [r.SecurityEntry.decode(entry[20:]) for entry in numbers]
    assert [row.security_id for row in rows] == [0x100, 0x101] and len(hashes) == 2
    for row in rows:
        kept = stream[row.offset : row.offset + row.length]
        assert kept[:20] == row.encode() and descriptor_hash(kept[20:]) == row.hash and row.offset % 16 == 0


def test_records_that_are_not_whole() -> None:
    whole = file_record(5, 5, r.IN_USE, [Attribute(r.DATA, value=b"seeds")], 1024)
    (found,) = attributes(volume(made()[0]), unprotected(whole, b"FILE", "x"), "x")
    assert (found.value, found.type) == (b"seeds", r.DATA)
    torn = whole[:510] + b"\x07\x00" + whole[512:]
    with pytest.raises(ImageError, match="was not written whole"):
        unprotected(torn, b"FILE", "record 5")
    with pytest.raises(ImageError, match="it starts with b'BAAD'"):
        unprotected(b"BAAD" + whole[4:], b"FILE", "record 5")
    there, in_use = volume(made()[0]), r.FileRecord.decode(whole).bytes_in_use
    for length in range(in_use):
        with pytest.raises(ImageError):
            list(attributes(there, whole[:length], "x"))


def test_each_fault_is_named() -> None:
    device, geometry = made()
    assert told(device) == []
    upper = geometry.places["map"][0] * geometry.cluster
    for place, value, message in (
        (84, b"?", "the boot sector and its copy in the last sector differ"),
        (geometry.places["mirror"][0] * geometry.cluster + 100, b"?", "the master file table and its mirror differ"),
        (upper + 200, b"\x01", "files have 632 clusters, the map says 633 are in use"),
        (upper, b"\x7f", "files have 632 clusters, the map says 631 are in use"),
        (geometry.places["secure"][0] * geometry.cluster + 40, b"?", "are not what $Secure says of them"),
        (geometry.places["secure"][0] * geometry.cluster + 256 * KIB + 40, b"?", "and their second copy differ"),
        (record_place(geometry, 5) + 1, b"?", "record 5 is none"),
        (record_place(geometry, 11) + 511, b"?", "record 11 was not written whole"),
    ):
        kept = device.read(place, 1)
        device.write(place, value)
        messages = told(device)
        assert any(message in one for one in messages), (message, messages)
        device.write(place, kept)
    assert told(device) == []


def test_faults_inside_sound_records_are_named() -> None:
    """Records whose update sequence is right, but which do not agree with one another."""
    for number, old, new, message in (
        (8, "$BadClus".encode("utf-16-le"), "$BadClux".encode("utf-16-le"), "names are in folders and not in records"),
        (8, b"\x00\x00\x08\x00\x01\x00", b"\x00\x00\x09\x00\x01\x00", "an entry refers to record 8"),
        (4, struct.pack("<IIQ", 0, 0x100, 0), struct.pack("<IIQ", 0, 0x155, 0), "access rights of number 341"),
        (10, b"\x11\x20\x04", b"\x11\x20\x05", "two files claim the same clusters"),
        (6, b"\x21\x01\x65", b"\x21\x02\x65", "do not add up to its clusters"),
    ):
        device, geometry = made()
        change(device, geometry, number, old, new)
        assert any(message in one for one in told(device)), (message, told(device))


def test_a_volume_in_use_is_only_told_to_be() -> None:
    device, geometry = made()
    about = r.VolumeInformation.of(major_version=3, minor_version=1)
    change(device, geometry, 3, about.encode(), about.but(flags=r.VOLUME_DIRTY).encode())
    found = NTFS.read(device, "x")
    assert found is not None and [finding.rule for finding in found.findings] == ["filesystem-needs-recovery"]
    assert found.label == "Herbarium" and found.features == ("version 3.1",)
