"""exFAT, as its published specification (exFAT File System Specification, revision 1.00) describes it.

The cluster heap starts on a multiple of 1 MiB, or of the storage's chunk, where the volume is large enough for that.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import Capacity, FilesystemState, Loss, UnfitError
from narvet.formats.filesystems.fat import common
from narvet.formats.filesystems.fat.clusters import Chains, TooManyError, Volume, tree_faults
from narvet.formats.filesystems.fat.common import FIRST_CLUSTER, Portable, PortableOptions, serial, serial_text
from narvet.formats.filesystems.fat.exfat_tree import LARGEST_FOLDER, items_of
from narvet.formats.filesystems.upcase import UNITS, capitals
from narvet.ground.extents import Extent
from narvet.ground.findings import Finding, Place
from narvet.ground.records import Record, cluster32, raw, u8, u16, u32, u64, utf16
from narvet.ground.rules import filesystems as rules
from narvet.ground.units import GIB, KIB, MIB, TIB, Cluster, align_up, outside, show_both

LEAST = 2 * MIB
MOST = 64 * TIB
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

    jump_boot: bytes = raw(0, 3, "", "EB 76 90")
    file_system_name: bytes = raw(3, 8, "", "'EXFAT   '")
    must_be_zero: bytes = raw(11, 53, "", "zero, so that nobody takes it for FAT")
    partition_offset: int = u64(64, "sectors", "before the volume")
    volume_length: int = u64(72, "sectors", "of the volume")
    fat_offset: int = u32(80, "sectors", "of the table")
    fat_length: int = u32(84, "sectors", "of one table")
    cluster_heap_offset: int = u32(88, "sectors", "of the first cluster")
    cluster_count: int = u32(92, "clusters", "")
    first_cluster_of_root: Cluster = cluster32(96)
    volume_serial_number: int = u32(100, "", "")
    file_system_revision: int = u16(104, "", "0x0100")
    volume_flags: int = u16(106, "", "2 in use, 4 failures seen")
    bytes_per_sector_shift: int = u8(108, "", "9 to 12")
    sectors_per_cluster_shift: int = u8(109, "", "up to 25 less that")
    number_of_fats: int = u8(110, "", "1")
    drive_select: int = u8(111, "", "0x80")
    percent_in_use: int = u8(112, "", "255 if unknown")
    reserved: bytes = raw(113, 7, "", "")
    boot_code: bytes = raw(120, 390, "", "")
    boot_signature: int = u16(510, "", "0xAA55")


class BitmapEntry(Record, title="exfat allocation bitmap entry", size=32):
    """Section 7.1."""

    entry_type: int = u8(0, "", "0x81")
    bitmap_flags: int = u8(1, "", "0: the first")
    reserved: bytes = raw(2, 18, "", "")
    first_cluster: Cluster = cluster32(20)
    data_length: int = u64(24, "bytes", "")


class UpcaseEntry(Record, title="exfat up-case table entry", size=32):
    """Section 7.2."""

    entry_type: int = u8(0, "", "0x82")
    reserved1: bytes = raw(1, 3, "", "")
    table_checksum: int = u32(4, "", "")
    reserved2: bytes = raw(8, 12, "", "")
    first_cluster: Cluster = cluster32(20)
    data_length: int = u64(24, "bytes", "")


class LabelEntry(Record, title="exfat volume label entry", size=32):
    """Section 7.3; a volume without a label has the type's in-use bit clear."""

    entry_type: int = u8(0, "", "0x83")
    character_count: int = u8(1, "", "0 to 11")
    volume_label: str = utf16(2, 11, "", "")
    reserved: bytes = raw(24, 8, "", "")


@dataclass(frozen=True)
class Shape:
    """The sizes of one exFAT: bytes of a sector, and in sectors the whole, a cluster, and where its parts start."""

    sector_size: int
    sectors: int
    per_cluster: int
    fat_offset: int
    fat_length: int
    heap: int
    clusters: int

    @property
    def size(self) -> int:
        """Bytes of all sectors."""
        return self.sectors * self.sector_size

    @property
    def total(self) -> int:
        """Bytes of all clusters."""
        return self.clusters * self.unit

    @property
    def unit(self) -> int:
        """Bytes of a cluster."""
        return self.per_cluster * self.sector_size

    @property
    def heap_start(self) -> int:
        """The byte of the first cluster."""
        return self.heap * self.sector_size

    def start_of(self, cluster: Cluster) -> int:
        """Return the byte at which a cluster starts."""
        return common.start_of(cluster, self.heap_start, self.unit)

    @property
    def bitmap_size(self) -> int:
        """Bytes of the allocation bitmap."""
        return -(-self.clusters // 8)

    @property
    def bitmap_clusters(self) -> int:
        """Clusters of the bitmap of a fresh volume."""
        return max(-(-self.bitmap_size // self.unit), 1)

    @property
    def upcase_clusters(self) -> int:
        """Clusters of the up-case table of a fresh volume."""
        return -(-len(upcase_table()) // self.unit)

    @property
    def upcase(self) -> Cluster:
        """The first cluster of the up-case table of a fresh volume, behind the bitmap."""
        return Cluster(FIRST_CLUSTER + self.bitmap_clusters)

    @property
    def root(self) -> Cluster:
        """The cluster of the root of a fresh volume, behind the up-case table."""
        return Cluster(self.upcase + self.upcase_clusters)

    @property
    def used(self) -> int:
        """Clusters in use in a fresh volume."""
        return self.root + 1 - FIRST_CLUSTER


@dataclass(frozen=True, kw_only=True)
class ExfatOptions(PortableOptions):
    """Options of exFAT."""

    def plan(self, size: int) -> NewExfat:
        """Return an exFAT to be made in `size` bytes; UnfitError if it cannot be."""
        cluster = self.unit or _usual(size, self)
        if not LEAST <= size <= MOST or size // cluster > MOST_CLUSTERS:
            most = min(MOST, MOST_CLUSTERS * cluster)
            raise UnfitError(f"exfat is made {outside(size, LEAST, most)}", LEAST, most)
        shape = _shape(size, self, cluster // self.sector_size)
        if shape.clusters < shape.used + 1:
            raise UnfitError(f"{show_both(size)} do not hold the metadata of exfat", LEAST, MOST)
        return NewExfat(size, self, shape)

    def breakpoints(self) -> tuple[int, ...]:
        """Return the sizes at which clusters or alignment change."""
        return (LEAST, 64 * MIB, *(upto + 1 for upto, _ in _CLUSTERS[:-1]), MOST)


@dataclass(frozen=True)
class NewExfat:
    """An exFAT that is to be made in `size` bytes."""

    size: int
    options: ExfatOptions
    shape: Shape

    def capacity(self) -> Capacity:
        """Return what the guest will report."""
        shape, cluster = self.shape, self.shape.unit
        free = (shape.clusters - shape.used) * cluster
        losses = (
            ("boot regions, file allocation table", shape.heap_start),
            ("allocation bitmap", shape.bitmap_clusters * cluster),
            ("up-case table", shape.upcase_clusters * cluster),
            ("root folder", cluster),
            ("too short for a cluster", self.size - shape.heap_start - shape.total),
        )
        return Capacity(shape.total, free, free, tuple(Loss(what, size) for what, size in losses if size))

    def footprint(self) -> int:
        """Return boot regions, the starts of table and bitmap, the up-case table and the root."""
        shape = self.shape
        spread = 4 * (shape.used + FIRST_CLUSTER) + shape.used // 8 + len(upcase_table())
        return 2 * BOOT_SECTORS * shape.sector_size + spread + 6 * max(4 * KIB, shape.sector_size)

    def state(self) -> FilesystemState:
        """Return what a reader will find once it is written."""
        options = self.options
        free = (self.shape.clusters - self.shape.used) * self.shape.unit
        return FilesystemState("exfat", serial_text(serial(options.uuid)), options.label, self.shape, free)

    def write(self, device: BlockDevice) -> None:
        """Write root, up-case table, bitmap and table, then the boot regions, the first one last."""
        shape, table = self.shape, upcase_table()
        device.write(shape.start_of(shape.root), _root(shape, self.options.label, table))
        device.write(shape.start_of(shape.upcase), table)
        bits = np.ones(shape.used, dtype=np.uint8)
        device.write(shape.heap_start, np.packbits(bits, bitorder="little").tobytes())
        device.write(shape.fat_offset * shape.sector_size, _table(shape).tobytes())
        region = _boot_region(self)
        for start in (BOOT_SECTORS, 0):
            device.write(start * shape.sector_size, region)


class Exfat(Portable):
    """The filesystem behind `filesystem = "exfat"`."""

    name = "exfat"
    options = ExfatOptions
    mount_type = "exfat"
    least = LEAST
    most = MOST

    def units(self, sector_size: int) -> tuple[int, ...]:
        """Return the cluster sizes."""
        return tuple(unit for unit in _UNITS if unit >= sector_size)

    def label_length(self, label: str) -> int:
        """Return the UTF-16 units of a label."""
        return len(label.encode("utf-16-le")) // 2

    def read(self, device: BlockDevice, where: Place, *, deep: bool = True) -> FilesystemState | None:
        """Return what is found on a device that is not trusted."""
        boot = _boot_of(device)
        if boot is None:
            return None
        shape, native_id = _shape_of(boot), serial_text(boot.volume_serial_number)
        needed = max(shape.size, shape.heap_start + shape.total)
        if needed > device.size:
            found = (rules.filesystem_past_end.error(where, needed, device.size),)
            return FilesystemState("exfat", native_id, "", shape, findings=found)
        findings = list(_boot_findings(device, boot, where))
        label, used, said = _inside(device, boot, shape, where, deep=deep)
        free = (shape.clusters - used) * shape.unit
        return FilesystemState("exfat", native_id, label, shape, free, findings=(*findings, *said))

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield the runs of free clusters by the bitmap."""
        boot = _boot_of(device)
        place = _bitmap_place(device, boot) if boot else None
        if boot is None or place is None:
            return
        shape = _shape_of(boot)
        for first, count in common.free_between(_bitmap(device, shape, place), shape.clusters):
            yield Extent(shape.heap_start + first * shape.unit, count * shape.unit)


FILESYSTEM = Exfat()


def _usual(size: int, options: ExfatOptions) -> int:
    unit = next(unit for upto, unit in _CLUSTERS if size <= upto)
    return max(unit * (4 if options.purpose == "media" and size > 256 * MIB else 1), options.sector_size)


def _shape(size: int, options: ExfatOptions, per_cluster: int) -> Shape:
    sector_size = options.sector_size
    total = size // sector_size
    unit = max((options.chunk or (MIB if size >= 64 * MIB else 4 * KIB)) // sector_size, 1)
    first = align_up(2 * BOOT_SECTORS, max(4 * KIB // sector_size, 1))
    length = -(-(((total - first) // per_cluster + FIRST_CLUSTER) * 4) // sector_size)
    heap = align_up(first + length, unit)
    return Shape(sector_size, total, per_cluster, first, length, heap, max(total - heap, 0) // per_cluster)


def _shape_of(boot: BootSector) -> Shape:
    """Return the sizes of a boot sector whose numbers can be followed."""
    return Shape(
        1 << boot.bytes_per_sector_shift, boot.volume_length, 1 << boot.sectors_per_cluster_shift,
        boot.fat_offset, boot.fat_length, boot.cluster_heap_offset, boot.cluster_count,
    )  # fmt: skip


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


def _table(shape: Shape) -> NDArray[Any]:
    """Return the start of the file allocation table: bitmap, up-case table and root, each in a row."""
    table = np.arange(1, shape.root + 2, dtype="<u4")
    table[0], table[1] = 0xFFFFFFF8, END
    for last in (shape.upcase - 1, shape.root - 1, shape.root):
        table[last] = END
    return table


def _root(shape: Shape, label: str, table: bytes) -> bytes:
    length = len(label.encode("utf-16-le")) // 2
    entries = (
        LabelEntry(entry_type=0x83 if label else 0x03, character_count=length, volume_label=label),
        BitmapEntry(entry_type=0x81, first_cluster=FIRST_CLUSTER, data_length=shape.bitmap_size),
        UpcaseEntry(
            entry_type=0x82, table_checksum=checksum(table), first_cluster=shape.upcase, data_length=len(table)
        ),
    )
    return b"".join(entry.encode() for entry in entries)


def _boot_region(new: NewExfat) -> bytes:
    """Return the boot region: boot sector, extended ones, parameters, and their checksum over a whole sector."""
    shape, options, sector_size = new.shape, new.options, new.shape.sector_size
    boot = BootSector(
        jump_boot=b"\xeb\x76\x90",
        file_system_name=b"EXFAT   ",
        partition_offset=options.start // sector_size,
        volume_length=shape.sectors,
        fat_offset=shape.fat_offset,
        fat_length=shape.fat_length,
        cluster_heap_offset=shape.heap,
        cluster_count=shape.clusters,
        first_cluster_of_root=shape.root,
        volume_serial_number=serial(options.uuid),
        file_system_revision=0x0100,
        bytes_per_sector_shift=sector_size.bit_length() - 1,
        sectors_per_cluster_shift=shape.per_cluster.bit_length() - 1,
        number_of_fats=1,
        drive_select=0x80,
        percent_in_use=shape.used * 100 // shape.clusters,
        boot_code=b"\xf4" * 390,
        boot_signature=0xAA55,
    )
    extended = _EXTENDED.to_bytes(4, "little").rjust(sector_size, b"\0")
    region = boot.encode().ljust(sector_size, b"\0") + 8 * extended + 2 * bytes(sector_size)
    return region + checksum(region, _UNSUMMED).to_bytes(4, "little") * (sector_size // 4)


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


def _boot_findings(device: BlockDevice, boot: BootSector, where: Place) -> Iterator[Finding]:
    sector_size = 1 << boot.bytes_per_sector_shift
    for name, start in (("", 0), ("copy of the ", BOOT_SECTORS)):
        region = device.read(start * sector_size, BOOT_SECTORS * sector_size)
        kept, body = region[-sector_size:], region[:-sector_size]
        if checksum(body, _UNSUMMED).to_bytes(4, "little") * (sector_size // 4) != kept:
            yield rules.filesystem_damaged.error(where, f"the {name}boot region does not match its checksum")
    if boot.volume_flags & _DIRTY:
        yield rules.filesystem_needs_recovery.warning(where)
    if boot.volume_flags & _FAILED:
        yield rules.filesystem_damaged.error(where, "a guest has recorded failures of the medium in it")


def _place(shape: Shape, first: Cluster, length: int) -> int | None:
    """Return the byte at which `length` bytes from a cluster on lie, None where they leave the heap."""
    inside = 0 <= first - FIRST_CLUSTER <= shape.clusters - -(-length // shape.unit)
    return shape.start_of(first) if inside and length else None


def _root_entries(device: BlockDevice, boot: BootSector) -> Iterator[bytes]:
    """Yield the entries of the root's first cluster, at most 1 MiB of them."""
    shape = _shape_of(boot)
    cluster = shape.unit
    place = _place(shape, boot.first_cluster_of_root, cluster)
    data = b"" if place is None else device.read(place, min(cluster, MIB))
    for offset in range(0, len(data), 32):
        if data[offset] == 0:
            return
        yield data[offset : offset + 32]


def _bitmap_place(device: BlockDevice, boot: BootSector) -> int | None:
    """Return the byte at which the allocation bitmap lies, None where it is not where and as it should be."""
    entry = next((BitmapEntry.decode(data) for data in _root_entries(device, boot) if data[0] == 0x81), None)
    shape = _shape_of(boot)
    if entry is None or entry.data_length != shape.bitmap_size:
        return None
    return _place(shape, entry.first_cluster, entry.data_length)


def _bitmap(device: BlockDevice, shape: Shape, place: int) -> Iterator[tuple[int, NDArray[np.bool_]]]:
    """Yield the bits of the clusters that may be in use, in parts, with the index of their first."""
    for offset, data in common.pieces(device, place, shape.bitmap_size):
        bits = np.unpackbits(np.frombuffer(data, dtype=np.uint8), bitorder="little")
        yield 8 * offset, bits[: shape.clusters - 8 * offset].astype(np.bool_)


def _inside(
    device: BlockDevice, boot: BootSector, shape: Shape, where: Place, *, deep: bool
) -> tuple[str, int, list[Finding]]:
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
        return (
            label,
            0,
            [rules.filesystem_damaged.error(where, "the root names no allocation bitmap that fits the volume")],
        )
    used = sum(int(bits.sum()) for _, bits in _bitmap(device, shape, place))
    if not deep:
        return label, used, []
    said = [rules.filesystem_damaged.error(where, fault) for fault in _upcase_faults(device, boot, upcase)]
    return label, used, [*said, *_tree_findings(device, boot, place, where)]


def _tree_findings(device: BlockDevice, boot: BootSector, bitmap: int, where: Place) -> Iterator[Finding]:
    """Yield what is wrong with the folders, and with what they claim; a note where there is too much to check."""
    start, count = boot.fat_offset << boot.bytes_per_sector_shift, boot.cluster_count + FIRST_CLUSTER
    table = common.whole_table(device, start, count, 0xFFFFFFFF)
    if not len(table):
        yield rules.filesystem_not_checked.note(where, f"it has {boot.cluster_count} clusters, more than are checked")
        return
    shape = _shape_of(boot)

    def used(low: int, high: int) -> NDArray[np.bool_]:
        start, end = (low - FIRST_CLUSTER) // 8, -(-(high - FIRST_CLUSTER) // 8)
        bits = np.unpackbits(np.frombuffer(device.read(bitmap + start, end - start), np.uint8), bitorder="little")
        return bits[low - FIRST_CLUSTER - 8 * start :][: high - low].astype(np.bool_)

    def read(first: Cluster, length: int) -> bytes:
        return device.read(shape.start_of(first), length * shape.unit)

    chains, root = Chains(table, BAD), boot.first_cluster_of_root
    volume = Volume(chains, used, read, root, clean=not boot.volume_flags & _DIRTY)
    try:
        for fault in tree_faults(volume, items_of(chains, shape.unit, root), LARGEST_FOLDER):
            yield rules.filesystem_damaged.error(where, fault)
    except TooManyError:
        yield rules.filesystem_not_checked.note(where, "it has more files than are checked")


def _upcase_faults(device: BlockDevice, boot: BootSector, entry: UpcaseEntry | None) -> Iterator[str]:
    if entry is None:
        yield "the root names no up-case table"
        return
    place = (
        _place(_shape_of(boot), entry.first_cluster, entry.data_length)
        if entry.data_length <= _LARGEST_UPCASE
        else None
    )
    if place is None:
        yield f"the up-case table of {entry.data_length} bytes does not lie in the volume"
    elif checksum(device.read(place, entry.data_length)) != entry.table_checksum:
        yield "the up-case table does not match its checksum"
