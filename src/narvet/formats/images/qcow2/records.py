"""The records of qcow2, by its specification (docs/interop/qcow2.rst, versions 2 and 3). Big-endian."""

from __future__ import annotations

from narvet.ground.records import Record, raw, u8, u32, u64

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

    magic: int = u32(0, "", "'QFI' and 0xfb")
    version: int = u32(4, "", "2 or 3")
    backing_file_offset: int = u64(8, "bytes", "where the base's name lies; 0 without one")
    backing_file_size: int = u32(16, "bytes", "its length")
    cluster_bits: int = u32(20, "", "a cluster is 1 << this")
    disk_size: int = u64(24, "bytes", "of the disk")
    crypt_method: int = u32(32, "", "0 not encrypted")
    l1_size: int = u32(36, "entries", "of the L1 table")
    l1_table_offset: int = u64(40, "bytes", "where it lies")
    refcount_table_offset: int = u64(48, "bytes", "where the refcount table lies")
    refcount_table_clusters: int = u32(56, "clusters", "its length")
    nb_snapshots: int = u32(60, "", "internal snapshots")
    snapshots_offset: int = u64(64, "bytes", "where their table lies")
    incompatible_features: int = u64(72, "", "what a reader must know")
    compatible_features: int = u64(80, "", "what a reader may pass over")
    autoclear_features: int = u64(88, "", "what a writer that does not know it clears")
    refcount_order: int = u32(96, "", "a refcount has 1 << this bits")
    header_length: int = u32(100, "bytes", "of the header")
    compression_type: int = u8(104, "", "0 deflate, 1 zstd")
    padding: bytes = raw(105, 7, "", "zero")


class Extension(Record, title="qcow2 header extension", size=8, endian=">"):
    """Section "Header extensions": followed by its data, padded to 8 bytes."""

    kind: int = u32(0, "", "type")
    length: int = u32(4, "bytes", "of the data")
