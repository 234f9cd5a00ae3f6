"""The on-disk records of ext4, by the Linux kernel's documentation (Documentation/filesystems/ext4).

Section names in the docstrings are that documentation's. All fields are little-endian but the journal's.
"""

from __future__ import annotations

from uuid import UUID

from narvet.ground.records import Record, raw, u8, u16, u32, u32s, u64, uuid

MAGIC = 0xEF53
SUPERBLOCK_OFFSET = 1024
EXTENT_MAGIC = 0xF30A
JOURNAL_MAGIC = 0xC03B3998
DESCRIPTOR_SIZE = 64
INODE_SIZE = 256
EXTRA_ISIZE = 32
USES_EXTENTS, INDEXED, INLINE_DATA, ENCRYPTED = 0x80000, 0x1000, 0x10000000, 0x800  # in i_flags
HUGE_FILE, CASEFOLDED = 0x40000, 0x40000000
LONGEST_EXTENT = 32768  # blocks; a larger ee_len marks an extent as unwritten

COMPAT = {0x4: "has_journal", 0x8: "ext_attr", 0x10: "resize_inode", 0x20: "dir_index"}
INCOMPAT = {
    0x2: "filetype",
    0x4: "recover",
    0x10: "meta_bg",
    0x40: "extents",
    0x80: "64bit",
    0x200: "flex_bg",
    0x2000: "csum_seed",
}
RO_COMPAT = {
    0x1: "sparse_super",
    0x2: "large_file",
    0x8: "huge_file",
    0x20: "dir_nlink",
    0x40: "extra_isize",
    0x200: "bigalloc",
    0x400: "metadata_csum",
}
NEEDS_RECOVERY = 0x4
ORPHANS_LEFT = 0x10000  # in s_feature_ro_compat: the orphan file names some

# Features that are not made here: their names, for those who look.
OTHER_COMPAT = {
    0x1: "dir_prealloc", 0x2: "imagic_inodes", 0x40: "lazy_bg", 0x100: "exclude_bitmap", 0x200: "sparse_super2",
    0x400: "fast_commit", 0x800: "stable_inodes", 0x1000: "orphan_file",
}  # fmt: skip
OTHER_INCOMPAT = {
    0x1: "compression", 0x8: "journal_dev", 0x100: "mmp", 0x400: "ea_inode", 0x1000: "dirdata", 0x4000: "large_dir",
    0x8000: "inline_data", 0x10000: "encrypt", 0x20000: "casefold",
}  # fmt: skip
OTHER_RO_COMPAT = {
    0x4: "btree_dir", 0x10: "uninit_bg", 0x80: "has_snapshot", 0x100: "quota", 0x800: "replica", 0x1000: "readonly",
    0x2000: "project", 0x4000: "shared_blocks", 0x8000: "verity", ORPHANS_LEFT: "orphan_present",
}  # fmt: skip

UNDERSTOOD = frozenset({
    "resize_inode", "meta_bg", "64bit", "flex_bg", "csum_seed", "sparse_super", "bigalloc", "metadata_csum",
    "uninit_bg", "has_journal",
})  # fmt: skip
"""Features that say where metadata lie and how they are signed: what growth must know, and does."""
HARMLESS = frozenset({
    "dir_prealloc", "imagic_inodes", "ext_attr", "dir_index", "fast_commit", "stable_inodes", "orphan_file", "filetype",
    "extents", "mmp", "ea_inode", "large_dir", "inline_data", "encrypt", "casefold", "large_file", "huge_file",
    "dir_nlink", "extra_isize", "quota", "project", "verity",
})  # fmt: skip
"""Features about what files hold: growth touches none of it."""

GROUP_INODES_UNUSED = 0x1
GROUP_BLOCKS_UNUSED = 0x2
GROUP_TABLE_ZEROED = 0x4


class Superblock(Record, title="ext4 superblock", size=1024):
    """Section "Super Block"."""

    s_inodes_count: int = u32(0x0, "inodes", "all inodes")
    s_blocks_count_lo: int = u32(0x4, "blocks", "all blocks")
    s_r_blocks_count_lo: int = u32(0x8, "blocks", "kept for the superuser")
    s_free_blocks_count_lo: int = u32(0xC, "blocks", "free")
    s_free_inodes_count: int = u32(0x10, "inodes", "free")
    s_first_data_block: int = u32(0x14, "blocks", "1 where blocks are 1 KiB, else 0")
    s_log_block_size: int = u32(0x18, "", "block size is 1024 << this")
    s_log_cluster_size: int = u32(0x1C, "", "cluster size is 1024 << this")
    s_blocks_per_group: int = u32(0x20, "blocks", "in each group")
    s_clusters_per_group: int = u32(0x24, "clusters", "in each group")
    s_inodes_per_group: int = u32(0x28, "inodes", "in each group")
    s_mtime: int = u32(0x2C, "seconds", "last mount")
    s_wtime: int = u32(0x30, "seconds", "last write")
    s_mnt_count: int = u16(0x34, "", "mounts since the last check")
    s_max_mnt_count: int = u16(0x36, "", "mounts after which to check; 0xffff never")
    s_magic: int = u16(0x38, "", "0xEF53")
    s_state: int = u16(0x3A, "", "1 clean, 2 errors seen")
    s_errors: int = u16(0x3C, "", "on errors: 1 go on, 2 read-only, 3 panic")
    s_minor_rev_level: int = u16(0x3E, "", "zero")
    s_lastcheck: int = u32(0x40, "seconds", "last check")
    s_checkinterval: int = u32(0x44, "seconds", "between checks; 0 never")
    s_creator_os: int = u32(0x48, "", "0 Linux")
    s_rev_level: int = u32(0x4C, "", "1: inode sizes and features")
    s_def_resuid: int = u16(0x50, "", "user who may use the kept blocks")
    s_def_resgid: int = u16(0x52, "", "group that may")
    s_first_ino: int = u32(0x54, "", "first inode not reserved")
    s_inode_size: int = u16(0x58, "bytes", "of an inode")
    s_block_group_nr: int = u16(0x5A, "", "group this copy lies in")
    s_feature_compat: int = u32(0x5C, "", "features a kernel may ignore")
    s_feature_incompat: int = u32(0x60, "", "features a kernel must know")
    s_feature_ro_compat: int = u32(0x64, "", "features needed for writing")
    s_uuid: UUID = uuid(0x68, "", "id of the filesystem")
    s_volume_name: bytes = raw(0x78, 16, "", "label")
    s_last_mounted: bytes = raw(0x88, 64, "", "where it was mounted last")
    s_algorithm_usage_bitmap: int = u32(0xC8, "", "not used")
    s_prealloc_blocks: int = u8(0xCC, "", "not used")
    s_prealloc_dir_blocks: int = u8(0xCD, "", "not used")
    s_reserved_gdt_blocks: int = u16(0xCE, "blocks", "kept for more group descriptors")
    s_journal_uuid: bytes = raw(0xD0, 16, "", "id of an external journal")
    s_journal_inum: int = u32(0xE0, "", "inode of the journal")
    s_journal_dev: int = u32(0xE4, "", "device of an external journal")
    s_last_orphan: int = u32(0xE8, "", "head of the list of orphans")
    s_hash_seed: UUID = uuid(0xEC, "", "seed of the directory hash")
    s_def_hash_version: int = u8(0xFC, "", "1 half MD4")
    s_jnl_backup_type: int = u8(0xFD, "", "1: s_jnl_blocks holds the journal's i_block and size")
    s_desc_size: int = u16(0xFE, "bytes", "of a group descriptor")
    s_default_mount_opts: int = u32(0x100, "", "0x4 user_xattr, 0x8 acl")
    s_first_meta_bg: int = u32(0x104, "", "first meta block group")
    s_creation_time: int = u32(0x108, "seconds", "when it was made")
    s_jnl_blocks: tuple[int, ...] = u32s(0x10C, 17, "", "copy of the journal's i_block and size")
    s_blocks_count_hi: int = u32(0x150, "blocks", "upper half")
    s_r_blocks_count_hi: int = u32(0x154, "blocks", "upper half")
    s_free_blocks_count_hi: int = u32(0x158, "blocks", "upper half")
    s_min_extra_isize: int = u16(0x15C, "bytes", "every inode has beyond 128")
    s_want_extra_isize: int = u16(0x15E, "bytes", "new inodes should have")
    s_flags: int = u32(0x160, "", "1 signed, 2 unsigned directory hash")
    s_raid_stride: int = u16(0x164, "blocks", "of one disk of a stripe")
    s_mmp_interval: int = u16(0x166, "seconds", "between looks at who has it mounted")
    s_mmp_block: int = u64(0x168, "block", "where a kernel says that it has it mounted")
    s_raid_stripe_width: int = u32(0x170, "blocks", "of a whole stripe")
    s_log_groups_per_flex: int = u8(0x174, "", "groups whose metadata lie together: 1 << this")
    s_checksum_type: int = u8(0x175, "", "1 crc32c")
    s_reserved_pad: int = u16(0x176, "", "zero")
    s_kbytes_written: int = u64(0x178, "KiB", "written in its lifetime")
    s_snapshots: bytes = raw(0x180, 20, "", "not used")
    s_error_fields: bytes = raw(0x194, 108, "", "first and last error seen")
    s_mount_opts: bytes = raw(0x200, 64, "", "mount options as text")
    s_quota_inums: bytes = raw(0x240, 8, "", "inodes of quota files")
    s_overhead_clusters: int = u32(0x248, "clusters", "taken by metadata")
    s_backup_bgs: tuple[int, ...] = u32s(0x24C, 2, "", "groups of the copies, where only two are kept")
    s_encrypt: bytes = raw(0x254, 20, "", "not used")
    s_lpf_ino: int = u32(0x268, "", "inode of lost+found")
    s_prj_quota_inum: int = u32(0x26C, "", "inode of the project quota")
    s_checksum_seed: int = u32(0x270, "", "where every metadata checksum starts")
    s_time_hi: bytes = raw(0x274, 12, "", "upper bits of times, encoding")
    s_orphan_file_inum: int = u32(0x280, "", "inode of the orphan file")
    s_reserved: bytes = raw(0x284, 376, "", "zero")
    s_checksum: int = u32(0x3FC, "", "crc32c of everything before")


class GroupDescriptor(Record, title="ext4 group descriptor", size=DESCRIPTOR_SIZE):
    """Section "Block Group Descriptors", the 64-byte form."""

    bg_block_bitmap_lo: int = u32(0x0, "block", "where the block bitmap lies")
    bg_inode_bitmap_lo: int = u32(0x4, "block", "where the inode bitmap lies")
    bg_inode_table_lo: int = u32(0x8, "block", "where the inode table starts")
    bg_free_blocks_count_lo: int = u16(0xC, "blocks", "free")
    bg_free_inodes_count_lo: int = u16(0xE, "inodes", "free")
    bg_used_dirs_count_lo: int = u16(0x10, "", "directories")
    bg_flags: int = u16(0x12, "", "1 inodes unused, 2 blocks unused, 4 table zeroed")
    bg_exclude_bitmap_lo: int = u32(0x14, "", "not used")
    bg_block_bitmap_csum_lo: int = u16(0x18, "", "checksum of the block bitmap")
    bg_inode_bitmap_csum_lo: int = u16(0x1A, "", "checksum of the inode bitmap")
    bg_itable_unused_lo: int = u16(0x1C, "inodes", "never used at the table's end")
    bg_checksum: int = u16(0x1E, "", "checksum of the descriptor")
    bg_block_bitmap_hi: int = u32(0x20, "block", "upper half")
    bg_inode_bitmap_hi: int = u32(0x24, "block", "upper half")
    bg_inode_table_hi: int = u32(0x28, "block", "upper half")
    bg_free_blocks_count_hi: int = u16(0x2C, "blocks", "upper half")
    bg_free_inodes_count_hi: int = u16(0x2E, "inodes", "upper half")
    bg_used_dirs_count_hi: int = u16(0x30, "", "upper half")
    bg_itable_unused_hi: int = u16(0x32, "inodes", "upper half")
    bg_exclude_bitmap_hi: int = u32(0x34, "", "not used")
    bg_block_bitmap_csum_hi: int = u16(0x38, "", "upper half")
    bg_inode_bitmap_csum_hi: int = u16(0x3A, "", "upper half")
    bg_reserved: int = u32(0x3C, "", "zero")


class Inode(Record, title="ext4 inode", size=INODE_SIZE):
    """Section "Index Nodes"."""

    i_mode: int = u16(0x0, "", "kind and permissions")
    i_uid: int = u16(0x2, "", "owner")
    i_size_lo: int = u32(0x4, "bytes", "size")
    i_atime: int = u32(0x8, "seconds", "last read")
    i_ctime: int = u32(0xC, "seconds", "last change of the inode")
    i_mtime: int = u32(0x10, "seconds", "last change of the content")
    i_dtime: int = u32(0x14, "seconds", "deletion")
    i_gid: int = u16(0x18, "", "group")
    i_links_count: int = u16(0x1A, "", "names")
    i_blocks_lo: int = u32(0x1C, "512 bytes", "stored")
    i_flags: int = u32(0x20, "", "0x80000 extents")
    i_version_lo: int = u32(0x24, "", "version")
    i_block: bytes = raw(0x28, 60, "", "block map or extent tree")
    i_generation: int = u32(0x64, "", "changes when the inode is used again")
    i_file_acl_lo: int = u32(0x68, "block", "extended attributes")
    i_size_high: int = u32(0x6C, "bytes", "upper half")
    i_obso_faddr: int = u32(0x70, "", "not used")
    i_blocks_high: int = u16(0x74, "512 bytes", "upper half")
    i_file_acl_high: int = u16(0x76, "block", "upper half")
    i_uid_high: int = u16(0x78, "", "upper half")
    i_gid_high: int = u16(0x7A, "", "upper half")
    i_checksum_lo: int = u16(0x7C, "", "checksum of the inode")
    i_reserved: int = u16(0x7E, "", "zero")
    i_extra_isize: int = u16(0x80, "bytes", "fields after the first 128 bytes")
    i_checksum_hi: int = u16(0x82, "", "upper half")
    i_ctime_extra: int = u32(0x84, "", "nanoseconds and upper bits")
    i_mtime_extra: int = u32(0x88, "", "nanoseconds and upper bits")
    i_atime_extra: int = u32(0x8C, "", "nanoseconds and upper bits")
    i_crtime: int = u32(0x90, "seconds", "made")
    i_crtime_extra: int = u32(0x94, "", "nanoseconds and upper bits")
    i_version_hi: int = u32(0x98, "", "upper half")
    i_projid: int = u32(0x9C, "", "project")
    i_in_inode_attributes: bytes = raw(0xA0, 96, "", "extended attributes")


class ExtentHeader(Record, title="ext4 extent header", size=12):
    """Section "The Contents of inode.i_block", extent tree."""

    eh_magic: int = u16(0, "", "0xF30A")
    eh_entries: int = u16(2, "", "entries in use")
    eh_max: int = u16(4, "", "entries that fit")
    eh_depth: int = u16(6, "", "0: entries are extents")
    eh_generation: int = u32(8, "", "zero")


class ExtentRecord(Record, title="ext4 extent", size=12):
    """Section "The Contents of inode.i_block", extent tree."""

    ee_block: int = u32(0, "block", "first block of the file it maps")
    ee_len: int = u16(4, "blocks", "length")
    ee_start_hi: int = u16(6, "block", "upper part")
    ee_start_lo: int = u32(8, "block", "where it lies")


class DirectoryTail(Record, title="ext4 directory tail", size=12):
    """Section "Linear (Classic) Directories": ends every directory block, in the form of an unused entry."""

    det_reserved_zero1: int = u32(0, "", "inode: zero")
    det_rec_len: int = u16(4, "bytes", "12")
    det_reserved_zero2: int = u8(6, "", "length of the name: zero")
    det_reserved_ft: int = u8(7, "", "0xDE")
    det_checksum: int = u32(8, "", "crc32c of the block before it")


class JournalSuperblock(Record, title="ext4 journal superblock", size=1024, endian=">"):
    """Section "Journal (jbd2)", version 2; big-endian."""

    h_magic: int = u32(0x0, "", "0xC03B3998")
    h_blocktype: int = u32(0x4, "", "4: superblock, version 2")
    h_sequence: int = u32(0x8, "", "zero")
    s_blocksize: int = u32(0xC, "bytes", "of a journal block")
    s_maxlen: int = u32(0x10, "blocks", "in the journal")
    s_first: int = u32(0x14, "block", "first of the log")
    s_sequence: int = u32(0x18, "", "first transaction expected")
    s_start: int = u32(0x1C, "block", "where the log starts; 0 means clean")
    s_errno: int = u32(0x20, "", "error seen")
    s_feature_compat: int = u32(0x24, "", "features")
    s_feature_incompat: int = u32(0x28, "", "features")
    s_feature_ro_compat: int = u32(0x2C, "", "features")
    s_uuid: UUID = uuid(0x30, "", "id of the journal")
    s_nr_users: int = u32(0x40, "", "filesystems using it")
    s_dynsuper: int = u32(0x44, "", "not used")
    s_max_transaction: int = u32(0x48, "blocks", "not used")
    s_max_trans_data: int = u32(0x4C, "blocks", "not used")
    s_checksum_type: int = u8(0x50, "", "set by the kernel with its checksums")
    s_padding2: bytes = raw(0x51, 3, "", "zero")
    s_num_fc_blocks: int = u32(0x54, "blocks", "for fast commits")
    s_head: int = u32(0x58, "block", "head of the log")
    s_padding: bytes = raw(0x5C, 160, "", "zero")
    s_checksum: int = u32(0xFC, "", "set by the kernel with its checksums")
    s_users: bytes = raw(0x100, 768, "", "ids of the users of an external journal")
