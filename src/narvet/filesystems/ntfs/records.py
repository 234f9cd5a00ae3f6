"""The records of NTFS 3.1, by the published documentation of its on-disk structures. Little-endian.

A volume is a set of files, each described by a record of the master file table: a header and attributes. What an
attribute holds lies in the record itself (resident), or in runs of clusters (non-resident).
"""

from __future__ import annotations

from narvet.records import Record, at

STRIDE = 512  # the update sequence covers every so many bytes, whatever the sectors are
INDEX_BLOCK = 4096
END = 0xFFFFFFFF

# Attribute types.
STANDARD_INFORMATION, FILE_NAME, VOLUME_NAME, VOLUME_INFORMATION = 0x10, 0x30, 0x60, 0x70
DATA, INDEX_ROOT, INDEX_ALLOCATION, BITMAP, REPARSE_POINT = 0x80, 0x90, 0xA0, 0xB0, 0xC0

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

    jump: bytes = at(0, "3s", "", "")
    oem_id: bytes = at(3, "8s", "", "'NTFS    '")
    bytes_per_sector: int = at(11, "u16", "bytes", "")
    sectors_per_cluster: int = at(13, "u8", "sectors", "up to 128; above, the negative power of two")
    reserved_sectors: int = at(14, "u16", "", "0")
    zero1: bytes = at(16, "5s", "", "")
    media: int = at(21, "u8", "", "0xF8")
    zero2: int = at(22, "u16", "", "")
    sectors_per_track: int = at(24, "u16", "", "")
    heads: int = at(26, "u16", "", "")
    hidden_sectors: int = at(28, "u32", "sectors", "before the volume")
    zero3: int = at(32, "u32", "", "")
    drive: int = at(36, "u32", "", "0x00800080")
    number_of_sectors: int = at(40, "u64", "sectors", "of the volume, less the last one")
    mft_lcn: int = at(48, "u64", "cluster", "")
    mftmirr_lcn: int = at(56, "u64", "cluster", "")
    clusters_per_mft_record: int = at(64, "i8", "clusters", "or a negative power of two of bytes")
    zero4: bytes = at(65, "3s", "", "")
    clusters_per_index_record: int = at(68, "i8", "clusters", "or a negative power of two of bytes")
    zero5: bytes = at(69, "3s", "", "")
    volume_serial_number: int = at(72, "u64", "", "")
    checksum: int = at(80, "u32", "", "not used")
    bootstrap: bytes = at(84, "426s", "", "")
    end_of_sector: int = at(510, "u16", "", "0xAA55")


class FileRecord(Record, title="ntfs file record", size=48):
    """The start of a record; its update sequence follows, then its attributes."""

    magic: bytes = at(0, "4s", "", "'FILE'")
    usa_ofs: int = at(4, "u16", "bytes", "to the update sequence")
    usa_count: int = at(6, "u16", "words", "of it")
    lsn: int = at(8, "u64", "", "")
    sequence_number: int = at(16, "u16", "", "raised when the record is used again")
    link_count: int = at(18, "u16", "", "names")
    attrs_offset: int = at(20, "u16", "bytes", "")
    flags: int = at(22, "u16", "", "see above")
    bytes_in_use: int = at(24, "u32", "bytes", "")
    bytes_allocated: int = at(28, "u32", "bytes", "")
    base_mft_record: int = at(32, "u64", "", "0: this is the file's own")
    next_attr_instance: int = at(40, "u16", "", "")
    reserved: int = at(42, "u16", "", "")
    mft_record_number: int = at(44, "u32", "", "")


class AttributeHead(Record, title="ntfs attribute", size=16):
    """What all attributes start with."""

    type: int = at(0, "u32", "", "")
    length: int = at(4, "u32", "bytes", "of the whole attribute")
    non_resident: int = at(8, "u8", "", "")
    name_length: int = at(9, "u8", "UTF-16 units", "")
    name_offset: int = at(10, "u16", "bytes", "")
    flags: int = at(12, "u16", "", "1 compressed, 0x4000 encrypted, 0x8000 sparse")
    instance: int = at(14, "u16", "", "")


class ResidentHead(Record, title="ntfs resident attribute", size=8):
    """Follows the head of a resident attribute."""

    value_length: int = at(0, "u32", "bytes", "")
    value_offset: int = at(4, "u16", "bytes", "")
    resident_flags: int = at(6, "u8", "", "1: it is in an index")
    reserved: int = at(7, "u8", "", "")


class RunsHead(Record, title="ntfs non-resident attribute", size=48):
    """Follows the head of a non-resident attribute."""

    lowest_vcn: int = at(0, "u64", "cluster", "")
    highest_vcn: int = at(8, "u64", "cluster", "")
    mapping_pairs_offset: int = at(16, "u16", "bytes", "")
    compression_unit: int = at(18, "u8", "", "")
    reserved: bytes = at(19, "5s", "", "")
    allocated_size: int = at(24, "u64", "bytes", "")
    data_size: int = at(32, "u64", "bytes", "")
    initialized_size: int = at(40, "u64", "bytes", "")


class StandardInformation(Record, title="ntfs standard information", size=72):
    """Times are 100 nanoseconds since 1601."""

    creation_time: int = at(0, "u64", "", "")
    last_data_change_time: int = at(8, "u64", "", "")
    last_mft_change_time: int = at(16, "u64", "", "")
    last_access_time: int = at(24, "u64", "", "")
    file_attributes: int = at(32, "u32", "", "")
    maximum_versions: int = at(36, "u32", "", "")
    version_number: int = at(40, "u32", "", "")
    class_id: int = at(44, "u32", "", "")
    owner_id: int = at(48, "u32", "", "")
    security_id: int = at(52, "u32", "", "of $Secure")
    quota_charged: int = at(56, "u64", "", "")
    usn: int = at(64, "u64", "", "")


class FileName(Record, title="ntfs file name", size=66):
    """The name follows."""

    parent_directory: int = at(0, "u64", "", "record and, in the upper 16 bits, sequence number")
    creation_time: int = at(8, "u64", "", "")
    last_data_change_time: int = at(16, "u64", "", "")
    last_mft_change_time: int = at(24, "u64", "", "")
    last_access_time: int = at(32, "u64", "", "")
    allocated_size: int = at(40, "u64", "bytes", "")
    data_size: int = at(48, "u64", "bytes", "")
    file_attributes: int = at(56, "u32", "", "")
    reparse_value: int = at(60, "u32", "", "")
    file_name_length: int = at(64, "u8", "UTF-16 units", "")
    file_name_type: int = at(65, "u8", "", "3: long and short at once")


class VolumeInformation(Record, title="ntfs volume information", size=12):
    """Version and state."""

    reserved: int = at(0, "u64", "", "")
    major_version: int = at(8, "u8", "", "3")
    minor_version: int = at(9, "u8", "", "1")
    flags: int = at(10, "u16", "", "1: not cleanly unmounted")


class IndexRoot(Record, title="ntfs index root", size=16):
    """The start of an index; an index header and entries follow."""

    type: int = at(0, "u32", "", "attribute whose values are indexed, 0 for others")
    collation_rule: int = at(4, "u32", "", "")
    index_block_size: int = at(8, "u32", "bytes", "")
    clusters_per_index_block: int = at(12, "u8", "clusters", "or 512 bytes where clusters are larger")
    reserved: bytes = at(13, "3s", "", "")


class IndexHeader(Record, title="ntfs index header", size=16):
    """Offsets count from this header."""

    entries_offset: int = at(0, "u32", "bytes", "")
    index_length: int = at(4, "u32", "bytes", "in use")
    allocated_size: int = at(8, "u32", "bytes", "")
    flags: int = at(12, "u8", "", "1: there are blocks below")
    reserved: bytes = at(13, "3s", "", "")


class IndexBlock(Record, title="ntfs index block", size=24):
    """An index header, the update sequence and entries follow."""

    magic: bytes = at(0, "4s", "", "'INDX'")
    usa_ofs: int = at(4, "u16", "bytes", "")
    usa_count: int = at(6, "u16", "words", "")
    lsn: int = at(8, "u64", "", "")
    index_block_vcn: int = at(16, "u64", "", "")


class IndexEntry(Record, title="ntfs index entry", size=16):
    """A key follows, then data in indexes of views, then the block below where there is one."""

    reference: int = at(0, "u64", "", "of the file; in views offset and length of the data")
    length: int = at(8, "u16", "bytes", "")
    key_length: int = at(10, "u16", "bytes", "")
    flags: int = at(12, "u16", "", "1 has a block below, 2 ends the list")
    reserved: int = at(14, "u16", "", "")


class AttributeDefinition(Record, title="ntfs attribute definition", size=160):
    """A row of $AttrDef."""

    name: str = at(0, "utf16*64", "", "")
    type: int = at(128, "u32", "", "")
    display_rule: int = at(132, "u32", "", "")
    collation_rule: int = at(136, "u32", "", "")
    flags: int = at(140, "u32", "", "2 indexed, 0x40 resident, 0x80 may be non-resident")
    min_size: int = at(144, "i64", "bytes", "")
    max_size: int = at(152, "i64", "bytes", "")


class SecurityEntry(Record, title="ntfs security entry", size=20):
    """An entry of $SDS, which a security descriptor follows; also the data of the two indexes of $Secure."""

    hash: int = at(0, "u32", "", "of the descriptor")
    security_id: int = at(4, "u32", "", "")
    offset: int = at(8, "u64", "bytes", "in $SDS")
    length: int = at(16, "u32", "bytes", "with this entry")


class QuotaEntry(Record, title="ntfs quota entry", size=48):
    """The data of index $Q of $Quota; the owner follows."""

    version: int = at(0, "u32", "", "2")
    flags: int = at(4, "u32", "", "1: the default limits")
    bytes_used: int = at(8, "u64", "bytes", "")
    change_time: int = at(16, "u64", "", "")
    threshold: int = at(24, "i64", "bytes", "-1: none")
    limit: int = at(32, "i64", "bytes", "-1: none")
    exceeded_time: int = at(40, "u64", "", "")
