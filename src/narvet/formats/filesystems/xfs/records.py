"""The records of XFS version 5, by the XFS Algorithms and Data Structures document. Big-endian; blocks unless said."""

from __future__ import annotations

from uuid import UUID

from narvet.ground.records import Record, raw, u8, u16, u32, u32s, u64, uuid

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

UNDERSTOOD = frozenset({"finobt", "rmapbt", "reflink", "inobtcount", "meta_uuid"})
"""Features that say what an allocation group holds: what growth must know, and does."""
HARMLESS = frozenset({"ftype", "spinodes", "bigtime", "nrext64", "exchrange", "parent"})
"""Features about inodes and folders: growth touches none of them."""

# Owners of runs of blocks in the reverse mapping tree.
FIRST_OWNER = 1 << 63  # from here on owners are no files
IN_ATTRIBUTES, IN_TREE, NOT_WRITTEN = 1 << 63, 1 << 62, 1 << 61  # in rm_offset
OWN_FS, OWN_LOG, OWN_AG, OWN_INOBT, OWN_INODES, OWN_REFC = ((1 << 64) - n for n in (3, 4, 5, 6, 7, 8))


class Superblock(Record, title="xfs superblock", size=264, endian=">"):
    """Section "Superblocks"."""

    sb_magicnum: bytes = raw(0, 4, "", "XFSB")
    sb_blocksize: int = u32(4, "bytes", "")
    sb_dblocks: int = u64(8, "blocks", "of the filesystem")
    sb_rblocks: int = u64(16, "", "no real-time device")
    sb_rextents: int = u64(24, "", "")
    sb_uuid: UUID = uuid(32, "", "id")
    sb_logstart: int = u64(48, "block", "group number in the upper bits")
    sb_rootino: int = u64(56, "inode", "root")
    sb_rbmino: int = u64(64, "inode", "real-time bitmap")
    sb_rsumino: int = u64(72, "inode", "real-time summary")
    sb_rextsize: int = u32(80, "blocks", "")
    sb_agblocks: int = u32(84, "blocks", "of every group but the last")
    sb_agcount: int = u32(88, "", "groups")
    sb_rbmblocks: int = u32(92, "", "")
    sb_logblocks: int = u32(96, "blocks", "of the log")
    sb_versionnum: int = u16(100, "", "version and bits")
    sb_sectsize: int = u16(102, "bytes", "")
    sb_inodesize: int = u16(104, "bytes", "")
    sb_inopblock: int = u16(106, "", "inodes in a block")
    sb_fname: bytes = raw(108, 12, "", "label")
    sb_blocklog: int = u8(120, "", "")
    sb_sectlog: int = u8(121, "", "")
    sb_inodelog: int = u8(122, "", "")
    sb_inopblog: int = u8(123, "", "")
    sb_agblklog: int = u8(124, "", "bits of a block number in a group")
    sb_rextslog: int = u8(125, "", "")
    sb_inprogress: int = u8(126, "", "1 while it is being made")
    sb_imax_pct: int = u8(127, "percent", "that inodes may take")
    sb_icount: int = u64(128, "", "inodes")
    sb_ifree: int = u64(136, "", "free ones")
    sb_fdblocks: int = u64(144, "blocks", "free")
    sb_frextents: int = u64(152, "", "")
    sb_uquotino: int = u64(160, "", "")
    sb_gquotino: int = u64(168, "", "")
    sb_qflags: int = u16(176, "", "")
    sb_flags: int = u8(178, "", "")
    sb_shared_vn: int = u8(179, "", "")
    sb_inoalignmt: int = u32(180, "blocks", "inode chunks start on multiples of this")
    sb_unit: int = u32(184, "blocks", "of one disk of a stripe")
    sb_width: int = u32(188, "blocks", "of a whole stripe")
    sb_dirblklog: int = u8(192, "", "")
    sb_logsectlog: int = u8(193, "", "")
    sb_logsectsize: int = u16(194, "bytes", "0 for 512")
    sb_logsunit: int = u32(196, "bytes", "1: not striped")
    sb_features2: int = u32(200, "", "")
    sb_bad_features2: int = u32(204, "", "the same again")
    sb_features_compat: int = u32(208, "", "")
    sb_features_ro_compat: int = u32(212, "", "")
    sb_features_incompat: int = u32(216, "", "")
    sb_features_log_incompat: int = u32(220, "", "")
    sb_crc: bytes = raw(224, 4, "", "little-endian")
    sb_spino_align: int = u32(228, "blocks", "sparse inode chunks start on multiples of this")
    sb_pquotino: int = u64(232, "", "")
    sb_lsn: int = u64(240, "", "last write's place in the log")
    sb_meta_uuid: UUID = uuid(248, "", "id kept in metadata, where it is another")


class FreeHeader(Record, title="xfs agf", size=224, endian=">"):
    """Section "AG Free Space Block"; roots and levels are of the trees by block, by count, and of owners."""

    agf_magicnum: bytes = raw(0, 4, "", "XAGF")
    agf_versionnum: int = u32(4, "", "1")
    agf_seqno: int = u32(8, "", "number of the group")
    agf_length: int = u32(12, "blocks", "of the group")
    agf_roots: tuple[int, ...] = u32s(16, 3, "block", "")
    agf_levels: tuple[int, ...] = u32s(28, 3, "", "")
    agf_flfirst: int = u32(40, "", "first used place of the free list")
    agf_fllast: int = u32(44, "", "last")
    agf_flcount: int = u32(48, "", "blocks in it")
    agf_freeblks: int = u32(52, "blocks", "free")
    agf_longest: int = u32(56, "blocks", "longest free run")
    agf_btreeblks: int = u32(60, "blocks", "of the free space trees beside their roots")
    agf_uuid: UUID = uuid(64, "", "")
    agf_rmap_blocks: int = u32(80, "blocks", "of the owners' tree")
    agf_refcount_blocks: int = u32(84, "blocks", "of the reference counts' tree")
    agf_refcount_root: int = u32(88, "block", "")
    agf_refcount_level: int = u32(92, "", "")
    agf_spare: bytes = raw(96, 112, "", "")
    agf_lsn: int = u64(208, "", "")
    agf_crc: bytes = raw(216, 4, "", "little-endian")
    agf_spare2: int = u32(220, "", "")


class InodeHeader(Record, title="xfs agi", size=344, endian=">"):
    """Section "AG Inode Management"."""

    agi_magicnum: bytes = raw(0, 4, "", "XAGI")
    agi_versionnum: int = u32(4, "", "1")
    agi_seqno: int = u32(8, "", "")
    agi_length: int = u32(12, "blocks", "")
    agi_count: int = u32(16, "", "inodes")
    agi_root: int = u32(20, "block", "of the inodes' tree")
    agi_level: int = u32(24, "", "")
    agi_freecount: int = u32(28, "", "free inodes")
    agi_newino: int = u32(32, "inode", "last chunk")
    agi_dirino: int = u32(36, "inode", "not used")
    agi_unlinked: tuple[int, ...] = u32s(40, 64, "inode", "removed but still open")
    agi_uuid: UUID = uuid(296, "", "")
    agi_crc: bytes = raw(312, 4, "", "little-endian")
    agi_pad32: int = u32(316, "", "")
    agi_lsn: int = u64(320, "", "")
    agi_free_root: int = u32(328, "block", "of the free inodes' tree")
    agi_free_level: int = u32(332, "", "")
    agi_iblocks: int = u32(336, "blocks", "of the inodes' tree")
    agi_fblocks: int = u32(340, "blocks", "of the free inodes' tree")


class FreeList(Record, title="xfs agfl", size=36, endian=">"):
    """Section "AG Free List"; block numbers follow to the end of the sector."""

    agfl_magicnum: bytes = raw(0, 4, "", "XAFL")
    agfl_seqno: int = u32(4, "", "")
    agfl_uuid: UUID = uuid(8, "", "")
    agfl_lsn: int = u64(24, "", "")
    agfl_crc: bytes = raw(32, 4, "", "little-endian")


class TreeBlock(Record, title="xfs btree block", size=56, endian=">"):
    """Section "Short Format B+tree Node and Leaf Blocks"."""

    bb_magic: bytes = raw(0, 4, "", "which tree")
    bb_level: int = u16(4, "", "0 for leaves")
    bb_numrecs: int = u16(6, "", "")
    bb_leftsib: int = u32(8, "block", "")
    bb_rightsib: int = u32(12, "block", "")
    bb_blkno: int = u64(16, "512 bytes", "where it lies")
    bb_lsn: int = u64(24, "", "")
    bb_uuid: UUID = uuid(32, "", "")
    bb_owner: int = u32(48, "", "number of the group")
    bb_crc: bytes = raw(52, 4, "", "little-endian")


class FreeRun(Record, title="xfs free space record", size=8, endian=">"):
    """Section "AG Free Space B+trees"."""

    ar_startblock: int = u32(0, "block", "")
    ar_blockcount: int = u32(4, "blocks", "")


class InodeChunk(Record, title="xfs inode chunk record", size=16, endian=">"):
    """Section "Inode B+trees", sparse form."""

    ir_startino: int = u32(0, "inode", "")
    ir_holemask: int = u16(4, "", "0: the chunk is whole")
    ir_count: int = u8(6, "", "inodes")
    ir_freecount: int = u8(7, "", "free ones")
    ir_free: int = u64(8, "", "bit by bit")


class OwnedRun(Record, title="xfs reverse mapping record", size=24, endian=">"):
    """Section "Reverse-Mapping B+tree"."""

    rm_startblock: int = u32(0, "block", "")
    rm_blockcount: int = u32(4, "blocks", "")
    rm_owner: int = u64(8, "", "")
    rm_offset: int = u64(16, "", "")


class CountedRun(Record, title="xfs reference count record", size=12, endian=">"):
    """Section "Reference Count B+tree"."""

    rc_startblock: int = u32(0, "block", "upper bit: staged for copying")
    rc_blockcount: int = u32(4, "blocks", "")
    rc_refcount: int = u32(8, "", "owners")


class Inode(Record, title="xfs inode", size=176, endian=">"):
    """Section "Inode Core", version 3."""

    di_magic: bytes = raw(0, 2, "", "IN")
    di_mode: int = u16(2, "", "")
    di_version: int = u8(4, "", "3")
    di_format: int = u8(5, "", "1 in the inode, 2 extents")
    di_onlink: int = u16(6, "", "")
    di_uid: int = u32(8, "", "")
    di_gid: int = u32(12, "", "")
    di_nlink: int = u32(16, "", "")
    di_projid_lo: int = u16(20, "", "")
    di_projid_hi: int = u16(22, "", "")
    di_big_nextents: int = u64(24, "", "extents, by 64 bits")
    di_atime: int = u64(32, "", "nanoseconds since December 1901")
    di_mtime: int = u64(40, "", "")
    di_ctime: int = u64(48, "", "")
    di_size: int = u64(56, "bytes", "")
    di_nblocks: int = u64(64, "blocks", "")
    di_extsize: int = u32(72, "", "")
    di_nextents: int = u32(76, "", "")
    di_anextents: int = u16(80, "", "")
    di_forkoff: int = u8(82, "", "")
    di_aformat: int = u8(83, "", "2 extents")
    di_dmevmask: int = u32(84, "", "")
    di_dmstate: int = u16(88, "", "")
    di_flags: int = u16(90, "", "")
    di_gen: int = u32(92, "", "")
    di_next_unlinked: int = u32(96, "", "")
    di_crc: bytes = raw(100, 4, "", "little-endian")
    di_changecount: int = u64(104, "", "")
    di_lsn: int = u64(112, "", "")
    di_flags2: int = u64(120, "", "8 times of 64 bits, 16 extent counts of 64 bits")
    di_cowextsize: int = u32(128, "", "")
    di_pad2: bytes = raw(132, 12, "", "")
    di_crtime: int = u64(144, "", "")
    di_ino: int = u64(152, "", "its own number")
    di_uuid: UUID = uuid(160, "", "")


class LogHeader(Record, title="xfs log record header", size=512, endian=">"):
    """Section "Log Records"."""

    h_magicno: int = u32(0, "", "0xFEEDBABE")
    h_cycle: int = u32(4, "", "")
    h_version: int = u32(8, "", "2")
    h_len: int = u32(12, "bytes", "that follow")
    h_lsn: int = u64(16, "", "cycle and block of this record")
    h_tail_lsn: int = u64(24, "", "")
    h_crc: int = u32(32, "", "0: none")
    h_prev_block: int = u32(36, "", "")
    h_num_logops: int = u32(40, "", "")
    h_cycle_data: tuple[int, ...] = u32s(44, 64, "", "first word of each block that follows")
    h_fmt: int = u32(300, "", "1: little-endian Linux")
    h_fs_uuid: UUID = uuid(304, "", "")
    h_size: int = u32(320, "bytes", "of a log buffer")
    h_pad: bytes = raw(324, 188, "", "")


class LogOperation(Record, title="xfs log operation header", size=12, endian=">"):
    """Section "Log Operations"."""

    oh_tid: int = u32(0, "", "")
    oh_len: int = u32(4, "bytes", "")
    oh_clientid: int = u8(8, "", "0xAA the log itself")
    oh_flags: int = u8(9, "", "0x20 unmount")
    oh_res2: int = u16(10, "", "")
