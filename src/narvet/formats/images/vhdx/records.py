"""The records of VHDX, by [MS-VHDX], version 8.0. Little-endian."""

from __future__ import annotations

from uuid import UUID

from narvet.ground.records import Record, guid, raw, u16, u32, u64, utf16
from narvet.ground.units import KIB, MIB

FILE_SIGNATURE = b"vhdxfile"
HEADER_OFFSETS = (64 * KIB, 128 * KIB)
HEADER_SIZE = 4 * KIB
REGION_OFFSETS = (192 * KIB, 256 * KIB)
REGION_SIZE = 64 * KIB
HEAD_SIZE = MIB  # of the header section; everything else lies behind it on multiples of 1 MiB

BAT_REGION = UUID("2dc27766-f623-4200-9d64-115e9bfd4a08")
METADATA_REGION = UUID("8b7ca206-4790-4b9a-b8fe-575f050f886e")

FILE_PARAMETERS = UUID("caa16737-fa36-4d43-b3b6-33f0aa44e76b")
VIRTUAL_DISK_SIZE = UUID("2fa54224-cd1b-4876-b211-5dbed83bf4b8")
VIRTUAL_DISK_ID = UUID("beca12ab-b2e6-4523-93ef-c309e000c746")
LOGICAL_SECTOR_SIZE = UUID("8141bf1d-a96f-4709-ba47-f233a8faab5f")
PHYSICAL_SECTOR_SIZE = UUID("cda348c7-445d-4471-9cc9-e9885251c556")
PARENT_LOCATOR = UUID("a8d35f2d-b30b-454d-abf7-d3d84834ab0c")
LOCATOR_TYPE = UUID("b04aefb7-d19e-4a81-b789-25b8e9445913")
KNOWN_ITEMS = {
    FILE_PARAMETERS, VIRTUAL_DISK_SIZE, VIRTUAL_DISK_ID, LOGICAL_SECTOR_SIZE, PHYSICAL_SECTOR_SIZE, PARENT_LOCATOR,
}  # fmt: skip

IS_VIRTUAL_DISK, IS_REQUIRED = 0x2, 0x4
LEAVE_ALLOCATED, HAS_PARENT = 0x1, 0x2

NOT_PRESENT, UNDEFINED, ZERO, UNMAPPED, FULLY_PRESENT, PARTIALLY_PRESENT = 0, 1, 2, 3, 6, 7
STATE = 0x7
SB_PRESENT = 6


class FileIdentifier(Record, title="vhdx file type identifier", size=520):
    """Section 2.2.1."""

    signature: bytes = raw(0, 8, "", "'vhdxfile'")
    creator: str = utf16(8, 256, "", "who made it")


class Header(Record, title="vhdx header", size=80):
    """Section 2.2.2; the checksum covers 4 KiB."""

    signature: bytes = raw(0, 4, "", "'head'")
    checksum: int = u32(4, "", "crc32c with this field zero")
    sequence_number: int = u64(8, "", "the larger one is current")
    file_write_guid: UUID = guid(16, "", "changed before the first write")
    data_write_guid: UUID = guid(32, "", "changed before the disk's content is; children know the base by it")
    log_guid: UUID = guid(48, "", "zero, or that of the log entries to replay")
    log_version: int = u16(64, "", "0")
    version: int = u16(66, "", "1")
    log_length: int = u32(68, "bytes", "multiple of 1 MiB")
    log_offset: int = u64(72, "bytes", "multiple of 1 MiB")


class RegionTable(Record, title="vhdx region table", size=16):
    """Section 2.2.3; the checksum covers 64 KiB."""

    signature: bytes = raw(0, 4, "", "'regi'")
    checksum: int = u32(4, "", "crc32c with this field zero")
    entry_count: int = u32(8, "", "at most 2047")
    reserved: int = u32(12, "", "zero")


class RegionEntry(Record, title="vhdx region entry", size=32):
    """Section 2.2.3.2."""

    guid: UUID = guid(0, "", "kind of region")
    file_offset: int = u64(16, "bytes", "multiple of 1 MiB")
    length: int = u32(24, "bytes", "multiple of 1 MiB")
    required: int = u32(28, "", "1: a reader must know it")


class MetadataTable(Record, title="vhdx metadata", size=32):
    """Section 2.6.1.1."""

    signature: bytes = raw(0, 8, "", "'metadata'")
    reserved: int = u16(8, "", "zero")
    entry_count: int = u16(10, "", "at most 2047")
    reserved2: bytes = raw(12, 20, "", "zero")


class MetadataEntry(Record, title="vhdx metadata entry", size=32):
    """Section 2.6.1.2."""

    item_id: UUID = guid(0, "", "which item")
    offset: int = u32(16, "bytes", "from the region's start, at least 64 KiB")
    length: int = u32(20, "bytes", "of the item")
    flags: int = u32(24, "", "1 user's, 2 of the disk, 4 required")
    reserved: int = u32(28, "", "zero")


class FileParameters(Record, title="vhdx file parameters", size=8):
    """Section 2.6.2.1."""

    block_size: int = u32(0, "bytes", "1 MiB to 256 MiB")
    flags: int = u32(4, "", "1 leave blocks allocated, 2 has a parent")


class LocatorHeader(Record, title="vhdx parent locator", size=20):
    """Section 2.6.2.6.1."""

    locator_type: UUID = guid(0, "", "that of VHDX")
    reserved: int = u16(16, "", "zero")
    key_value_count: int = u16(18, "", "entries")


class LocatorEntry(Record, title="vhdx parent locator entry", size=12):
    """Section 2.6.2.6.2."""

    key_offset: int = u32(0, "bytes", "from the locator's start")
    value_offset: int = u32(4, "bytes", "from the locator's start")
    key_length: int = u16(8, "bytes", "UTF-16")
    value_length: int = u16(10, "bytes", "UTF-16")


class LogEntryHeader(Record, title="vhdx log entry", size=64):
    """Section 2.3.1.1; the checksum covers the whole entry."""

    signature: bytes = raw(0, 4, "", "'loge'")
    checksum: int = u32(4, "", "crc32c with this field zero")
    entry_length: int = u32(8, "bytes", "multiple of 4 KiB")
    tail: int = u32(12, "bytes", "where the first entry of the sequence lies")
    sequence_number: int = u64(16, "", "one more than that of the entry before")
    descriptor_count: int = u32(24, "", "descriptors")
    reserved: int = u32(28, "", "zero")
    log_guid: UUID = guid(32, "", "that of the header")
    flushed_file_offset: int = u64(48, "bytes", "the file was at least so long on stable storage")
    last_file_offset: int = u64(56, "bytes", "the file is to be at least so long")


class Descriptor(Record, title="vhdx log descriptor", size=32):
    """Sections 2.3.1.2 and 2.3.1.3: of zeros, or of a data sector."""

    signature: bytes = raw(0, 4, "", "'zero' or 'desc'")
    trailing_bytes: bytes = raw(4, 4, "", "last bytes of the data sector")
    leading_bytes: bytes = raw(8, 8, "", "first bytes of the data sector; a length in bytes for zeros")
    file_offset: int = u64(16, "bytes", "where it goes, a multiple of 4 KiB")
    sequence_number: int = u64(24, "", "that of the entry")


class DataSector(Record, title="vhdx log data sector", size=4096):
    """Section 2.3.1.4."""

    signature: bytes = raw(0, 4, "", "'data'")
    sequence_high: int = u32(4, "", "upper half")
    data: bytes = raw(8, 4084, "", "the sector less its first 8 and last 4 bytes")
    sequence_low: int = u32(4092, "", "lower half")
