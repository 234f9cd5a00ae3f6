"""NTFS: runs packed and unpacked, access rights, and each fault that the checker names."""

from __future__ import annotations

import random
import struct
import time
from contextlib import suppress
from itertools import pairwise
from uuid import UUID

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from narvet.block.memory import MemoryDevice
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import CannotChangeError, Folder, UnfitError, Wishes
from narvet.formats.filesystems.ntfs import FILESYSTEM, NewNtfs
from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.attributes import Attribute, file_record, mapping_pairs, protected
from narvet.formats.filesystems.ntfs.change import edited
from narvet.formats.filesystems.ntfs.compressed import unpacked
from narvet.formats.filesystems.ntfs.folders import mount_value, target_of
from narvet.formats.filesystems.ntfs.indexes import nodes
from narvet.formats.filesystems.ntfs.options import NtfsOptions
from narvet.formats.filesystems.ntfs.parse import Volume, attributes, unprotected, volume_of
from narvet.formats.filesystems.ntfs.security import descriptor_hash, fresh, rights_text, root_descriptor
from narvet.formats.filesystems.ntfs.shape import Shape
from narvet.ground.errors import ImageError
from narvet.ground.sids import sid_bytes
from narvet.ground.units import GIB, KIB, MIB
from narvet.ground.values import replace
from tests.program import HERE

SIZE = 40 * MIB
NTFS = filesystem("ntfs")
OPTIONS = Wishes(uuid=UUID("dfffbcdb-06ed-58a1-816e-248d46307df8"), label="Herbarium")


def plan(size: int, wishes: Wishes) -> NewNtfs:
    return FILESYSTEM.options.of(wishes).plan(size)


def made() -> tuple[MemoryDevice, NewNtfs]:
    device, new = MemoryDevice(SIZE), plan(SIZE, OPTIONS)
    new.write(device)
    return device, new


def volume(device: MemoryDevice) -> Volume:
    found = volume_of(device)
    assert found is not None
    return found


def told(device: MemoryDevice) -> list[str]:
    """Return the messages of a survey."""
    found = NTFS.read(device, HERE)
    assert found is not None
    return [finding.message for finding in found.findings]


def record_place(new: NewNtfs, number: int) -> int:
    return new.places["table"][0] * new.shape.cluster_size + number * new.shape.record_size


def change(device: MemoryDevice, made: NewNtfs, number: int, old: bytes, new: bytes) -> None:
    """Replace bytes of a record, its update sequence made anew; in the mirror too, if it lies there."""
    place = record_place(made, number)
    data = unprotected(device.read(place, made.shape.record_size), b"FILE", "")
    assert data.count(old) == 1 and len(old) == len(new)
    data = protected(data.replace(old, new), r.FileRecord.size)
    device.write(place, data)
    if number < 4:
        device.write(made.places["mirror"][0] * made.shape.cluster_size + number * made.shape.record_size, data)


RUNS = st.lists(st.tuples(st.one_of(st.none(), st.integers(0, 2**40)), st.integers(1, 2**33)), max_size=30)


@settings(max_examples=200, deadline=None)
@given(RUNS)
def test_runs_unpack_to_what_was_packed(runs: list[tuple[int | None, int]]) -> None:
    """Forwards and backwards, with holes; lengths and steps whose upper bit is set take a byte more."""
    wide = Volume(MemoryDevice(0), r.BootSector(), Shape(512, 1 << 63, 4096, 1024, 4096))
    pairs = mapping_pairs(runs)
    clusters = sum(count for _, count in runs)
    head = r.AttributeHead(type=r.DATA, length=(64 + len(pairs) + 7) // 8 * 8, non_resident=1)
    rest = r.RunsHead(highest_vcn=(clusters - 1) % (1 << 64), mapping_pairs_offset=64)
    body = (head.encode() + rest.encode() + pairs).ljust(head.length, b"\0") + b"\xff\xff\xff\xff"
    record = r.FileRecord(magic=b"FILE", attrs_offset=48, bytes_in_use=48 + len(body), flags=r.IN_USE).encode() + body
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
    asked = Wishes(owner_sid="S-1-5-32-545", access=(("S-1-5-32-544", "read"), ("S-1-5-18", "change")))
    data = root_descriptor(NtfsOptions.of(asked))
    assert data == bytes.fromhex(
        "01" "00" "0480" "48000000" "58000000" "00000000" "14000000"  # revision, self-relative with a list, offsets
        "02" "00" "3400" "0200" "0000"  # a list of two entries, 52 bytes
        "00" "03" "1800" "a9001200" "0102" "000000000005" "20000000" "20020000"  # allowed, passed on, may read
        "00" "03" "1400" "bf011300" "0101" "000000000005" "12000000"  # may change
        "0102" "000000000005" "20000000" "21020000"  # the owner
        "0101" "000000000005" "12000000"  # the group
    )  # fmt: skip
    assert rights_text(data) == "O:S-1-5-32-545D:(A;OICI;0x1200a9;;;S-1-5-32-544)(A;OICI;0x1301bf;;;S-1-5-18)"
    assert all(rights_text(data[:length]) is None for length in range(len(data) - 12))
    assert descriptor_hash(struct.pack("<III", 1, 0x80000000, 5)) == (5 + ((0x80000000 + 8) << 3 | 4)) & 0xFFFFFFFF
    stream, hashes, numbers = fresh(NtfsOptions.of(asked))
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
    device, new = made()
    assert told(device) == []
    used = new.used
    upper = new.places["map"][0] * new.shape.cluster_size
    for place, value, message in (
        (84, b"?", "the boot sector and its copy in the last sector differ"),
        (new.places["mirror"][0] * new.shape.cluster_size + 100, b"?", "the master file table and its mirror differ"),
        (upper + 200, b"\x01", f"files have {used} clusters, the map says {used + 1} are in use"),
        (upper, b"\x7f", f"files have {used} clusters, the map says {used - 1} are in use"),
        (new.places["secure"][0] * new.shape.cluster_size + 40, b"?", "are not what $Secure says of them"),
        (new.places["secure"][0] * new.shape.cluster_size + 256 * KIB + 40, b"?", "and their second copy differ"),
        (record_place(new, 5) + 1, b"?", "record 5 is none"),
        (record_place(new, 11) + 511, b"?", "record 11 was not written whole"),
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
        (10, b"\x11\x20\x03", b"\x11\x20\x04", "two files claim the same clusters"),
        (6, b"\x21\x01\x64", b"\x21\x02\x64", "do not add up to its clusters"),
    ):
        device, volume = made()
        change(device, volume, number, old, new)
        assert any(message in one for one in told(device)), (message, told(device))


def test_a_volume_in_use_is_only_told_to_be() -> None:
    device, new = made()
    about = r.VolumeInformation(major_version=3, minor_version=1)
    change(device, new, 3, about.encode(), replace(about, flags=r.VOLUME_DIRTY).encode())
    found = NTFS.read(device, HERE)
    assert found is not None and [finding.rule for finding in found.findings] == ["filesystem-needs-recovery"]
    assert found.label == "Herbarium" and found.features == ("version 3.1",)


@settings(max_examples=150, deadline=None)
@given(st.lists(st.integers(12, 75).map(lambda eighths: 8 * eighths), max_size=400))
def test_a_tree_holds_every_entry_once_in_order(lengths: list[int]) -> None:
    """Nodes fill their blocks, none is empty but the only one, and walking them gives every entry, ascending."""
    made = nodes(lengths)

    def walk(number: int) -> list[int]:
        node = made[number]
        if not node.below:
            return list(node.entries)
        assert len(node.below) == len(node.entries) + 1 and all(below < number for below in node.below)
        found = walk(node.below[0])
        for key, below in zip(node.entries, node.below[1:], strict=True):
            found += [key, *walk(below)]
        return found

    assert walk(len(made) - 1) == list(range(len(lengths)))
    for node in made:
        size = sum(lengths[key] + 8 * bool(node.below) for key in node.entries) + 16 + 8 * bool(node.below)
        assert size <= 4096 - 64 and (node.entries or len(made) == 1 or node.below)


def test_folders_that_volumes_are_mounted_in() -> None:
    """One, some in folders of folders, and thousands; whoever reads the volume finds all of them, and nothing wrong."""
    one = UUID("5f0b9a3e-3d2f-4f6a-9c11-0b2c6a526f0e")
    few = tuple(Folder(path, one) for path in (("frames",), ("Bilder", "Köpfe"), ("bilder", "old", "x" * 255)))
    many = tuple(Folder((f"folder {number % 7}", f"{number:04} {'y' * (number % 200)}"), one) for number in range(3000))
    for folders in ((Folder(("frames",), one),), few, many):
        for cluster in (512, 4 * KIB, 64 * KIB):
            device = MemoryDevice(SIZE)
            options = Wishes(uuid=one, folders=folders, unit=cluster, owner_sid="S-1-5-32-544")
            new = plan(SIZE, options)
            new.write(device)
            found = NTFS.read(device, HERE)
            assert found is not None and found.findings == ()
            assert {path.upper() for path, _ in found.links} == {
                "\\".join(["", *folder.path]).upper() for folder in folders
            }
            assert {target for _, target in found.links} == {f"\\??\\Volume{{{one}}}\\"}
            assert found.free == new.capacity().free
            assert found.rights.startswith("O:S-1-5-32-544D:(A;OICI;0x1f01ff;;;S-1-5-32-544)")
    with pytest.raises(UnfitError, match="at most 4096 folders, not with 4097"):
        plan(SIZE, Wishes(folders=tuple(Folder((str(number),), one) for number in range(4097))))


def test_a_mount_point_byte_by_byte() -> None:
    value = mount_value(UUID("5f0b9a3e-3d2f-4f6a-9c11-0b2c6a526f0e"))
    target = "\\??\\Volume{5f0b9a3e-3d2f-4f6a-9c11-0b2c6a526f0e}\\".encode("utf-16-le")
    assert value == bytes.fromhex(
        "030000a0" "6e00" "0000"  # a mount point, 110 bytes
        "0000" "6200" "6400" "0000"  # where the target lies and its length, then those of an empty name to be shown
    ) + target + bytes(4)  # fmt: skip
    assert target_of(value) == target.decode("utf-16-le")
    assert all(target_of(value[:length]) is None for length in range(len(value)))


def test_wild_bytes_in_records_indexes_and_rights_stay_bounded() -> None:
    """Hundreds of wild values in the table, indexes of several levels, $Secure: findings, never an exception or a wait."""
    dice, device = random.Random(7), MemoryDevice(SIZE)
    folders = tuple(Folder((f"f{number % 3}", f"{number:03}"), UUID(int=number)) for number in range(120))
    new = plan(SIZE, Wishes(folders=folders))
    new.write(device)
    names = ("table", "root", "reparse", "secure", "folder 64")
    places = [
        new.places[name][0] * new.shape.cluster_size + offset
        for name in names
        for offset in range(0, min(new.places[name][1], 200 * KIB), 4)
        if device.read(new.places[name][0] * new.shape.cluster_size + offset, 4) != bytes(4)
    ]
    start, told = time.monotonic(), 0
    for _ in range(600):
        kept = []
        for place in dice.sample(places, dice.randrange(1, 4)):
            kept.append((place, device.read(place, 4)))
            wild = dice.choice((0, 1, 0x18, 0xFFFF, 0xFFFFFFFF, 0x7FFFFFFF, dice.getrandbits(32)))
            device.write(place, wild.to_bytes(4, "little"))
        found = NTFS.read(device, HERE)
        told += found is None or bool(found.findings)
        for place, data in reversed(kept):
            device.write(place, data)
    assert time.monotonic() - start < 120 and told > 300
    found = NTFS.read(device, HERE)
    assert found is not None and found.findings == () and len(found.links) == 120


@settings(max_examples=60, deadline=None)
@given(
    st.integers(8 * MIB, 40 * GIB).map(lambda size: size // 512 * 512),
    st.sampled_from((None, *(512 << shift for shift in range(13)))),
    st.sampled_from((512, 4096)),
    st.lists(st.text("abcÄÖÜß 種-_", min_size=1, max_size=60).map(str.strip).filter(bool), max_size=12),
)
def test_any_volume_is_laid_out_without_overlap_and_reads_back_sound(
    size: int, block: int | None, sector: int, names: list[str]
) -> None:
    """At any size, cluster, sector and with any folders: places apart, inside, all bytes accounted for, no finding."""
    assume(block is None or block in NTFS.units(sector))
    folders = tuple(Folder(("mounts", name), UUID(int=number)) for number, name in enumerate(names, 1))
    options = Wishes(uuid=UUID(int=7), sector_size=sector, unit=block, folders=folders)
    try:
        new = plan(size // sector * sector, options)
    except UnfitError:
        assert size < 100 * MIB or size > ((1 << 32) - 1) * (block or 4096)
        return
    spans = sorted((start, start + new.taken(name)) for name, (start, _) in new.places.items())
    assert spans[0][0] == 0 and spans[-1][1] <= new.shape.clusters
    assert all(end <= start for (_, end), (start, _) in pairwise(spans))
    promised = new.capacity()
    assert promised.available + sum(loss.size for loss in promised.losses) == new.size
    device = MemoryDevice(new.size, sector)
    new.write(device)
    assert sum(run.length for run in device.extents()) <= new.footprint()
    found = NTFS.read(device, HERE)
    assert found is not None and found.findings == () and (found.total, found.free) == (promised.total, promised.free)
    assert {path.upper() for path, _ in found.links} == {f"\\mounts\\{name}".upper() for name in names}


# [MS-XCA], section 3.3: the example of LZNT1.
PACKED = bytes.fromhex(
    "38b08846232000204720410010a24701a045204400084501507900c045200524138805b4024a44ef0358028c091601484500be009e0004011890"
    "00"
)
NOTES = (
    b"F# F# G A A G F# E D D E F# F# E E F# F# G A A G F# E D D E F# E D D E E F# D E F# G F# D E F# G F# E D E A F# F# G A A G "
    b"F# E D D E F# E D D\0"
)


def test_packed_content_is_read_by_the_published_example() -> None:
    assert unpacked(PACKED, 4096) == NOTES and unpacked(PACKED, 20) == NOTES[:20]
    plain = bytes(range(200)) * 30
    chunks = b"".join(
        struct.pack("<H", len(plain[at : at + 4096]) - 1 | 0x3000) + plain[at : at + 4096]
        for at in range(0, 6000, 4096)
    )
    assert unpacked(chunks, 1 << 16) == plain
    for cut in range(1, len(PACKED)):
        with suppress(ImageError):
            unpacked(PACKED[:cut], 4096)
    dice = random.Random(4)
    for _ in range(3000):
        wild = bytearray(PACKED)
        wild[dice.randrange(len(wild))] = dice.randrange(256)
        with suppress(ImageError):
            assert len(unpacked(bytes(wild), 1 << 16)) <= 1 << 16


def test_a_file_with_packed_plain_and_missing_units_is_read() -> None:
    """Of three units one is packed into a cluster, one is a hole, one is plain: read alike from anywhere in them."""
    device = MemoryDevice(SIZE)
    plan(SIZE, OPTIONS).write(device)
    tree, plain = edited(device, 1772409600), random.Random(8).randbytes(1 << 16)
    tree.replace(tree.root, "packed", b"x" * (17 << 12))
    node = tree.look_up(tree.root, "packed")
    assert node is not None
    first = tree.held_of(node).get(r.DATA)
    assert first is not None and first.runs[0][0] is not None and len(first.runs) == 1
    start = first.runs[0][0]
    one = struct.pack("<HB", 0xB003, 2) + b"A" + struct.pack("<H", 0xFFC)  # a letter, and that again to the end
    device.write(start << 12, b"".join(one for _ in range(16)).ljust(1 << 12, b"\0"))
    device.write(start + 1 << 12, plain)
    pairs = mapping_pairs([(start, 1), (None, 15), (None, 16), (start + 1, 16)])
    head = r.AttributeHead(type=r.DATA, length=0, non_resident=1, name_offset=64, flags=1)
    size = 3 << 16
    runs = r.RunsHead(
        highest_vcn=47, mapping_pairs_offset=64, compression_unit=4, allocated_size=size, data_size=size - 9,
        initialized_size=size - 9,
    )  # fmt: skip
    made = (head.encode() + runs.encode() + pairs).ljust(-(-(64 + len(pairs)) // 8) * 8, b"\0")
    made = made[:4] + len(made).to_bytes(4, "little") + made[8:]
    tree._put_attributes(node.number, lambda found: found.type == r.DATA, [lambda _: made])
    node = tree.look_up(tree.root, "PACKED")
    assert node is not None and node.size == size - 9
    wanted = (b"A" * (1 << 16) + bytes(1 << 16) + plain)[:-9]
    dice = random.Random(9)
    for _ in range(60):
        place, length = dice.randrange(size), dice.randrange(1 << 17)
        assert tree.read(node, place, length) == wanted[place : place + length]
    assert [tuple(run) for run in tree.stored(node)] == [(0, 1 << 16), (2 << 16, (1 << 16) - 9)]
    with pytest.raises(CannotChangeError, match="compressed"):
        tree.replace(tree.root, "packed", b"new")
