"""The records of VHD and the sizes that all its readers agree on (Virtual Hard Disk Image Format Specification 1.0)."""

from __future__ import annotations

from uuid import UUID

from narvet.ground.records import Record, raw, u8, u16, u32, u64, uuid
from narvet.ground.values import replace

SECTOR = 512
FIXED, DYNAMIC, CHILD = 2, 3, 4
UNUSED = 0xFFFFFFFF
COOKIE, HEADER_COOKIE = b"conectix", b"cxsparse"
_MOST_CYLINDERS, _MOST_HEADS, _MOST_SPT = 65535, 16, 255


class Footer(Record, title="vhd footer", size=512, endian=">"):
    """Section "Hard Disk Footer Format"."""

    cookie: bytes = raw(0, 8, "", "'conectix'")
    features: int = u32(8, "", "2, always set")
    file_format_version: int = u32(12, "", "1.0")
    data_offset: int = u64(16, "bytes", "where the dynamic header lies")
    time_stamp: int = u32(24, "seconds", "since 2000")
    creator_application: bytes = raw(28, 4, "", "who made it")
    creator_version: int = u32(32, "", "which version of that")
    creator_host_os: bytes = raw(36, 4, "", "on which system")
    original_size: int = u64(40, "bytes", "disk size when made")
    current_size: int = u64(48, "bytes", "disk size")
    cylinders: int = u16(56, "", "disk geometry")
    heads: int = u8(58, "", "disk geometry")
    sectors_per_track: int = u8(59, "", "disk geometry")
    disk_type: int = u32(60, "", "2 fixed, 3 dynamic, 4 differencing")
    checksum: int = u32(64, "", "one's complement of the sum of all other bytes")
    unique_id: UUID = uuid(68, "", "id of the image")
    saved_state: int = u8(84, "", "zero")
    reserved: bytes = raw(85, 427, "", "zero")


class DynamicHeader(Record, title="vhd dynamic header", size=1024, endian=">"):
    """Section "Dynamic Disk Header Format"."""

    cookie: bytes = raw(0, 8, "", "'cxsparse'")
    data_offset: int = u64(8, "", "all ones")
    table_offset: int = u64(16, "bytes", "where the block allocation table lies")
    header_version: int = u32(24, "", "1.0")
    max_table_entries: int = u32(28, "blocks", "entries of the table")
    block_size: int = u32(32, "bytes", "data of a block")
    checksum: int = u32(36, "", "as the footer's")
    parent_unique_id: UUID = uuid(40, "", "id of the base")
    parent_time_stamp: int = u32(56, "seconds", "when the base was changed")
    reserved: int = u32(60, "", "zero")
    parent_unicode_name: bytes = raw(64, 512, "", "name of the base, UTF-16, big-endian")
    parent_locators: bytes = raw(576, 192, "", "eight locators")
    reserved_end: bytes = raw(768, 256, "", "zero")


class Locator(Record, title="vhd parent locator", size=24, endian=">"):
    """Section "Dynamic Disk Header Format", parent locator entry."""

    platform_code: bytes = raw(0, 4, "", "W2ru relative, W2ku absolute path in UTF-16, little-endian")
    platform_data_space: int = u32(4, "bytes", "kept for it")
    platform_data_length: int = u32(8, "bytes", "used of them")
    reserved: int = u32(12, "", "zero")
    platform_data_offset: int = u64(16, "bytes", "where it lies")


def geometry(sectors: int) -> tuple[int, int, int]:
    """Return cylinders, heads and sectors per track for a disk (appendix "CHS Calculation")."""
    sectors = min(sectors, _MOST_CYLINDERS * _MOST_HEADS * _MOST_SPT)
    if sectors >= _MOST_CYLINDERS * _MOST_HEADS * 63:
        return sectors // _MOST_SPT // _MOST_HEADS, _MOST_HEADS, _MOST_SPT
    per_track, tracks = 17, sectors // 17
    heads = max((tracks + 1023) // 1024, 4)
    if tracks >= heads * 1024 or heads > _MOST_HEADS:
        per_track, heads, tracks = 31, 16, sectors // 31
    if tracks >= heads * 1024:
        per_track, heads, tracks = 63, 16, sectors // 63
    return tracks // heads, heads, per_track


def agreed_size(size: int) -> int:
    """Return the smallest size from `size` on whose geometry names every sector, or is at its limit."""
    sectors = -(-size // SECTOR)
    while sectors < _MOST_CYLINDERS * _MOST_HEADS * _MOST_SPT:
        cylinders, heads, per_track = geometry(sectors)
        named = cylinders * heads * per_track
        if named == sectors:
            break
        sectors = (cylinders + 1) * heads * per_track
    return sectors * SECTOR


def summed(record: Footer | DynamicHeader) -> int:
    """Return the checksum of a record: the one's complement of the sum of all its other bytes."""
    return ~sum(replace(record, checksum=0).encode()) & 0xFFFFFFFF
