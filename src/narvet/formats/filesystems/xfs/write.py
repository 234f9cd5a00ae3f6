"""Writing a fresh XFS: first inodes and the log's stamp, then each group's headers and roots of trees, group 0 last."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from uuid import UUID

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.xfs import records as r
from narvet.formats.filesystems.xfs.geometry import PlannedXfs
from narvet.formats.filesystems.xfs.shape import INODE_SIZE, INODES_PER_CHUNK, Shape
from narvet.ground.checksums import crc32c
from narvet.ground.extents import Extent, gaps
from narvet.ground.records import Record

_DIRECTORY, _FILE = 0o040000, 0o100000
_IN_INODE, _EXTENTS = 1, 2
_NEW_BITMAP = 4  # di_flags of the real-time bitmap
_BIG_TIME = 8  # di_flags2
_SINCE_1901 = 1 << 31  # seconds from where big timestamps start to 1970
_USED_INODES = 3  # root, and those of the real-time device that is not there
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
        sector_size = replace(superblock, sb_inprogress=1 if group else 0)
        device.write(group * shape.group_blocks * block, _group(shape, group, sector_size))


def sealed(record: Record, field: str, size: int, rest: bytes = b"") -> bytes:
    """Return a record with what follows it, `size` bytes, its checksum in `field`."""
    data = (record.encode() + rest).ljust(size, b"\0")
    offset = next(row.offset for row in record.rows if row.name == field)
    return data[:offset] + crc32c(data).to_bytes(4, "little") + data[offset + 4 :]


def _group(shape: Shape, group: int, superblock: r.Superblock) -> bytes:
    """Return a group's headers and roots of trees."""
    sector_size, block, uuid = shape.sector_size, shape.block_size, superblock.sb_uuid
    places = (sector_size - r.FreeList.size) // 4
    headers = b"".join((
        sealed(superblock, "sb_crc", sector_size),
        sealed(_free_header(shape, group, uuid), "agf_crc", sector_size),
        sealed(_inode_header(shape, group, uuid), "agi_crc", sector_size),
        sealed(
            r.FreeList(agfl_magicnum=b"XAFL", agfl_seqno=group, agfl_uuid=uuid), "agfl_crc",
            sector_size, b"\xff" * (4 * places),
        ),
    ))  # fmt: skip
    return headers.ljust(shape.header_blocks * block, b"\0") + b"".join(_trees(shape, group, uuid))


def _free_runs(shape: Shape, group: int) -> list[Extent]:
    """Return the free runs of a group, in blocks."""
    return list(gaps((Extent(*run) for run in shape.taken(group)), shape.length(group)))


def _free_header(shape: Shape, group: int, uuid: UUID) -> r.FreeHeader:
    runs = _free_runs(shape, group)
    first = shape.header_blocks
    full = shape.full
    return r.FreeHeader(
        agf_magicnum=b"XAGF",
        agf_versionnum=1,
        agf_seqno=group,
        agf_length=shape.length(group),
        agf_roots=(first, first + 1, first + 4 if full else 0),
        agf_levels=(1, 1, 1 if full else 0),
        agf_flfirst=1,  # empty: the last place is before the first
        agf_freeblks=sum(count for _, count in runs),
        agf_longest=max(count for _, count in runs),
        agf_uuid=uuid,
        agf_rmap_blocks=1 if full else 0,
        agf_refcount_blocks=1 if full else 0,
        agf_refcount_root=first + 5 if full else 0,
        agf_refcount_level=1 if full else 0,
    )


def _inode_header(shape: Shape, group: int, uuid: UUID) -> r.InodeHeader:
    chunk = shape.root_chunk * shape.block_size // INODE_SIZE
    return r.InodeHeader(
        agi_magicnum=b"XAGI",
        agi_versionnum=1,
        agi_seqno=group,
        agi_length=shape.length(group),
        agi_count=0 if group else INODES_PER_CHUNK,
        agi_root=shape.header_blocks + 2,
        agi_level=1,
        agi_freecount=0 if group else INODES_PER_CHUNK - _USED_INODES,
        agi_newino=r.NULL_AGINO if group else chunk,
        agi_dirino=r.NULL_AGINO,
        agi_unlinked=(r.NULL_AGINO,) * 64,
        agi_uuid=uuid,
        agi_free_root=shape.header_blocks + 3,
        agi_free_level=1,
        agi_iblocks=1,
        agi_fblocks=1,
    )


def _trees(shape: Shape, group: int, uuid: UUID) -> Iterable[bytes]:
    """Yield the roots of a group's trees, in the order they lie."""
    runs = [r.FreeRun(ar_startblock=start, ar_blockcount=count) for start, count in _free_runs(shape, group)]
    chunks = []
    if group == 0:
        chunks = [
            r.InodeChunk(
                ir_startino=shape.root_chunk * shape.block_size // INODE_SIZE,
                ir_holemask=0,
                ir_count=INODES_PER_CHUNK,
                ir_freecount=INODES_PER_CHUNK - _USED_INODES,
                ir_free=(1 << INODES_PER_CHUNK) - (1 << _USED_INODES),
            )
        ]
    by_count = sorted(runs, key=lambda run: (run.ar_blockcount, run.ar_startblock))
    trees: list[tuple[bytes, list[Record]]] = [
        (b"AB3B", [*runs]), (b"AB3C", [*by_count]), (b"IAB3", [*chunks]), (b"FIB3", [*chunks])
    ]  # fmt: skip
    if shape.full:
        trees += [(b"RMB3", [*_owned_runs(shape, group)]), (b"R3FC", [])]
    for number, (magic, entries) in enumerate(trees):
        place = group * shape.group_blocks + shape.header_blocks + number
        head = r.TreeBlock(
            bb_magic=magic,
            bb_numrecs=len(entries),
            bb_leftsib=r.NULL_BLOCK,
            bb_rightsib=r.NULL_BLOCK,
            bb_blkno=place * (shape.block_size // 512),
            bb_uuid=uuid,
            bb_owner=group,
        )
        yield sealed(head, "bb_crc", shape.block_size, b"".join(entry.encode() for entry in entries))


def _owned_runs(shape: Shape, group: int) -> Iterable[Record]:
    first = shape.header_blocks
    runs = [
        (0, first, r.OWN_FS), (first, 2, r.OWN_AG), (first + 2, 2, r.OWN_INOBT), (first + 4, 1, r.OWN_AG),
        (first + 5, 1, r.OWN_REFC),
    ]  # fmt: skip
    owners = {shape.log_start: r.OWN_LOG, shape.root_chunk: r.OWN_INODES}
    runs += [(start, count, owners[start]) for start, count in shape.taken(group)[1:]]
    for start, count, owner in runs:
        yield r.OwnedRun(rm_startblock=start, rm_blockcount=count, rm_owner=owner, rm_offset=0)


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
        sb_ifree=INODES_PER_CHUNK - _USED_INODES,
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
