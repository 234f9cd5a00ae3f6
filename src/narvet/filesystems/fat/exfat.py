"""exFAT, as its published specification (exFAT File System Specification, revision 1.00) describes it.

The cluster heap starts on a multiple of 1 MiB, or of the storage's chunk, wherever the volume is large enough for that.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice, Extent
from narvet.filesystems import told
from narvet.filesystems.contract import Capacity, FilesystemFacts, Loss, Options, UnfitError
from narvet.filesystems.fat import common
from narvet.filesystems.fat.clusters import Chains, TooManyError, Volume, tree_faults
from narvet.filesystems.fat.common import FIRST_CLUSTER, Portable, serial, serial_text
from narvet.filesystems.fat.exfat_tree import LARGEST_FOLDER, items_of
from narvet.findings import Finding
from narvet.records import Record, at
from narvet.units import GIB, KIB, MIB, TIB, align_up, show_both
from narvet.upcase import UNITS, capitals

BOOT_SECTORS = 12  # of the boot region, which lies there twice
MOST_CLUSTERS = (1 << 32) - 11
BAD, END = 0xFFFFFFF7, 0xFFFFFFFF
_UNITS = tuple(512 << shift for shift in range(17))
# Cluster by the size of the volume up to which it serves; four times that for few, large files.
_CLUSTERS = ((256 * MIB, 4 * KIB), (32 * GIB, 32 * KIB), (16 * TIB, 128 * KIB), (1 << 63, 512 * KIB))
_EXTENDED = 0xAA550000
_UNSUMMED = (106, 107, 112)  # bytes of the boot sector that change in use
_DIRTY, _FAILED = 2, 4
_LARGEST_UPCASE = 2 * UNITS


class BootSector(Record, title="exfat boot sector", size=512):
    """Section 3.1."""

    jump_boot: bytes = at(0, "3s", "", "EB 76 90")
    file_system_name: bytes = at(3, "8s", "", "'EXFAT   '")
    must_be_zero: bytes = at(11, "53s", "", "zero, so that nobody takes it for FAT")
    partition_offset: int = at(64, "u64", "sectors", "before the volume")
    volume_length: int = at(72, "u64", "sectors", "of the volume")
    fat_offset: int = at(80, "u32", "sectors", "of the table")
    fat_length: int = at(84, "u32", "sectors", "of one table")
    cluster_heap_offset: int = at(88, "u32", "sectors", "of the first cluster")
    cluster_count: int = at(92, "u32", "clusters", "")
    first_cluster_of_root: int = at(96, "u32", "cluster", "")
    volume_serial_number: int = at(100, "u32", "", "")
    file_system_revision: int = at(104, "u16", "", "0x0100")
    volume_flags: int = at(106, "u16", "", "2 in use, 4 failures seen")
    bytes_per_sector_shift: int = at(108, "u8", "", "9 to 12")
    sectors_per_cluster_shift: int = at(109, "u8", "", "up to 25 less that")
    number_of_fats: int = at(110, "u8", "", "1")
    drive_select: int = at(111, "u8", "", "0x80")
    percent_in_use: int = at(112, "u8", "", "255 if unknown")
    reserved: bytes = at(113, "7s", "", "")
    boot_code: bytes = at(120, "390s", "", "")
    boot_signature: int = at(510, "u16", "", "0xAA55")


class BitmapEntry(Record, title="exfat allocation bitmap entry", size=32):
    """Section 7.1."""

    entry_type: int = at(0, "u8", "", "0x81")
    bitmap_flags: int = at(1, "u8", "", "0: the first")
    reserved: bytes = at(2, "18s", "", "")
    first_cluster: int = at(20, "u32", "cluster", "")
    data_length: int = at(24, "u64", "bytes", "")


class UpcaseEntry(Record, title="exfat up-case table entry", size=32):
    """Section 7.2."""

    entry_type: int = at(0, "u8", "", "0x82")
    reserved1: bytes = at(1, "3s", "", "")
    table_checksum: int = at(4, "u32", "", "")
    reserved2: bytes = at(8, "12s", "", "")
    first_cluster: int = at(20, "u32", "cluster", "")
    data_length: int = at(24, "u64", "bytes", "")


class LabelEntry(Record, title="exfat volume label entry", size=32):
    """Section 7.3; a volume without a label has the type's in-use bit clear."""

    entry_type: int = at(0, "u8", "", "0x83")
    character_count: int = at(1, "u8", "", "0 to 11")
    volume_label: str = at(2, "utf16*11", "", "")
    reserved: bytes = at(24, "8s", "", "")


@dataclass(frozen=True)
class Geometry:
    """Where everything lies, in sectors of the disk and in clusters; `size` is bytes."""

    size: int
    options: Options
    per_cluster: int
    fat_offset: int
    fat_length: int
    heap: int
    clusters: int
    bitmap_clusters: int
    upcase_clusters: int

    @property
    def cluster(self) -> int:
        """Bytes of a cluster."""
        return self.per_cluster * self.options.sector

    @property
    def upcase(self) -> int:
        """The first cluster of the up-case table, behind the bitmap."""
        return FIRST_CLUSTER + self.bitmap_clusters

    @property
    def root(self) -> int:
        """The cluster of the root, behind the up-case table."""
        return self.upcase + self.upcase_clusters

    @property
    def used(self) -> int:
        """Clusters in use."""
        return self.root + 1 - FIRST_CLUSTER


class Exfat(Portable):
    """The filesystem behind `filesystem = "exfat"`."""

    name = "exfat"
    mount_type = "exfat"
    least = 2 * MIB
    most = 64 * TIB

    def units(self, sector: int) -> tuple[int, ...]:
        """Return the cluster sizes."""
        return tuple(unit for unit in _UNITS if unit >= sector)

    def label_length(self, label: str) -> int:
        """Return the UTF-16 units of a label."""
        return len(label.encode("utf-16-le")) // 2

    def geometry(self, size: int, options: Options) -> Geometry:
        """Work out table, heap and clusters."""
        cluster = options.block or _usual(size, options)
        if not self.least <= size <= self.most or size // cluster > MOST_CLUSTERS:
            most = min(self.most, MOST_CLUSTERS * cluster)
            bounds = f"from {show_both(self.least)} to {show_both(most)}"
            raise UnfitError(f"exfat is made {bounds}, not at {show_both(size)}", self.least, most)
        shape = _shape(size, options, cluster // options.sector)
        if shape.clusters < shape.used + 1:
            raise UnfitError(f"{show_both(size)} do not hold the metadata of exfat", self.least, self.most)
        return shape

    def capacity(self, geometry: Geometry) -> Capacity:
        """Return what the guest will report."""
        sector, cluster = geometry.options.sector, geometry.cluster
        free = (geometry.clusters - geometry.used) * cluster
        tail = geometry.size - geometry.heap * sector - geometry.clusters * cluster
        losses = (
            ("boot regions, file allocation table", geometry.heap * sector),
            ("allocation bitmap", geometry.bitmap_clusters * cluster),
            ("up-case table", geometry.upcase_clusters * cluster),
            ("root folder", cluster),
            ("too short for a cluster", tail),
        )
        total = geometry.clusters * cluster
        return Capacity(total, free, free, tuple(Loss(what, size) for what, size in losses if size))

    def footprint(self, geometry: Geometry) -> int:
        """Return boot regions, the starts of table and bitmap, the up-case table and the root."""
        spread = 4 * (geometry.used + FIRST_CLUSTER) + geometry.used // 8 + len(upcase_table())
        return 2 * BOOT_SECTORS * geometry.options.sector + spread + 6 * max(4 * KIB, geometry.options.sector)

    def breakpoints(self, options: Options) -> tuple[int, ...]:
        """Return the sizes at which clusters or alignment change."""
        del options
        return (self.least, 64 * MIB, *(upto + 1 for upto, _ in _CLUSTERS[:-1]), self.most)

    def write(self, device: BlockDevice, geometry: Geometry) -> None:
        """Write root, up-case table, bitmap and table, then the boot regions, the first one last."""
        sector, cluster = geometry.options.sector, geometry.cluster
        heap = geometry.heap * sector
        table = upcase_table()
        device.write(heap + (geometry.root - FIRST_CLUSTER) * cluster, _root(geometry, table))
        device.write(heap + (geometry.upcase - FIRST_CLUSTER) * cluster, table)
        bits = np.ones(geometry.used, dtype=np.uint8)
        device.write(heap, np.packbits(bits, bitorder="little").tobytes())
        device.write(geometry.fat_offset * sector, _table(geometry).tobytes())
        region = _boot_region(geometry)
        for start in (BOOT_SECTORS, 0):
            device.write(start * sector, region)

    def read(self, device: BlockDevice, where: str, *, deep: bool = True) -> FilesystemFacts | None:
        """Return what is found on a device that is not trusted."""
        boot = _boot_of(device)
        if boot is None:
            return None
        sector = 1 << boot.bytes_per_sector_shift
        cluster = sector << boot.sectors_per_cluster_shift
        known_as, size = serial_text(boot.volume_serial_number), boot.volume_length * sector
        needed = boot.cluster_heap_offset * sector + boot.cluster_count * cluster
        if max(size, needed) > device.size:
            found = (told.past_end(where, max(size, needed), device.size),)
            return FilesystemFacts("exfat", known_as, "", size, 0, 0, cluster, findings=found)
        findings = list(_boot_findings(device, boot, where))
        label, used, said = _inside(device, boot, where, deep=deep)
        total = boot.cluster_count * cluster
        return FilesystemFacts(
            "exfat", known_as, label, size, total, total - used * cluster, cluster, findings=(*findings, *said)
        )

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield the runs of free clusters by the bitmap."""
        boot = _boot_of(device)
        place = _bitmap_place(device, boot) if boot else None
        if boot is None or place is None:
            return
        sector = 1 << boot.bytes_per_sector_shift
        heap, cluster = boot.cluster_heap_offset * sector, sector << boot.sectors_per_cluster_shift
        taken = _bitmap(device, boot, place)
        for first, end in common.free_between(taken, boot.cluster_count):
            yield Extent(heap + first * cluster, (end - first) * cluster)


FILESYSTEM = Exfat()


def _usual(size: int, options: Options) -> int:
    unit = next(unit for upto, unit in _CLUSTERS if size <= upto)
    return max(unit * (4 if options.purpose == "media" and size > 256 * MIB else 1), options.sector)


def _shape(size: int, options: Options, per_cluster: int) -> Geometry:
    sector = options.sector
    total = size // sector
    unit = max((options.chunk or (MIB if size >= 64 * MIB else 4 * KIB)) // sector, 1)
    first = align_up(2 * BOOT_SECTORS, max(4 * KIB // sector, 1))
    length = -(-(((total - first) // per_cluster + FIRST_CLUSTER) * 4) // sector)
    heap = align_up(first + length, unit)
    clusters = max(total - heap, 0) // per_cluster
    cluster = per_cluster * sector
    bitmap = max(-(-clusters // (8 * cluster)), 1)
    upcase = -(-len(upcase_table()) // cluster)
    return Geometry(size, options, per_cluster, first, length, heap, clusters, bitmap, upcase)


@cache
def upcase_table() -> bytes:
    """Return the up-case table, runs of units that are their own capitals packed (section 7.2.5.1)."""
    table, packed, index = capitals(), list[int](), 0
    while index < UNITS:
        end = index
        while end < UNITS and table[end] == end:
            end += 1
        if end - index > 2 or end == UNITS:
            packed += [0xFFFF, min(end - index, 0xFFFF)]
            index = end
        else:
            packed.append(table[index])
            index += 1
    return struct.pack(f"<{len(packed)}H", *packed)


def checksum(data: bytes, left_out: tuple[int, ...] = ()) -> int:
    """Return the rotating sum of the specification (figures 1 and 3)."""
    total = 0
    for index, byte in enumerate(data):
        if index not in left_out:
            total = ((total & 1) << 31 | total >> 1) + byte & 0xFFFFFFFF
    return total


def _table(geometry: Geometry) -> NDArray[Any]:
    """Return the start of the file allocation table: bitmap, up-case table and root, each in a row."""
    table = np.arange(1, geometry.root + 2, dtype="<u4")
    table[0], table[1] = 0xFFFFFFF8, END
    for last in (geometry.upcase - 1, geometry.root - 1, geometry.root):
        table[last] = END
    return table


def _root(geometry: Geometry, table: bytes) -> bytes:
    label, bytes_of_bitmap = geometry.options.label, -(-geometry.clusters // 8)
    length = len(label.encode("utf-16-le")) // 2
    entries = (
        LabelEntry.of(entry_type=0x83 if label else 0x03, character_count=length, volume_label=label),
        BitmapEntry.of(entry_type=0x81, first_cluster=FIRST_CLUSTER, data_length=bytes_of_bitmap),
        UpcaseEntry.of(
            entry_type=0x82, table_checksum=checksum(table), first_cluster=geometry.upcase, data_length=len(table)
        ),
    )
    return b"".join(entry.encode() for entry in entries)


def _boot_region(geometry: Geometry) -> bytes:
    """Return the boot region: boot sector, extended ones, parameters, and their checksum over a whole sector."""
    options, sector = geometry.options, geometry.options.sector
    boot = BootSector.of(
        jump_boot=b"\xeb\x76\x90",
        file_system_name=b"EXFAT   ",
        partition_offset=options.start // sector,
        volume_length=geometry.size // sector,
        fat_offset=geometry.fat_offset,
        fat_length=geometry.fat_length,
        cluster_heap_offset=geometry.heap,
        cluster_count=geometry.clusters,
        first_cluster_of_root=geometry.root,
        volume_serial_number=serial(options.uuid),
        file_system_revision=0x0100,
        bytes_per_sector_shift=sector.bit_length() - 1,
        sectors_per_cluster_shift=geometry.per_cluster.bit_length() - 1,
        number_of_fats=1,
        drive_select=0x80,
        percent_in_use=geometry.used * 100 // geometry.clusters,
        boot_code=b"\xf4" * 390,
        boot_signature=0xAA55,
    )
    extended = _EXTENDED.to_bytes(4, "little").rjust(sector, b"\0")
    region = boot.encode().ljust(sector, b"\0") + 8 * extended + 2 * bytes(sector)
    return region + checksum(region, _UNSUMMED).to_bytes(4, "little") * (sector // 4)


def _boot_of(device: BlockDevice) -> BootSector | None:
    """Return the boot sector of an exFAT, None where there is none whose numbers can be followed."""
    if device.size < BootSector.size:
        return None
    boot = BootSector.decode(device.read(0, BootSector.size))
    sane = (
        boot.file_system_name == b"EXFAT   "
        and boot.boot_signature == 0xAA55
        and not any(boot.must_be_zero)
        and 9 <= boot.bytes_per_sector_shift <= 12
        and boot.sectors_per_cluster_shift <= 25 - boot.bytes_per_sector_shift
        and 0 < boot.cluster_count <= MOST_CLUSTERS
        and boot.number_of_fats in (1, 2)
        and (boot.cluster_count + FIRST_CLUSTER) * 4 <= boot.fat_length << boot.bytes_per_sector_shift
        and boot.fat_offset >= 2 * BOOT_SECTORS
        and boot.fat_offset + boot.fat_length <= boot.cluster_heap_offset
    )
    return boot if sane else None


def _boot_findings(device: BlockDevice, boot: BootSector, where: str) -> Iterator[Finding]:
    sector = 1 << boot.bytes_per_sector_shift
    for name, start in (("", 0), ("copy of the ", BOOT_SECTORS)):
        region = device.read(start * sector, BOOT_SECTORS * sector)
        kept, body = region[-sector:], region[:-sector]
        if checksum(body, _UNSUMMED).to_bytes(4, "little") * (sector // 4) != kept:
            yield told.damaged(where, f"the {name}boot region does not match its checksum")
    if boot.volume_flags & _DIRTY:
        yield told.in_use(where)
    if boot.volume_flags & _FAILED:
        yield told.damaged(where, "a guest has recorded failures of the medium in it")


def _place(boot: BootSector, first_cluster: int, length: int) -> int | None:
    """Return the byte at which `length` bytes from a cluster on lie, None where they leave the heap."""
    sector = 1 << boot.bytes_per_sector_shift
    cluster = sector << boot.sectors_per_cluster_shift
    index = first_cluster - FIRST_CLUSTER
    inside = 0 <= index <= boot.cluster_count - -(-length // cluster)
    return boot.cluster_heap_offset * sector + index * cluster if inside and length else None


def _root_entries(device: BlockDevice, boot: BootSector) -> Iterator[bytes]:
    """Yield the entries of the root's first cluster, at most 1 MiB of them."""
    cluster = 1 << boot.bytes_per_sector_shift + boot.sectors_per_cluster_shift
    place = _place(boot, boot.first_cluster_of_root, cluster)
    data = b"" if place is None else device.read(place, min(cluster, MIB))
    for offset in range(0, len(data), 32):
        if data[offset] == 0:
            return
        yield data[offset : offset + 32]


def _bitmap_place(device: BlockDevice, boot: BootSector) -> int | None:
    """Return the byte at which the allocation bitmap lies, None where it is not where and as it should be."""
    entry = next((BitmapEntry.decode(data) for data in _root_entries(device, boot) if data[0] == 0x81), None)
    if entry is None or entry.data_length != -(-boot.cluster_count // 8):
        return None
    return _place(boot, entry.first_cluster, entry.data_length)


def _bitmap(device: BlockDevice, boot: BootSector, place: int) -> Iterator[tuple[int, NDArray[np.bool_]]]:
    """Yield the bits of the clusters that may be in use, in parts, with the index of their first."""
    for offset, data in common.pieces(device, place, -(-boot.cluster_count // 8)):
        bits = np.unpackbits(np.frombuffer(data, dtype=np.uint8), bitorder="little")
        yield 8 * offset, bits[: boot.cluster_count - 8 * offset].astype(np.bool_)


def _inside(device: BlockDevice, boot: BootSector, where: str, *, deep: bool) -> tuple[str, int, list[Finding]]:
    """Return label, clusters in use, and what is wrong with bitmap, up-case table and chains."""
    label = ""
    upcase: UpcaseEntry | None = None
    for data in _root_entries(device, boot):
        if data[0] == 0x83:
            entry = LabelEntry.decode(data)
            label = entry.volume_label[: entry.character_count]
        elif data[0] == 0x82:
            upcase = UpcaseEntry.decode(data)
    place = _bitmap_place(device, boot)
    if place is None:
        return label, 0, [told.damaged(where, "the root names no allocation bitmap that fits the volume")]
    used = sum(int(bits.sum()) for _, bits in _bitmap(device, boot, place))
    if not deep:
        return label, used, []
    said = [told.damaged(where, fault) for fault in _upcase_faults(device, boot, upcase)]
    return label, used, [*said, *_tree_findings(device, boot, place, where)]


def _tree_findings(device: BlockDevice, boot: BootSector, bitmap: int, where: str) -> Iterator[Finding]:
    """Yield what is wrong with the folders, and with what they claim; a note where there is too much to check."""
    start, count = boot.fat_offset << boot.bytes_per_sector_shift, boot.cluster_count + FIRST_CLUSTER
    table = common.whole_table(device, start, count, 0xFFFFFFFF)
    if not len(table):
        yield told.not_checked(where, f"it has {boot.cluster_count} clusters, more than are checked")
        return
    sector = 1 << boot.bytes_per_sector_shift
    heap, cluster = boot.cluster_heap_offset * sector, sector << boot.sectors_per_cluster_shift

    def used(low: int, high: int) -> NDArray[np.bool_]:
        start, end = (low - FIRST_CLUSTER) // 8, -(-(high - FIRST_CLUSTER) // 8)
        bits = np.unpackbits(np.frombuffer(device.read(bitmap + start, end - start), np.uint8), bitorder="little")
        return bits[low - FIRST_CLUSTER - 8 * start :][: high - low].astype(np.bool_)

    def read(first: int, length: int) -> bytes:
        return device.read(heap + (first - FIRST_CLUSTER) * cluster, length * cluster)

    chains, root = Chains(table, BAD), boot.first_cluster_of_root
    volume = Volume(chains, used, read, root, clean=not boot.volume_flags & _DIRTY)
    try:
        for fault in tree_faults(volume, items_of(chains, cluster, root), LARGEST_FOLDER):
            yield told.damaged(where, fault)
    except TooManyError:
        yield told.not_checked(where, "it has more files than are checked")


def _upcase_faults(device: BlockDevice, boot: BootSector, entry: UpcaseEntry | None) -> Iterator[str]:
    if entry is None:
        yield "the root names no up-case table"
        return
    place = _place(boot, entry.first_cluster, entry.data_length) if entry.data_length <= _LARGEST_UPCASE else None
    if place is None:
        yield f"the up-case table of {entry.data_length} bytes does not lie in the volume"
    elif checksum(device.read(place, entry.data_length)) != entry.table_checksum:
        yield "the up-case table does not match its checksum"
