"""The records of VMDK, by the Virtual Disk Format 5.0 specification. Little-endian, offsets in sectors of 512 bytes."""

from __future__ import annotations

from narvet.records import Record, at

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

    magic: int = at(0, "u32", "", "'KDMV'")
    version: int = at(4, "u32", "", "1 to 3")
    flags: int = at(8, "u32", "", "see the constants")
    capacity: int = at(12, "u64", "sectors", "of the extent")
    grain_size: int = at(20, "u64", "sectors", "a power of two, more than 8")
    descriptor_offset: int = at(28, "u64", "sectors", "where an embedded descriptor lies; 0 without one")
    descriptor_size: int = at(36, "u64", "sectors", "its room")
    num_gtes_per_gt: int = at(44, "u32", "entries", "512")
    rgd_offset: int = at(48, "u64", "sectors", "redundant grain directory")
    gd_offset: int = at(56, "u64", "sectors", "grain directory")
    over_head: int = at(64, "u64", "sectors", "before the first grain")
    unclean_shutdown: int = at(72, "u8", "", "1 while it is written to")
    line_ends: bytes = at(73, "4s", "", "newline, blank, carriage return, newline: damaged by text transfers")
    compress_algorithm: int = at(77, "u16", "", "1 deflate")
    pad: bytes = at(79, "433s", "", "zero")


class Marker(Record, title="vmdk marker", size=SECTOR):
    """Section "Stream-Optimized Compressed Sparse Extents": before a table, a directory, the footer and the end."""

    val: int = at(0, "u64", "sectors", "of what follows")
    packed_size: int = at(8, "u32", "bytes", "0, which tells it from a grain's")
    kind: int = at(12, "u32", "", "0 end of stream, 1 grain table, 2 grain directory, 3 footer")
    pad: bytes = at(16, "496s", "", "zero")


class CompressedGrain(Record, title="vmdk compressed grain", size=12):
    """Section "Stream-Optimized Compressed Sparse Extents", grain marker: followed by the packed data."""

    lba: int = at(0, "u64", "sectors", "where the grain lies on the disk")
    packed_size: int = at(8, "u32", "bytes", "of the packed data")
