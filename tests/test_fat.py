"""fat32 and exfat: each fault that a survey names, labels, serial numbers, clusters."""

from __future__ import annotations

from typing import Any
from uuid import UUID

import pytest

from narvet.block.memory import MemoryDevice
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import UnfitError, Wishes
from narvet.formats.filesystems.fat.exfat_shape import checksum
from narvet.formats.filesystems.fat.exfat_tree import set_checksum
from narvet.formats.filesystems.fat.fat32_shape import DirEntry
from narvet.ground.units import GIB, KIB, MIB, TIB
from tests.program import HERE

KNOWN_AS = UUID("dfffbcdb-06ed-58a1-816e-248d46307df8")
SIZE = 40 * MIB


def made(name: str, **options: Any) -> tuple[MemoryDevice, Any]:
    device, kind = MemoryDevice(SIZE), filesystem(name)
    new = kind.plan(SIZE, Wishes(uuid=KNOWN_AS, **options))
    new.write(device)
    return device, new


def told(name: str, device: MemoryDevice) -> list[str]:
    found = filesystem(name).read(device, HERE)
    assert found is not None
    return [finding.message for finding in found.findings]


def entries(*values: int) -> bytes:
    return b"".join(value.to_bytes(4, "little") for value in values)


def test_chains_of_fat32() -> None:
    """Files as a guest would lay them: a chain of three clusters and one of one; then each way to break them."""
    end = 0x0FFFFFFF
    for chain, messages in (
        ((4, 5, end, end), []),
        ((4, 5, end, 0x0FFFFFF7), []),  # a cluster that cannot be used
        ((4, 5, end, 5), ["1\u00a0cluster belongs to more than one file"]),
        ((4, 5, 90_000, end), ["1\u00a0entry of the table leads to clusters that do not exist"]),
        ((4, 5, 1, end), ["1\u00a0entry of the table leads to clusters that do not exist"]),
        ((4, 5, 60, end), ["1\u00a0file goes on in clusters marked as free"]),
    ):
        device, new = made("fat32")
        for copy in (0, new.shape.table):
            device.write((new.shape.reserved + copy) * 512 + 12, entries(*chain))
        names = ((b"A", 3, 3), (b"B", 6, 1)) if chain[3] != 0x0FFFFFF7 else ((b"A", 3, 3),)
        rows = (DirEntry(name=name.ljust(11), fst_clus_lo=first, file_size=512 * count) for name, first, count in names)
        device.write(new.shape.heap * 512, b"".join(row.encode() for row in rows))
        found = told("fat32", device)
        assert found[:1] == messages and (messages or not found), chain
        free = filesystem("fat32").read(device, HERE)
        assert free is not None and free.free == (new.shape.clusters - 5) * 512
        runs = list(filesystem("fat32").unused(device))
        assert [start for start, _ in runs] == [(new.shape.heap + 5) * 512]


@pytest.mark.parametrize(
    ("place", "value", "message"),
    [
        (6 * 512 + 40, b"?", "the boot sector and its copy differ"),
        (50, b"\x40", "leaves the reserved sectors"),
        (512, b"?", "the FS information sector is not sound"),
        (32 * 512 + 20, b"\x01", "the two file allocation tables differ"),
        (65, b"\x01", "in use or was not unmounted cleanly"),
        (32 * 512 + 7, b"\x07", "in use or was not unmounted cleanly"),
        (35, b"\x01", "but there are only 41\u00a0943\u00a0040\u00a0B"),
        (13, b"\x40", "too few for FAT32"),
    ],
)
def test_faults_of_fat32(place: int, value: bytes, message: str) -> None:
    device, _ = made("fat32")
    device.write(place, value)
    assert any(message in one for one in told("fat32", device)), told("fat32", device)


def resealed(device: MemoryDevice, place: int, value: bytes) -> None:
    """Change bytes of exFAT's boot sector, and make the region's checksum and copy anew."""
    device.write(place, value)
    region = device.read(0, 11 * 512)
    region += checksum(region, (106, 107, 112)).to_bytes(4, "little") * 128
    device.write(0, region)
    device.write(len(region), region)


@pytest.mark.parametrize(
    ("place", "value", "message"),
    [
        (106, b"\x02", "in use or was not unmounted cleanly"),
        (106, b"\x04", "recorded failures of the medium"),
        (200, b"?", "the boot region does not match its checksum"),
        (6144 + 200, b"?", "the copy of the boot region does not match its checksum"),
        (61440 + 32, b"\x05", "names no allocation bitmap"),
        (61440 + 64, b"\x05", "names no up-case table"),
        (61440 + 84, b"\xff\xff", "the up-case table of 2200 bytes does not lie in the volume"),
        (104 * 512 + 4096, b"?", "the up-case table does not match its checksum"),
        (104 * 512, b"\x03", "1\u00a0cluster of a file is marked as free"),
        (104 * 512, b"\x0f", "1\u00a0cluster is marked as in use, but of no file"),
        (12288 + 16, bytes(4), "the root goes on at 0, which is not a cluster in use"),
        (12288 + 16, entries(4), "goes in circles"),
        (12288 + 8, entries(4), "1\u00a0run of clusters belongs to more than one file"),
    ],
)
def test_faults_of_exfat(place: int, value: bytes, message: str) -> None:
    device, _ = made("exfat")
    assert told("exfat", device) == []
    device.write(place, value)
    assert any(message in one for one in told("exfat", device)), told("exfat", device)


def test_exfat_whose_numbers_lead_elsewhere() -> None:
    """Values that match the checksum and cannot be followed: another kind of bytes, or a finding; never an exception."""
    for place, value, message in (
        (96, b"\xff\xff", "names no allocation bitmap"),  # the root
        (72, entries(0, 1), "but there are only 41\u00a0943\u00a0040\u00a0B"),
        (92, b"\xff\xff\xff\x7f", None),  # more clusters than the table has entries
        (80, b"\x01", None),  # the table inside the boot regions
        (109, b"\x20", None),
    ):
        device, _ = made("exfat")
        resealed(device, place, value)
        found = filesystem("exfat").read(device, HERE)
        assert (found is None) == (message is None), place
        assert found is None or any(message in one.message for one in found.findings if message)


def test_clusters_follow_the_size_and_the_purpose() -> None:
    def cluster(name: str, size: int, **options: Any) -> int:
        return int(filesystem(name).plan(size, Wishes(**options)).shape.unit)

    sizes = (40 * MIB, 260 * MIB, 261 * MIB, 8 * GIB, 8 * GIB + MIB, 17 * GIB, 33 * GIB, 2 * TIB - GIB)
    assert [cluster("fat32", size) for size in sizes] == [
        512, 512, 4 * KIB, 4 * KIB, 8 * KIB, 16 * KIB, 32 * KIB, 32 * KIB
    ]  # fmt: skip
    assert [cluster("exfat", size) for size in (MIB * 200, GIB, 33 * GIB, 20 * TIB)] == [
        4 * KIB, 32 * KIB, 128 * KIB, 512 * KIB
    ]  # fmt: skip
    assert cluster("exfat", GIB, purpose="media") == 128 * KIB and cluster("exfat", GIB, sector_size=4096) == 32 * KIB
    assert cluster("fat32", 10 * GIB, chunk=MIB) == 8 * KIB
    for name, size in (("fat32", GIB), ("exfat", GIB), ("fat32", 600 * MIB)):
        new: Any = filesystem(name).plan(size, Wishes(chunk=4 * MIB))
        assert new.shape.heap * 512 % (4 * MIB) == 0
    for size, options in (
        (32 * MIB, {}),
        (2 * TIB, {}),
        (40 * MIB, {"unit": 4 * KIB}),
        (200 * MIB, {"sector_size": 4096}),
    ):
        with pytest.raises(UnfitError, match="is made from"):
            filesystem("fat32").plan(size, Wishes(**options))  # type: ignore[arg-type]


def test_labels_and_serial_numbers() -> None:
    fat, exfat = filesystem("fat32"), filesystem("exfat")
    assert (fat.stored_label("seeds"), fat.stored_label("käfer"), fat.stored_label("a+b")) == ("SEEDS", None, None)
    assert (exfat.stored_label("Käfer"), exfat.label_length("Käfer")) == ("Käfer", 5)
    assert fat.native_id(KNOWN_AS) == "dfff-bcdb" and exfat.fstab_source("dfff-bcdb") == "UUID=DFFF-BCDB"
    for name, label in (("fat32", "SEEDS"), ("exfat", "Käfer"), ("fat32", ""), ("exfat", "")):
        found = filesystem(name).read(made(name, label=label)[0], HERE)
        assert found is not None and found.label == label
    words = fat.options.of(Wishes(uid=1200, gid=1300, mode=0o2750, purpose="media")).mount_options()
    assert (
        words == ("noatime", "uid=1200", "gid=1300", "dmask=0027", "fmask=0137")
        and fat.options.of(Wishes()).mount_options() == ()
    )


def exfat_folder(new: Any, first: int) -> bytes:
    """The entries of a folder "frames" at cluster `first`, and of a file "a" of two clusters in a row behind it."""
    sets = b""
    for name, attributes, cluster, length, flags in (("frames", 0x10, first, 1, 3), ("a", 0x20, first + 1, 2, 3)):
        entries = bytearray(b"\x85\x02" + bytes(2) + attributes.to_bytes(2, "little") + bytes(26))
        stream = (
            bytes((0xC0, flags, 0, len(name))) + bytes(4) + (length * new.shape.unit).to_bytes(8, "little") + bytes(4)
        )
        entries += stream + cluster.to_bytes(4, "little") + (length * new.shape.unit).to_bytes(8, "little")
        entries += b"\xc1\0" + name.encode("utf-16-le").ljust(30, b"\0")
        entries[2:4] = set_checksum(bytes(entries)).to_bytes(2, "little")
        sets += entries
    return sets


def test_files_of_exfat_are_followed_and_what_is_nobodys_is_not() -> None:
    """A folder and a file in a row, whose table entries mean nothing, beside free ones that mean nothing either."""
    device, new = made("exfat")
    first, sector = new.shape.root + 1, 512
    root = (new.shape.heap + (new.shape.root - 2) * new.shape.per_cluster) * sector
    device.write(root + 96, exfat_folder(new, first))
    device.write(new.shape.heap * sector, bytes([0b00111111]))
    for entry, value in (
        (first, 9000),
        (first + 1, first),
        (first + 2, first),
        (1000, 1001),
        (2000, 1001),
        (1001, 0xFFFFFFFF),
    ):
        device.write(new.shape.fat_offset * sector + 4 * entry, entries(value))
    assert told("exfat", device) == []
    for place, value, message in (
        (root + 96 + 40, b"?", "does not match its checksum"),
        (root + 96 + 52, b"\x07", "does not match its checksum"),
        (new.shape.heap * sector, bytes([0b00011111]), "1\u00a0cluster of a file is marked as free"),
        (new.shape.heap * sector + 40, b"\x10", "1\u00a0cluster is marked as in use, but of no file"),
    ):
        before = device.read(place, len(value))
        device.write(place, value)
        assert any(message in one for one in told("exfat", device)), (place, told("exfat", device))
        device.write(place, before)
    assert told("exfat", device) == []


def test_folders_of_fat32_are_followed() -> None:
    """A folder that starts where it says, a file in it; one wrong first cluster of either is noticed."""
    device, new = made("fat32")
    end, cluster = 0x0FFFFFFF, new.shape.unit
    heap = new.shape.heap * 512

    def entry(name: bytes, attributes: int, first: int, size: int = 0) -> bytes:
        return DirEntry(name=name.ljust(11), attr=attributes, fst_clus_lo=first, file_size=size).encode()

    device.write(heap, entry(b"FRAMES", 0x10, 3))
    device.write(heap + cluster, entry(b".", 0x10, 3) + entry(b"..", 0x10, 0) + entry(b"A", 0x20, 4, 2 * cluster))
    for copy in (0, new.shape.table):
        device.write((new.shape.reserved + copy) * 512 + 12, entries(end, 5, end))
    assert told("fat32", device) == []
    for place, first, message in (
        (heap + 26, 4, "does not start with its entries"),
        (heap + cluster + 26, 7, "says that it lies at 7"),
        (heap + cluster + 64 + 26, 5, "has 512 bytes of clusters"),
        (heap + cluster + 64 + 26, 900, "goes on at 0"),
    ):
        before = device.read(place, 2)
        device.write(place, first.to_bytes(2, "little"))
        assert any(message in one for one in told("fat32", device)), (first, told("fat32", device))
        device.write(place, before)
