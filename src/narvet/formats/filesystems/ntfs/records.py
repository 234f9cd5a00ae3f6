"""The records of NTFS 3.1, by the published documentation of its on-disk structures. Little-endian.

A volume is a set of files, each described by a record of the master file table: a header and attributes. What an
attribute holds lies in the record itself (resident), or in runs of clusters (non-resident).
"""

from __future__ import annotations

from narvet.ground.records import Record, cluster64, i8, i64, raw, u8, u16, u32, u64, utf16
from narvet.ground.units import Cluster

STRIDE = 512  # the update sequence covers each stretch of this many bytes, whatever the sectors are
INDEX_BLOCK = 4096
END = 0xFFFFFFFF

# Attribute types.
STANDARD_INFORMATION, FILE_NAME, VOLUME_NAME, VOLUME_INFORMATION = 0x10, 0x30, 0x60, 0x70
DATA, INDEX_ROOT, INDEX_ALLOCATION, BITMAP, REPARSE_POINT = 0x80, 0x90, 0xA0, 0xB0, 0xC0
ATTRIBUTE_LIST = 0x20
COMPRESSED, ENCRYPTED = 0xFF, 0x4000  # in the flags of an attribute

# Records of the master file table.
MFT, MIRROR, LOG, VOLUME, ATTRDEF, ROOT, MAP, BOOT, BAD, SECURE, UPCASE, EXTEND = range(12)
QUOTA, OBJECT_IDS, REPARSE = 24, 25, 26

# Flags of a record, of file attributes, of index entries and index headers.
IN_USE, IS_FOLDER, IN_EXTEND, IS_VIEW = 1, 2, 4, 8
HIDDEN_SYSTEM, IS_REPARSE_POINT, FOLDER_NAMES, VIEW_INDEX = 0x6, 0x400, 0x10000000, 0x20000000
ENTRY_HAS_NODE, ENTRY_IS_LAST, INDEX_IS_LARGE = 1, 2, 1
VOLUME_DIRTY = 0x1

# How the keys of an index are compared.
BY_NAME, BY_NUMBER, BY_SID, BY_HASH, BY_NUMBERS = 0x01, 0x10, 0x11, 0x12, 0x13


class BootSector(Record, title="ntfs boot sector", size=512):
    """The volume's first sector, and its last."""

    jump: bytes = raw(0, 3, "", "")
    oem_id: bytes = raw(3, 8, "", "'NTFS    '")
    bytes_per_sector: int = u16(11, "bytes", "")
    sectors_per_cluster: int = u8(13, "sectors", "up to 128; above, the negative power of two")
    reserved_sectors: int = u16(14, "", "0")
    zero1: bytes = raw(16, 5, "", "")
    media: int = u8(21, "", "0xF8")
    zero2: int = u16(22, "", "")
    sectors_per_track: int = u16(24, "", "")
    heads: int = u16(26, "", "")
    hidden_sectors: int = u32(28, "sectors", "before the volume")
    zero3: int = u32(32, "", "")
    drive: int = u32(36, "", "0x00800080")
    number_of_sectors: int = u64(40, "sectors", "of the volume, less the last one")
    mft_lcn: Cluster = cluster64(48)
    mftmirr_lcn: Cluster = cluster64(56)
    clusters_per_mft_record: int = i8(64, "clusters", "or a negative power of two of bytes")
    zero4: bytes = raw(65, 3, "", "")
    clusters_per_index_record: int = i8(68, "clusters", "or a negative power of two of bytes")
    zero5: bytes = raw(69, 3, "", "")
    volume_serial_number: int = u64(72, "", "")
    checksum: int = u32(80, "", "not used")
    bootstrap: bytes = raw(84, 426, "", "")
    end_of_sector: int = u16(510, "", "0xAA55")


class FileRecord(Record, title="ntfs file record", size=48):
    """The start of a record; its update sequence follows, then its attributes."""

    magic: bytes = raw(0, 4, "", "'FILE'")
    usa_ofs: int = u16(4, "bytes", "to the update sequence")
    usa_count: int = u16(6, "words", "of it")
    lsn: int = u64(8, "", "")
    sequence_number: int = u16(16, "", "raised when the record is used again")
    link_count: int = u16(18, "", "names")
    attrs_offset: int = u16(20, "bytes", "")
    flags: int = u16(22, "", "see above")
    bytes_in_use: int = u32(24, "bytes", "")
    bytes_allocated: int = u32(28, "bytes", "")
    base_mft_record: int = u64(32, "", "0: this is the file's own")
    next_attr_instance: int = u16(40, "", "")
    reserved: int = u16(42, "", "")
    mft_record_number: int = u32(44, "", "")


class AttributeHead(Record, title="ntfs attribute", size=16):
    """What all attributes start with."""

    type: int = u32(0, "", "")
    length: int = u32(4, "bytes", "of the whole attribute")
    non_resident: int = u8(8, "", "")
    name_length: int = u8(9, "UTF-16 units", "")
    name_offset: int = u16(10, "bytes", "")
    flags: int = u16(12, "", "1 compressed, 0x4000 encrypted, 0x8000 sparse")
    instance: int = u16(14, "", "")


class ResidentHead(Record, title="ntfs resident attribute", size=8):
    """Follows the head of a resident attribute."""

    value_length: int = u32(0, "bytes", "")
    value_offset: int = u16(4, "bytes", "")
    resident_flags: int = u8(6, "", "1: it is in an index")
    reserved: int = u8(7, "", "")


class RunsHead(Record, title="ntfs non-resident attribute", size=48):
    """Follows the head of a non-resident attribute."""

    lowest_vcn: int = u64(0, "cluster", "")
    highest_vcn: int = u64(8, "cluster", "")
    mapping_pairs_offset: int = u16(16, "bytes", "")
    compression_unit: int = u8(18, "", "")
    reserved: bytes = raw(19, 5, "", "")
    allocated_size: int = u64(24, "bytes", "")
    data_size: int = u64(32, "bytes", "")
    initialized_size: int = u64(40, "bytes", "")


class StandardInformation(Record, title="ntfs standard information", size=72):
    """Times are 100 nanoseconds since 1601."""

    creation_time: int = u64(0, "", "")
    last_data_change_time: int = u64(8, "", "")
    last_mft_change_time: int = u64(16, "", "")
    last_access_time: int = u64(24, "", "")
    file_attributes: int = u32(32, "", "")
    maximum_versions: int = u32(36, "", "")
    version_number: int = u32(40, "", "")
    class_id: int = u32(44, "", "")
    owner_id: int = u32(48, "", "")
    security_id: int = u32(52, "", "of $Secure")
    quota_charged: int = u64(56, "", "")
    usn: int = u64(64, "", "")


class FileName(Record, title="ntfs file name", size=66):
    """The name follows."""

    parent_directory: int = u64(0, "", "record and, in the upper 16 bits, sequence number")
    creation_time: int = u64(8, "", "")
    last_data_change_time: int = u64(16, "", "")
    last_mft_change_time: int = u64(24, "", "")
    last_access_time: int = u64(32, "", "")
    allocated_size: int = u64(40, "bytes", "")
    data_size: int = u64(48, "bytes", "")
    file_attributes: int = u32(56, "", "")
    reparse_value: int = u32(60, "", "")
    file_name_length: int = u8(64, "UTF-16 units", "")
    file_name_type: int = u8(65, "", "3: long and short at once")


class VolumeInformation(Record, title="ntfs volume information", size=12):
    """Version and state."""

    reserved: int = u64(0, "", "")
    major_version: int = u8(8, "", "3")
    minor_version: int = u8(9, "", "1")
    flags: int = u16(10, "", "1: not cleanly unmounted")


class IndexRoot(Record, title="ntfs index root", size=16):
    """The start of an index; an index header and entries follow."""

    type: int = u32(0, "", "attribute whose values are indexed, 0 for others")
    collation_rule: int = u32(4, "", "")
    index_block_size: int = u32(8, "bytes", "")
    clusters_per_index_block: int = u8(12, "clusters", "or 512 bytes where clusters are larger")
    reserved: bytes = raw(13, 3, "", "")


class IndexHeader(Record, title="ntfs index header", size=16):
    """Offsets count from this header."""

    entries_offset: int = u32(0, "bytes", "")
    index_length: int = u32(4, "bytes", "in use")
    allocated_size: int = u32(8, "bytes", "")
    flags: int = u8(12, "", "1: there are blocks below")
    reserved: bytes = raw(13, 3, "", "")


class IndexBlock(Record, title="ntfs index block", size=24):
    """An index header, the update sequence and entries follow."""

    magic: bytes = raw(0, 4, "", "'INDX'")
    usa_ofs: int = u16(4, "bytes", "")
    usa_count: int = u16(6, "words", "")
    lsn: int = u64(8, "", "")
    index_block_vcn: int = u64(16, "", "")


class IndexEntry(Record, title="ntfs index entry", size=16):
    """A key follows, then data in indexes of views, then the block below where there is one."""

    reference: int = u64(0, "", "of the file; in views offset and length of the data")
    length: int = u16(8, "bytes", "")
    key_length: int = u16(10, "bytes", "")
    flags: int = u16(12, "", "1 has a block below, 2 ends the list")
    reserved: int = u16(14, "", "")


class ListEntry(Record, title="ntfs attribute list entry", size=26):
    """Where a part of an attribute is that does not lie in the file's own record."""

    type: int = u32(0, "", "")
    length: int = u16(4, "bytes", "of this entry")
    name_length: int = u8(6, "UTF-16 units", "")
    name_offset: int = u8(7, "bytes", "")
    lowest_vcn: int = u64(8, "cluster", "")
    reference: int = u64(16, "", "of the record that has it")
    instance: int = u16(24, "", "")


class AttributeDefinition(Record, title="ntfs attribute definition", size=160):
    """A row of $AttrDef."""

    name: str = utf16(0, 64, "", "")
    type: int = u32(128, "", "")
    display_rule: int = u32(132, "", "")
    collation_rule: int = u32(136, "", "")
    flags: int = u32(140, "", "2 indexed, 0x40 resident, 0x80 may be non-resident")
    min_size: int = i64(144, "bytes", "")
    max_size: int = i64(152, "bytes", "")


class SecurityEntry(Record, title="ntfs security entry", size=20):
    """An entry of $SDS, which a security descriptor follows; also the data of the two indexes of $Secure."""

    hash: int = u32(0, "", "of the descriptor")
    security_id: int = u32(4, "", "")
    offset: int = u64(8, "bytes", "in $SDS")
    length: int = u32(16, "bytes", "with this entry")


class QuotaEntry(Record, title="ntfs quota entry", size=48):
    """The data of index $Q of $Quota; the owner follows."""

    version: int = u32(0, "", "2")
    flags: int = u32(4, "", "1: the default limits")
    bytes_used: int = u64(8, "bytes", "")
    change_time: int = u64(16, "", "")
    threshold: int = i64(24, "bytes", "-1: none")
    limit: int = i64(32, "bytes", "-1: none")
    exceeded_time: int = u64(40, "", "")
