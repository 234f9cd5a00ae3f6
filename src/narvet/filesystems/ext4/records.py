"""The on-disk records of ext4, by the Linux kernel's documentation (Documentation/filesystems/ext4).

Section names in the docstrings are that documentation's. All fields are little-endian but the journal's.
"""

from __future__ import annotations

from uuid import UUID

from narvet.records import Record, at

MAGIC = 0xEF53
SUPERBLOCK_OFFSET = 1024
EXTENT_MAGIC = 0xF30A
JOURNAL_MAGIC = 0xC03B3998
DESCRIPTOR_SIZE = 64
INODE_SIZE = 256
EXTRA_ISIZE = 32
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

GROUP_INODES_UNUSED = 0x1
GROUP_BLOCKS_UNUSED = 0x2
GROUP_TABLE_ZEROED = 0x4


class Superblock(Record, title="ext4 superblock", size=1024):
    """Section "Super Block"."""

    s_inodes_count: int = at(0x0, "u32", "inodes", "all inodes")
    s_blocks_count_lo: int = at(0x4, "u32", "blocks", "all blocks")
    s_r_blocks_count_lo: int = at(0x8, "u32", "blocks", "kept for the superuser")
    s_free_blocks_count_lo: int = at(0xC, "u32", "blocks", "free")
    s_free_inodes_count: int = at(0x10, "u32", "inodes", "free")
    s_first_data_block: int = at(0x14, "u32", "blocks", "1 where blocks are 1 KiB, else 0")
    s_log_block_size: int = at(0x18, "u32", "", "block size is 1024 << this")
    s_log_cluster_size: int = at(0x1C, "u32", "", "cluster size is 1024 << this")
    s_blocks_per_group: int = at(0x20, "u32", "blocks", "in each group")
    s_clusters_per_group: int = at(0x24, "u32", "clusters", "in each group")
    s_inodes_per_group: int = at(0x28, "u32", "inodes", "in each group")
    s_mtime: int = at(0x2C, "u32", "seconds", "last mount")
    s_wtime: int = at(0x30, "u32", "seconds", "last write")
    s_mnt_count: int = at(0x34, "u16", "", "mounts since the last check")
    s_max_mnt_count: int = at(0x36, "u16", "", "mounts after which to check; 0xffff never")
    s_magic: int = at(0x38, "u16", "", "0xEF53")
    s_state: int = at(0x3A, "u16", "", "1 clean, 2 errors seen")
    s_errors: int = at(0x3C, "u16", "", "on errors: 1 go on, 2 read-only, 3 panic")
    s_minor_rev_level: int = at(0x3E, "u16", "", "zero")
    s_lastcheck: int = at(0x40, "u32", "seconds", "last check")
    s_checkinterval: int = at(0x44, "u32", "seconds", "between checks; 0 never")
    s_creator_os: int = at(0x48, "u32", "", "0 Linux")
    s_rev_level: int = at(0x4C, "u32", "", "1: inode sizes and features")
    s_def_resuid: int = at(0x50, "u16", "", "user who may use the kept blocks")
    s_def_resgid: int = at(0x52, "u16", "", "group that may")
    s_first_ino: int = at(0x54, "u32", "", "first inode not reserved")
    s_inode_size: int = at(0x58, "u16", "bytes", "of an inode")
    s_block_group_nr: int = at(0x5A, "u16", "", "group this copy lies in")
    s_feature_compat: int = at(0x5C, "u32", "", "features a kernel may ignore")
    s_feature_incompat: int = at(0x60, "u32", "", "features a kernel must know")
    s_feature_ro_compat: int = at(0x64, "u32", "", "features needed for writing")
    s_uuid: UUID = at(0x68, "uuid", "", "id of the filesystem")
    s_volume_name: bytes = at(0x78, "16s", "", "label")
    s_last_mounted: bytes = at(0x88, "64s", "", "where it was mounted last")
    s_algorithm_usage_bitmap: int = at(0xC8, "u32", "", "not used")
    s_prealloc_blocks: int = at(0xCC, "u8", "", "not used")
    s_prealloc_dir_blocks: int = at(0xCD, "u8", "", "not used")
    s_reserved_gdt_blocks: int = at(0xCE, "u16", "blocks", "kept for more group descriptors")
    s_journal_uuid: bytes = at(0xD0, "16s", "", "id of an external journal")
    s_journal_inum: int = at(0xE0, "u32", "", "inode of the journal")
    s_journal_dev: int = at(0xE4, "u32", "", "device of an external journal")
    s_last_orphan: int = at(0xE8, "u32", "", "head of the list of orphans")
    s_hash_seed: UUID = at(0xEC, "uuid", "", "seed of the directory hash")
    s_def_hash_version: int = at(0xFC, "u8", "", "1 half MD4")
    s_jnl_backup_type: int = at(0xFD, "u8", "", "1: s_jnl_blocks holds the journal's i_block and size")
    s_desc_size: int = at(0xFE, "u16", "bytes", "of a group descriptor")
    s_default_mount_opts: int = at(0x100, "u32", "", "0x4 user_xattr, 0x8 acl")
    s_first_meta_bg: int = at(0x104, "u32", "", "first meta block group")
    s_creation_time: int = at(0x108, "u32", "seconds", "when it was made")
    s_jnl_blocks: tuple[int, ...] = at(0x10C, "u32*17", "", "copy of the journal's i_block and size")
    s_blocks_count_hi: int = at(0x150, "u32", "blocks", "upper half")
    s_r_blocks_count_hi: int = at(0x154, "u32", "blocks", "upper half")
    s_free_blocks_count_hi: int = at(0x158, "u32", "blocks", "upper half")
    s_min_extra_isize: int = at(0x15C, "u16", "bytes", "every inode has beyond 128")
    s_want_extra_isize: int = at(0x15E, "u16", "bytes", "new inodes should have")
    s_flags: int = at(0x160, "u32", "", "1 signed, 2 unsigned directory hash")
    s_raid_stride: int = at(0x164, "u16", "blocks", "of one disk of a stripe")
    s_mmp_interval: int = at(0x166, "u16", "seconds", "not used")
    s_mmp_block: int = at(0x168, "u64", "", "not used")
    s_raid_stripe_width: int = at(0x170, "u32", "blocks", "of a whole stripe")
    s_log_groups_per_flex: int = at(0x174, "u8", "", "groups whose metadata lie together: 1 << this")
    s_checksum_type: int = at(0x175, "u8", "", "1 crc32c")
    s_reserved_pad: int = at(0x176, "u16", "", "zero")
    s_kbytes_written: int = at(0x178, "u64", "KiB", "written in its lifetime")
    s_snapshots: bytes = at(0x180, "20s", "", "not used")
    s_error_fields: bytes = at(0x194, "108s", "", "first and last error seen")
    s_mount_opts: bytes = at(0x200, "64s", "", "mount options as text")
    s_quota_inums: bytes = at(0x240, "8s", "", "inodes of quota files")
    s_overhead_clusters: int = at(0x248, "u32", "clusters", "taken by metadata")
    s_backup_bgs: tuple[int, ...] = at(0x24C, "u32*2", "", "groups of the copies, where only two are kept")
    s_encrypt: bytes = at(0x254, "20s", "", "not used")
    s_lpf_ino: int = at(0x268, "u32", "", "inode of lost+found")
    s_prj_quota_inum: int = at(0x26C, "u32", "", "not used")
    s_checksum_seed: int = at(0x270, "u32", "", "where every metadata checksum starts")
    s_time_hi: bytes = at(0x274, "8s", "", "upper bits of times, encoding")
    s_orphan_file_inum: int = at(0x27C, "u32", "", "not used")
    s_reserved: bytes = at(0x280, "380s", "", "zero")
    s_checksum: int = at(0x3FC, "u32", "", "crc32c of everything before")


class GroupDescriptor(Record, title="ext4 group descriptor", size=DESCRIPTOR_SIZE):
    """Section "Block Group Descriptors", the 64-byte form."""

    bg_block_bitmap_lo: int = at(0x0, "u32", "block", "where the block bitmap lies")
    bg_inode_bitmap_lo: int = at(0x4, "u32", "block", "where the inode bitmap lies")
    bg_inode_table_lo: int = at(0x8, "u32", "block", "where the inode table starts")
    bg_free_blocks_count_lo: int = at(0xC, "u16", "blocks", "free")
    bg_free_inodes_count_lo: int = at(0xE, "u16", "inodes", "free")
    bg_used_dirs_count_lo: int = at(0x10, "u16", "", "directories")
    bg_flags: int = at(0x12, "u16", "", "1 inodes unused, 2 blocks unused, 4 table zeroed")
    bg_exclude_bitmap_lo: int = at(0x14, "u32", "", "not used")
    bg_block_bitmap_csum_lo: int = at(0x18, "u16", "", "checksum of the block bitmap")
    bg_inode_bitmap_csum_lo: int = at(0x1A, "u16", "", "checksum of the inode bitmap")
    bg_itable_unused_lo: int = at(0x1C, "u16", "inodes", "never used at the table's end")
    bg_checksum: int = at(0x1E, "u16", "", "checksum of the descriptor")
    bg_block_bitmap_hi: int = at(0x20, "u32", "block", "upper half")
    bg_inode_bitmap_hi: int = at(0x24, "u32", "block", "upper half")
    bg_inode_table_hi: int = at(0x28, "u32", "block", "upper half")
    bg_free_blocks_count_hi: int = at(0x2C, "u16", "blocks", "upper half")
    bg_free_inodes_count_hi: int = at(0x2E, "u16", "inodes", "upper half")
    bg_used_dirs_count_hi: int = at(0x30, "u16", "", "upper half")
    bg_itable_unused_hi: int = at(0x32, "u16", "inodes", "upper half")
    bg_exclude_bitmap_hi: int = at(0x34, "u32", "", "not used")
    bg_block_bitmap_csum_hi: int = at(0x38, "u16", "", "upper half")
    bg_inode_bitmap_csum_hi: int = at(0x3A, "u16", "", "upper half")
    bg_reserved: int = at(0x3C, "u32", "", "zero")


class Inode(Record, title="ext4 inode", size=INODE_SIZE):
    """Section "Index Nodes"."""

    i_mode: int = at(0x0, "u16", "", "kind and permissions")
    i_uid: int = at(0x2, "u16", "", "owner")
    i_size_lo: int = at(0x4, "u32", "bytes", "size")
    i_atime: int = at(0x8, "u32", "seconds", "last read")
    i_ctime: int = at(0xC, "u32", "seconds", "last change of the inode")
    i_mtime: int = at(0x10, "u32", "seconds", "last change of the content")
    i_dtime: int = at(0x14, "u32", "seconds", "deletion")
    i_gid: int = at(0x18, "u16", "", "group")
    i_links_count: int = at(0x1A, "u16", "", "names")
    i_blocks_lo: int = at(0x1C, "u32", "512 bytes", "stored")
    i_flags: int = at(0x20, "u32", "", "0x80000 extents")
    i_version_lo: int = at(0x24, "u32", "", "version")
    i_block: bytes = at(0x28, "60s", "", "block map or extent tree")
    i_generation: int = at(0x64, "u32", "", "changes when the inode is used again")
    i_file_acl_lo: int = at(0x68, "u32", "block", "extended attributes")
    i_size_high: int = at(0x6C, "u32", "bytes", "upper half")
    i_obso_faddr: int = at(0x70, "u32", "", "not used")
    i_blocks_high: int = at(0x74, "u16", "512 bytes", "upper half")
    i_file_acl_high: int = at(0x76, "u16", "block", "upper half")
    i_uid_high: int = at(0x78, "u16", "", "upper half")
    i_gid_high: int = at(0x7A, "u16", "", "upper half")
    i_checksum_lo: int = at(0x7C, "u16", "", "checksum of the inode")
    i_reserved: int = at(0x7E, "u16", "", "zero")
    i_extra_isize: int = at(0x80, "u16", "bytes", "fields after the first 128 bytes")
    i_checksum_hi: int = at(0x82, "u16", "", "upper half")
    i_ctime_extra: int = at(0x84, "u32", "", "nanoseconds and upper bits")
    i_mtime_extra: int = at(0x88, "u32", "", "nanoseconds and upper bits")
    i_atime_extra: int = at(0x8C, "u32", "", "nanoseconds and upper bits")
    i_crtime: int = at(0x90, "u32", "seconds", "made")
    i_crtime_extra: int = at(0x94, "u32", "", "nanoseconds and upper bits")
    i_version_hi: int = at(0x98, "u32", "", "upper half")
    i_projid: int = at(0x9C, "u32", "", "project")
    i_in_inode_attributes: bytes = at(0xA0, "96s", "", "extended attributes")


class ExtentHeader(Record, title="ext4 extent header", size=12):
    """Section "The Contents of inode.i_block", extent tree."""

    eh_magic: int = at(0, "u16", "", "0xF30A")
    eh_entries: int = at(2, "u16", "", "entries in use")
    eh_max: int = at(4, "u16", "", "entries that fit")
    eh_depth: int = at(6, "u16", "", "0: entries are extents")
    eh_generation: int = at(8, "u32", "", "zero")


class Extent(Record, title="ext4 extent", size=12):
    """Section "The Contents of inode.i_block", extent tree."""

    ee_block: int = at(0, "u32", "block", "first block of the file it maps")
    ee_len: int = at(4, "u16", "blocks", "length")
    ee_start_hi: int = at(6, "u16", "block", "upper part")
    ee_start_lo: int = at(8, "u32", "block", "where it lies")


class DirectoryTail(Record, title="ext4 directory tail", size=12):
    """Section "Linear (Classic) Directories": ends every directory block, in the form of an unused entry."""

    det_reserved_zero1: int = at(0, "u32", "", "inode: zero")
    det_rec_len: int = at(4, "u16", "bytes", "12")
    det_reserved_zero2: int = at(6, "u8", "", "length of the name: zero")
    det_reserved_ft: int = at(7, "u8", "", "0xDE")
    det_checksum: int = at(8, "u32", "", "crc32c of the block before it")


class JournalSuperblock(Record, title="ext4 journal superblock", size=1024, endian=">"):
    """Section "Journal (jbd2)", version 2; big-endian."""

    h_magic: int = at(0x0, "u32", "", "0xC03B3998")
    h_blocktype: int = at(0x4, "u32", "", "4: superblock, version 2")
    h_sequence: int = at(0x8, "u32", "", "zero")
    s_blocksize: int = at(0xC, "u32", "bytes", "of a journal block")
    s_maxlen: int = at(0x10, "u32", "blocks", "in the journal")
    s_first: int = at(0x14, "u32", "block", "first of the log")
    s_sequence: int = at(0x18, "u32", "", "first transaction expected")
    s_start: int = at(0x1C, "u32", "block", "where the log starts; 0 means clean")
    s_errno: int = at(0x20, "u32", "", "error seen")
    s_feature_compat: int = at(0x24, "u32", "", "features")
    s_feature_incompat: int = at(0x28, "u32", "", "features")
    s_feature_ro_compat: int = at(0x2C, "u32", "", "features")
    s_uuid: UUID = at(0x30, "uuid", "", "id of the journal")
    s_nr_users: int = at(0x40, "u32", "", "filesystems using it")
    s_dynsuper: int = at(0x44, "u32", "", "not used")
    s_max_transaction: int = at(0x48, "u32", "blocks", "not used")
    s_max_trans_data: int = at(0x4C, "u32", "blocks", "not used")
    s_checksum_type: int = at(0x50, "u8", "", "set by the kernel with its checksums")
    s_padding2: bytes = at(0x51, "3s", "", "zero")
    s_num_fc_blocks: int = at(0x54, "u32", "blocks", "for fast commits")
    s_head: int = at(0x58, "u32", "block", "head of the log")
    s_padding: bytes = at(0x5C, "160s", "", "zero")
    s_checksum: int = at(0xFC, "u32", "", "set by the kernel with its checksums")
    s_users: bytes = at(0x100, "768s", "", "ids of the users of an external journal")
