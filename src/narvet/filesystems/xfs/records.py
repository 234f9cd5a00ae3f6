"""The records of XFS version 5, by the XFS Algorithms and Data Structures document. Big-endian; blocks unless said."""

from __future__ import annotations

from uuid import UUID

from narvet.records import Record, at

MAGIC = b"XFSB"
VERSION = 5
NULL_AGINO = 0xFFFFFFFF
NULL_BLOCK = 0xFFFFFFFF

# sb_versionnum: link counts of 32 bits, aligned inodes, log of version 2, extent flags, folders of version 2, more bits
VERSION_BITS = 0x20 | 0x80 | 0x400 | 0x1000 | 0x2000 | 0x8000
STRIPE_BIT, SECTOR_BIT = 0x100, 0x800
# sb_features2: lazy counters, attributes of version 2, project ids of 32 bits, checksums
FEATURES2 = 0x2 | 0x8 | 0x80 | 0x100

RO_COMPAT = {0x1: "finobt", 0x2: "rmapbt", 0x4: "reflink", 0x8: "inobtcount"}
INCOMPAT = {
    0x1: "ftype", 0x2: "spinodes", 0x4: "meta_uuid", 0x8: "bigtime", 0x10: "needsrepair", 0x20: "nrext64",
    0x40: "exchrange", 0x80: "parent", 0x100: "metadir", 0x200: "zoned",
}  # fmt: skip
FINOBT, RMAPBT, REFLINK, INOBTCOUNT = 0x1, 0x2, 0x4, 0x8
FTYPE, SPARSE_INODES, META_UUID, BIGTIME, NEEDS_REPAIR, NREXT64 = 0x1, 0x2, 0x4, 0x8, 0x10, 0x20

# Owners of runs of blocks in the reverse mapping tree.
OWN_FS, OWN_LOG, OWN_AG, OWN_INOBT, OWN_INODES, OWN_REFC = ((1 << 64) - n for n in (3, 4, 5, 6, 7, 8))


class Superblock(Record, title="xfs superblock", size=264, endian=">"):
    """Section "Superblocks"."""

    sb_magicnum: bytes = at(0, "4s", "", "XFSB")
    sb_blocksize: int = at(4, "u32", "bytes", "")
    sb_dblocks: int = at(8, "u64", "blocks", "of the filesystem")
    sb_rblocks: int = at(16, "u64", "", "no real-time device")
    sb_rextents: int = at(24, "u64", "", "")
    sb_uuid: UUID = at(32, "uuid", "", "id")
    sb_logstart: int = at(48, "u64", "block", "group number in the upper bits")
    sb_rootino: int = at(56, "u64", "inode", "root")
    sb_rbmino: int = at(64, "u64", "inode", "real-time bitmap")
    sb_rsumino: int = at(72, "u64", "inode", "real-time summary")
    sb_rextsize: int = at(80, "u32", "blocks", "")
    sb_agblocks: int = at(84, "u32", "blocks", "of every group but the last")
    sb_agcount: int = at(88, "u32", "", "groups")
    sb_rbmblocks: int = at(92, "u32", "", "")
    sb_logblocks: int = at(96, "u32", "blocks", "of the log")
    sb_versionnum: int = at(100, "u16", "", "version and bits")
    sb_sectsize: int = at(102, "u16", "bytes", "")
    sb_inodesize: int = at(104, "u16", "bytes", "")
    sb_inopblock: int = at(106, "u16", "", "inodes in a block")
    sb_fname: bytes = at(108, "12s", "", "label")
    sb_blocklog: int = at(120, "u8", "", "")
    sb_sectlog: int = at(121, "u8", "", "")
    sb_inodelog: int = at(122, "u8", "", "")
    sb_inopblog: int = at(123, "u8", "", "")
    sb_agblklog: int = at(124, "u8", "", "bits of a block number in a group")
    sb_rextslog: int = at(125, "u8", "", "")
    sb_inprogress: int = at(126, "u8", "", "1 while it is being made")
    sb_imax_pct: int = at(127, "u8", "percent", "that inodes may take")
    sb_icount: int = at(128, "u64", "", "inodes")
    sb_ifree: int = at(136, "u64", "", "free ones")
    sb_fdblocks: int = at(144, "u64", "blocks", "free")
    sb_frextents: int = at(152, "u64", "", "")
    sb_uquotino: int = at(160, "u64", "", "")
    sb_gquotino: int = at(168, "u64", "", "")
    sb_qflags: int = at(176, "u16", "", "")
    sb_flags: int = at(178, "u8", "", "")
    sb_shared_vn: int = at(179, "u8", "", "")
    sb_inoalignmt: int = at(180, "u32", "blocks", "inode chunks start on multiples of this")
    sb_unit: int = at(184, "u32", "blocks", "of one disk of a stripe")
    sb_width: int = at(188, "u32", "blocks", "of a whole stripe")
    sb_dirblklog: int = at(192, "u8", "", "")
    sb_logsectlog: int = at(193, "u8", "", "")
    sb_logsectsize: int = at(194, "u16", "bytes", "0 for 512")
    sb_logsunit: int = at(196, "u32", "bytes", "1: not striped")
    sb_features2: int = at(200, "u32", "", "")
    sb_bad_features2: int = at(204, "u32", "", "the same again")
    sb_features_compat: int = at(208, "u32", "", "")
    sb_features_ro_compat: int = at(212, "u32", "", "")
    sb_features_incompat: int = at(216, "u32", "", "")
    sb_features_log_incompat: int = at(220, "u32", "", "")
    sb_crc: bytes = at(224, "4s", "", "little-endian")
    sb_spino_align: int = at(228, "u32", "blocks", "sparse inode chunks start on multiples of this")
    sb_pquotino: int = at(232, "u64", "", "")
    sb_lsn: int = at(240, "u64", "", "last write's place in the log")
    sb_meta_uuid: UUID = at(248, "uuid", "", "id kept in metadata, where it is another")


class FreeHeader(Record, title="xfs agf", size=224, endian=">"):
    """Section "AG Free Space Block"; roots and levels are of the trees by block, by count, and of owners."""

    agf_magicnum: bytes = at(0, "4s", "", "XAGF")
    agf_versionnum: int = at(4, "u32", "", "1")
    agf_seqno: int = at(8, "u32", "", "number of the group")
    agf_length: int = at(12, "u32", "blocks", "of the group")
    agf_roots: tuple[int, ...] = at(16, "u32*3", "block", "")
    agf_levels: tuple[int, ...] = at(28, "u32*3", "", "")
    agf_flfirst: int = at(40, "u32", "", "first used place of the free list")
    agf_fllast: int = at(44, "u32", "", "last")
    agf_flcount: int = at(48, "u32", "", "blocks in it")
    agf_freeblks: int = at(52, "u32", "blocks", "free")
    agf_longest: int = at(56, "u32", "blocks", "longest free run")
    agf_btreeblks: int = at(60, "u32", "blocks", "of the free space trees beside their roots")
    agf_uuid: UUID = at(64, "uuid", "", "")
    agf_rmap_blocks: int = at(80, "u32", "blocks", "of the owners' tree")
    agf_refcount_blocks: int = at(84, "u32", "blocks", "of the reference counts' tree")
    agf_refcount_root: int = at(88, "u32", "block", "")
    agf_refcount_level: int = at(92, "u32", "", "")
    agf_spare: bytes = at(96, "112s", "", "")
    agf_lsn: int = at(208, "u64", "", "")
    agf_crc: bytes = at(216, "4s", "", "little-endian")
    agf_spare2: int = at(220, "u32", "", "")


class InodeHeader(Record, title="xfs agi", size=344, endian=">"):
    """Section "AG Inode Management"."""

    agi_magicnum: bytes = at(0, "4s", "", "XAGI")
    agi_versionnum: int = at(4, "u32", "", "1")
    agi_seqno: int = at(8, "u32", "", "")
    agi_length: int = at(12, "u32", "blocks", "")
    agi_count: int = at(16, "u32", "", "inodes")
    agi_root: int = at(20, "u32", "block", "of the inodes' tree")
    agi_level: int = at(24, "u32", "", "")
    agi_freecount: int = at(28, "u32", "", "free inodes")
    agi_newino: int = at(32, "u32", "inode", "last chunk")
    agi_dirino: int = at(36, "u32", "inode", "not used")
    agi_unlinked: tuple[int, ...] = at(40, "u32*64", "inode", "removed but still open")
    agi_uuid: UUID = at(296, "uuid", "", "")
    agi_crc: bytes = at(312, "4s", "", "little-endian")
    agi_pad32: int = at(316, "u32", "", "")
    agi_lsn: int = at(320, "u64", "", "")
    agi_free_root: int = at(328, "u32", "block", "of the free inodes' tree")
    agi_free_level: int = at(332, "u32", "", "")
    agi_iblocks: int = at(336, "u32", "blocks", "of the inodes' tree")
    agi_fblocks: int = at(340, "u32", "blocks", "of the free inodes' tree")


class FreeList(Record, title="xfs agfl", size=36, endian=">"):
    """Section "AG Free List"; block numbers follow to the end of the sector."""

    agfl_magicnum: bytes = at(0, "4s", "", "XAFL")
    agfl_seqno: int = at(4, "u32", "", "")
    agfl_uuid: UUID = at(8, "uuid", "", "")
    agfl_lsn: int = at(24, "u64", "", "")
    agfl_crc: bytes = at(32, "4s", "", "little-endian")


class TreeBlock(Record, title="xfs btree block", size=56, endian=">"):
    """Section "Short Format B+tree Node and Leaf Blocks"."""

    bb_magic: bytes = at(0, "4s", "", "which tree")
    bb_level: int = at(4, "u16", "", "0 for leaves")
    bb_numrecs: int = at(6, "u16", "", "")
    bb_leftsib: int = at(8, "u32", "block", "")
    bb_rightsib: int = at(12, "u32", "block", "")
    bb_blkno: int = at(16, "u64", "512 bytes", "where it lies")
    bb_lsn: int = at(24, "u64", "", "")
    bb_uuid: UUID = at(32, "uuid", "", "")
    bb_owner: int = at(48, "u32", "", "number of the group")
    bb_crc: bytes = at(52, "4s", "", "little-endian")


class FreeRun(Record, title="xfs free space record", size=8, endian=">"):
    """Section "AG Free Space B+trees"."""

    ar_startblock: int = at(0, "u32", "block", "")
    ar_blockcount: int = at(4, "u32", "blocks", "")


class InodeChunk(Record, title="xfs inode chunk record", size=16, endian=">"):
    """Section "Inode B+trees", sparse form."""

    ir_startino: int = at(0, "u32", "inode", "")
    ir_holemask: int = at(4, "u16", "", "0: the chunk is whole")
    ir_count: int = at(6, "u8", "", "inodes")
    ir_freecount: int = at(7, "u8", "", "free ones")
    ir_free: int = at(8, "u64", "", "bit by bit")


class OwnedRun(Record, title="xfs reverse mapping record", size=24, endian=">"):
    """Section "Reverse-Mapping B+tree"."""

    rm_startblock: int = at(0, "u32", "block", "")
    rm_blockcount: int = at(4, "u32", "blocks", "")
    rm_owner: int = at(8, "u64", "", "")
    rm_offset: int = at(16, "u64", "", "")


class CountedRun(Record, title="xfs reference count record", size=12, endian=">"):
    """Section "Reference Count B+tree"."""

    rc_startblock: int = at(0, "u32", "block", "upper bit: staged for copying")
    rc_blockcount: int = at(4, "u32", "blocks", "")
    rc_refcount: int = at(8, "u32", "", "owners")


class Inode(Record, title="xfs inode", size=176, endian=">"):
    """Section "Inode Core", version 3."""

    di_magic: bytes = at(0, "2s", "", "IN")
    di_mode: int = at(2, "u16", "", "")
    di_version: int = at(4, "u8", "", "3")
    di_format: int = at(5, "u8", "", "1 in the inode, 2 extents")
    di_onlink: int = at(6, "u16", "", "")
    di_uid: int = at(8, "u32", "", "")
    di_gid: int = at(12, "u32", "", "")
    di_nlink: int = at(16, "u32", "", "")
    di_projid_lo: int = at(20, "u16", "", "")
    di_projid_hi: int = at(22, "u16", "", "")
    di_big_nextents: int = at(24, "u64", "", "extents, by 64 bits")
    di_atime: int = at(32, "u64", "", "nanoseconds since December 1901")
    di_mtime: int = at(40, "u64", "", "")
    di_ctime: int = at(48, "u64", "", "")
    di_size: int = at(56, "u64", "bytes", "")
    di_nblocks: int = at(64, "u64", "blocks", "")
    di_extsize: int = at(72, "u32", "", "")
    di_nextents: int = at(76, "u32", "", "")
    di_anextents: int = at(80, "u16", "", "")
    di_forkoff: int = at(82, "u8", "", "")
    di_aformat: int = at(83, "u8", "", "2 extents")
    di_dmevmask: int = at(84, "u32", "", "")
    di_dmstate: int = at(88, "u16", "", "")
    di_flags: int = at(90, "u16", "", "")
    di_gen: int = at(92, "u32", "", "")
    di_next_unlinked: int = at(96, "u32", "", "")
    di_crc: bytes = at(100, "4s", "", "little-endian")
    di_changecount: int = at(104, "u64", "", "")
    di_lsn: int = at(112, "u64", "", "")
    di_flags2: int = at(120, "u64", "", "8 times of 64 bits, 16 extent counts of 64 bits")
    di_cowextsize: int = at(128, "u32", "", "")
    di_pad2: bytes = at(132, "12s", "", "")
    di_crtime: int = at(144, "u64", "", "")
    di_ino: int = at(152, "u64", "", "its own number")
    di_uuid: UUID = at(160, "uuid", "", "")


class LogHeader(Record, title="xfs log record header", size=512, endian=">"):
    """Section "Log Records"."""

    h_magicno: int = at(0, "u32", "", "0xFEEDBABE")
    h_cycle: int = at(4, "u32", "", "")
    h_version: int = at(8, "u32", "", "2")
    h_len: int = at(12, "u32", "bytes", "that follow")
    h_lsn: int = at(16, "u64", "", "cycle and block of this record")
    h_tail_lsn: int = at(24, "u64", "", "")
    h_crc: int = at(32, "u32", "", "0: none")
    h_prev_block: int = at(36, "u32", "", "")
    h_num_logops: int = at(40, "u32", "", "")
    h_cycle_data: tuple[int, ...] = at(44, "u32*64", "", "first word of each block that follows")
    h_fmt: int = at(300, "u32", "", "1: little-endian Linux")
    h_fs_uuid: UUID = at(304, "uuid", "", "")
    h_size: int = at(320, "u32", "bytes", "of a log buffer")
    h_pad: bytes = at(324, "188s", "", "")


class LogOperation(Record, title="xfs log operation header", size=12, endian=">"):
    """Section "Log Operations"."""

    oh_tid: int = at(0, "u32", "", "")
    oh_len: int = at(4, "u32", "bytes", "")
    oh_clientid: int = at(8, "u8", "", "0xAA the log itself")
    oh_flags: int = at(9, "u8", "", "0x20 unmount")
    oh_res2: int = at(10, "u16", "", "")
