"""The records of VMDK, by the Virtual Disk Format 5.0 specification. Little-endian, offsets in sectors of 512 bytes."""

from __future__ import annotations

from narvet.ground.records import Record, raw, u8, u16, u32, u64

SECTOR = 512
MAGIC = 0x564D444B
NEWLINE_TEST, REDUNDANT, ZEROED_GRAINS, COMPRESSED, MARKERS = 0x1, 0x2, 0x4, 0x10000, 0x20000
AT_END = 0xFFFFFFFFFFFFFFFF  # the grain directory is named by a footer
DEFLATE = 1
LINE_ENDS = b"\n \r\n"  # damaged by transfers that take a file for text
DESCRIPTOR_SECTORS = 20  # of room for an embedded descriptor, behind the header
ENTRIES = 512  # grain table entries


class SparseHeader(Record, title="vmdk sparse extent header", size=SECTOR):
    """Section "Hosted Sparse Extent Header"."""

    magic: int = u32(0, "", "'KDMV'")
    version: int = u32(4, "", "1 to 3")
    flags: int = u32(8, "", "see the constants")
    capacity: int = u64(12, "sectors", "of the extent")
    grain_size: int = u64(20, "sectors", "a power of two, more than 8")
    descriptor_offset: int = u64(28, "sectors", "where an embedded descriptor lies; 0 without one")
    descriptor_size: int = u64(36, "sectors", "its room")
    num_gtes_per_gt: int = u32(44, "entries", "512")
    rgd_offset: int = u64(48, "sectors", "redundant grain directory")
    gd_offset: int = u64(56, "sectors", "grain directory")
    over_head: int = u64(64, "sectors", "before the first grain")
    unclean_shutdown: int = u8(72, "", "1 while it is written to")
    line_ends: bytes = raw(73, 4, "", "newline, blank, carriage return, newline: damaged by text transfers")
    compress_algorithm: int = u16(77, "", "1 deflate")
    pad: bytes = raw(79, 433, "", "zero")


class Marker(Record, title="vmdk marker", size=SECTOR):
    """Section "Stream-Optimized Compressed Sparse Extents": before a table, a directory, the footer and the end."""

    val: int = u64(0, "sectors", "of what follows")
    packed_size: int = u32(8, "bytes", "0, which tells it from a grain's")
    kind: int = u32(12, "", "0 end of stream, 1 grain table, 2 grain directory, 3 footer")
    pad: bytes = raw(16, 496, "", "zero")


class CompressedGrain(Record, title="vmdk compressed grain", size=12):
    """Section "Stream-Optimized Compressed Sparse Extents", grain marker: followed by the packed data."""

    lba: int = u64(0, "sectors", "where the grain lies on the disk")
    packed_size: int = u32(8, "bytes", "of the packed data")
