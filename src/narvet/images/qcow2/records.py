"""The records of qcow2, by its specification (docs/interop/qcow2.rst, versions 2 and 3). Big-endian."""

from __future__ import annotations

from narvet.records import Record, at

MAGIC = 0x514649FB
V2_LENGTH, V3_LENGTH = 72, 104
COPIED = 1 << 63
COMPRESSED = 1 << 62
OFFSET = 0x00FFFFFFFFFFFE00
READS_ZERO = 1

DIRTY, CORRUPT, COMPRESSION_TYPE = 0x1, 0x2, 0x8
INCOMPATIBLE = {
    0x1: "dirty",
    0x2: "corrupt",
    0x4: "external data file",
    0x8: "compression type",
    0x10: "extended L2 entries",
}
READABLE = DIRTY | CORRUPT | COMPRESSION_TYPE

EXTENSION_END = 0
EXTENSION_BACKING_FORMAT = 0xE2792ACA
EXTENSION_BASE_LINK = 0x6E727674  # ours: what the base answered to when the child was made; others pass it over


class Header(Record, title="qcow2 header", size=112, endian=">"):
    """Section "Header", with the first of the additional fields."""

    magic: int = at(0, "u32", "", "'QFI' and 0xfb")
    version: int = at(4, "u32", "", "2 or 3")
    backing_file_offset: int = at(8, "u64", "bytes", "where the base's name lies; 0 without one")
    backing_file_size: int = at(16, "u32", "bytes", "its length")
    cluster_bits: int = at(20, "u32", "", "a cluster is 1 << this")
    disk_size: int = at(24, "u64", "bytes", "of the disk")
    crypt_method: int = at(32, "u32", "", "0 not encrypted")
    l1_size: int = at(36, "u32", "entries", "of the L1 table")
    l1_table_offset: int = at(40, "u64", "bytes", "where it lies")
    refcount_table_offset: int = at(48, "u64", "bytes", "where the refcount table lies")
    refcount_table_clusters: int = at(56, "u32", "clusters", "its length")
    nb_snapshots: int = at(60, "u32", "", "internal snapshots")
    snapshots_offset: int = at(64, "u64", "bytes", "where their table lies")
    incompatible_features: int = at(72, "u64", "", "what a reader must know")
    compatible_features: int = at(80, "u64", "", "what a reader may pass over")
    autoclear_features: int = at(88, "u64", "", "what a writer that does not know it clears")
    refcount_order: int = at(96, "u32", "", "a refcount has 1 << this bits")
    header_length: int = at(100, "u32", "bytes", "of the header")
    compression_type: int = at(104, "u8", "", "0 deflate, 1 zstd")
    padding: bytes = at(105, "7s", "", "zero")


class Extension(Record, title="qcow2 header extension", size=8, endian=">"):
    """Section "Header extensions": followed by its data, padded to 8 bytes."""

    kind: int = at(0, "u32", "", "type")
    length: int = at(4, "u32", "bytes", "of the data")
