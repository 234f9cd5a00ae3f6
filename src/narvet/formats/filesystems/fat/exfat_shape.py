"""The records of exFAT and its shape, planned or read (exFAT File System Specification, revision 1.00)."""

from __future__ import annotations

import struct
from functools import cache

from narvet.formats.filesystems.fat import common
from narvet.formats.filesystems.fat.common import FIRST_CLUSTER, ClusterShape
from narvet.formats.filesystems.upcase import UNITS, capitals
from narvet.ground.records import Record, cluster32, raw, u8, u16, u32, u64, utf16
from narvet.ground.units import Cluster

MOST_CLUSTERS = (1 << 32) - 11
BAD, END = 0xFFFFFFF7, 0xFFFFFFFF
BOOT_SECTORS = 12  # of the boot region, which lies there twice
UNSUMMED = (106, 107, 112)  # bytes of the boot sector that change in use


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


class Shape(ClusterShape):
    """The sizes of one exFAT: in sectors, where its parts start; in clusters, what it holds."""

    fat_offset: int
    fat_length: int
    heap: int
    clusters: int

    @property
    def total(self) -> int:
        """Bytes of all clusters."""
        return self.clusters * self.unit

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


def shape_of(boot: BootSector) -> Shape:
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
