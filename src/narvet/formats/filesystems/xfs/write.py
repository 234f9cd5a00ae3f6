"""Writing a fresh XFS: first inodes and the log's stamp, then each group's headers and roots of trees, group 0 last."""

from __future__ import annotations

from uuid import UUID

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.xfs import records as r
from narvet.formats.filesystems.xfs.geometry import PlannedXfs
from narvet.formats.filesystems.xfs.groups import USED_INODES, group_bytes, sealed
from narvet.formats.filesystems.xfs.shape import INODE_SIZE, INODES_PER_CHUNK, Shape
from narvet.ground.values import replace

_DIRECTORY, _FILE = 0o040000, 0o100000
_IN_INODE, _EXTENTS = 1, 2
_NEW_BITMAP = 4  # di_flags of the real-time bitmap
_BIG_TIME = 8  # di_flags2
_SINCE_1901 = 1 << 31  # seconds from where big timestamps start to 1970
_LOG_MAGIC, _LOG_BUFFER, _LITTLE_ENDIAN = 0xFEEDBABE, 32 << 10, 1
_UNMOUNT = 0x20
_LEAST_FOLDER_BLOCK = 4096
_TRANSACTION = 0xB0C0D0D0


def write(device: BlockDevice, new: PlannedXfs) -> None:
    """Write the filesystem to a device that reads as zeros."""
    shape, superblock = new.shape, superblock_of(new)
    block = shape.block_size
    device.write(shape.root_chunk * block, _first_inodes(new))
    log = (shape.log_group * shape.group_blocks + shape.log_start) * block
    device.write(log, _log_record(shape, new.options.uuid))
    for group in reversed(range(shape.group_count)):
        own = replace(superblock, sb_inprogress=1 if group else 0)
        device.write(group * shape.group_blocks * block, group_bytes(shape, group, own))


def _first_inodes(new: PlannedXfs) -> bytes:
    """Return the chunk with the root; all but its first inodes are free."""
    shape, options = new.shape, new.options
    first = shape.root_chunk * shape.block_size // INODE_SIZE
    made = (options.made + _SINCE_1901) * 10**9
    free = r.Inode(di_magic=b"IN", di_version=3, di_next_unlinked=r.NULL_AGINO, di_uuid=options.uuid)
    used = replace(
        free,
        di_aformat=_EXTENTS, di_atime=made, di_mtime=made, di_ctime=made, di_crtime=made, di_changecount=1,
        di_flags2=_BIG_TIME,
    )  # fmt: skip
    folder = bytes(2) + first.to_bytes(4, "big")  # no entries; the root is its own parent
    root = replace(
        used,
        di_mode=_DIRECTORY | options.mode, di_format=_IN_INODE, di_nlink=2, di_uid=options.uid, di_gid=options.gid,
        di_size=len(folder),
    )  # fmt: skip
    bitmap = replace(used, di_mode=_FILE, di_format=_EXTENTS, di_nlink=1, di_flags=_NEW_BITMAP)
    chosen = [(root, folder), (bitmap, b""), (replace(bitmap, di_flags=0), b"")]
    chosen += [(free, b"")] * (INODES_PER_CHUNK - len(chosen))
    return b"".join(
        sealed(replace(inode, di_ino=first + number), "di_crc", INODE_SIZE, rest)
        for number, (inode, rest) in enumerate(chosen)
    )


def _log_record(shape: Shape, uuid: UUID) -> bytes:
    """Return the one record of a clean log: an unmount, in cycle 1."""
    length = shape.sector_size if shape.sector_size > 512 else 1024
    cycle = 1
    header = r.LogHeader(
        h_magicno=_LOG_MAGIC,
        h_cycle=cycle,
        h_version=2,
        h_len=length - 512,
        h_lsn=cycle << 32,
        h_tail_lsn=cycle << 32,
        h_prev_block=0xFFFFFFFF,
        h_num_logops=1,
        h_cycle_data=(_TRANSACTION, *(0,) * 63),
        h_fmt=_LITTLE_ENDIAN,
        h_fs_uuid=uuid,
        h_size=_LOG_BUFFER,
    )
    # The first word of each block is the cycle on disk, and the word it stands for is kept in the header.
    operation = r.LogOperation(oh_tid=cycle, oh_len=8, oh_clientid=0xAA, oh_flags=_UNMOUNT, oh_res2=0)
    blocks = [operation.encode() + (0x556E).to_bytes(2, "little")]
    blocks += [cycle.to_bytes(4, "big")] * ((length - 1024) // 512)
    return header.encode() + b"".join(data.ljust(512, b"\0") for data in blocks)


def superblock_of(new: PlannedXfs) -> r.Superblock:
    """Return the superblock of the fresh filesystem."""
    shape, options, block = new.shape, new.options, new.shape.block_size
    first = shape.root_chunk * block // INODE_SIZE
    group_bits = (shape.group_blocks - 1).bit_length()
    large = options.sector_size > 512
    version = r.VERSION | r.VERSION_BITS | (r.STRIPE_BIT if shape.stripe_unit else 0) | (r.SECTOR_BIT if large else 0)
    ro_compat = r.FINOBT | r.INOBTCOUNT | (r.RMAPBT | r.REFLINK if shape.full else 0)
    percent = 25 if new.size < 1 << 40 else 5 if new.size < 50 << 40 else 1
    return r.Superblock(
        sb_magicnum=r.MAGIC,
        sb_blocksize=block,
        sb_dblocks=shape.block_count,
        sb_uuid=options.uuid,
        sb_logstart=shape.log_group << group_bits | shape.log_start,
        sb_rootino=first,
        sb_rbmino=first + 1,
        sb_rsumino=first + 2,
        sb_rextsize=max(_LEAST_FOLDER_BLOCK // block, 1),  # the least that the kernel takes, though nothing uses it
        sb_agblocks=shape.group_blocks,
        sb_agcount=shape.group_count,
        sb_logblocks=shape.log_blocks,
        sb_versionnum=version,
        sb_sectsize=options.sector_size,
        sb_inodesize=INODE_SIZE,
        sb_inopblock=block // INODE_SIZE,
        sb_fname=options.label.encode(),
        sb_blocklog=block.bit_length() - 1,
        sb_sectlog=options.sector_size.bit_length() - 1,
        sb_inodelog=INODE_SIZE.bit_length() - 1,
        sb_inopblog=(block // INODE_SIZE).bit_length() - 1,
        sb_agblklog=group_bits,
        sb_imax_pct=percent,
        sb_icount=INODES_PER_CHUNK,
        sb_ifree=INODES_PER_CHUNK - USED_INODES,
        sb_fdblocks=shape.free_blocks,
        sb_inoalignmt=shape.chunk_blocks,
        sb_unit=shape.stripe_unit,
        sb_width=options.stripe // block if shape.stripe_unit else 0,
        sb_dirblklog=max(_LEAST_FOLDER_BLOCK // block, 1).bit_length() - 1,
        sb_logsectlog=options.sector_size.bit_length() - 1 if large else 0,
        sb_logsectsize=options.sector_size if large else 0,
        sb_logsunit=options.sector_size if large else 1,
        sb_features2=r.FEATURES2,
        sb_bad_features2=r.FEATURES2,
        sb_features_ro_compat=ro_compat,
        sb_features_incompat=r.FTYPE | r.SPARSE_INODES | r.BIGTIME,
        sb_spino_align=shape.chunk_blocks // 2,
    )
