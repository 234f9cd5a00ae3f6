"""Writing a fresh XFS: first inodes and the log's stamp, then each group's headers and roots of trees, group 0 last."""

from __future__ import annotations

from collections.abc import Iterable

from narvet.block.contract import BlockDevice
from narvet.checksums import crc32c
from narvet.filesystems.xfs import records as r
from narvet.filesystems.xfs.geometry import INODE_SIZE, INODES_PER_CHUNK, Geometry
from narvet.records import Record

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


def write(device: BlockDevice, geometry: Geometry) -> None:
    """Write the filesystem to a device that reads as zeros."""
    superblock = superblock_of(geometry)
    block = geometry.block_size
    device.write(geometry.root_chunk * block, _first_inodes(geometry))
    log = (geometry.log_group * geometry.group_blocks + geometry.log_start) * block
    device.write(log, _log_record(geometry))
    for group in reversed(range(geometry.group_count)):
        sector = superblock.but(sb_inprogress=1 if group else 0)
        device.write(group * geometry.group_blocks * block, _group(geometry, group, sector))


def sealed(record: Record, field: str, size: int, rest: bytes = b"") -> bytes:
    """Return a record with what follows it, `size` bytes, its checksum in `field`."""
    data = (record.encode() + rest).ljust(size, b"\0")
    offset = next(row.offset for row in record.rows if row.name == field)
    return data[:offset] + crc32c(data).to_bytes(4, "little") + data[offset + 4 :]


def _group(geometry: Geometry, group: int, superblock: r.Superblock) -> bytes:
    """Return a group's headers and roots of trees."""
    sector, block = geometry.options.sector, geometry.block_size
    places = (sector - r.FreeList.size) // 4
    headers = b"".join((
        sealed(superblock, "sb_crc", sector),
        sealed(_free_header(geometry, group), "agf_crc", sector),
        sealed(_inode_header(geometry, group), "agi_crc", sector),
        sealed(
            r.FreeList.of(agfl_magicnum=b"XAFL", agfl_seqno=group, agfl_uuid=geometry.options.uuid), "agfl_crc",
            sector, b"\xff" * (4 * places),
        ),
    ))  # fmt: skip
    return headers.ljust(geometry.header_blocks * block, b"\0") + b"".join(_trees(geometry, group))


def _free_runs(geometry: Geometry, group: int) -> list[tuple[int, int]]:
    """Return first and number of the free runs of a group."""
    runs, reach = [], 0
    for start, count in geometry.taken(group):
        if start > reach:
            runs.append((reach, start - reach))
        reach = start + count
    if reach < geometry.length(group):
        runs.append((reach, geometry.length(group) - reach))
    return runs


def _free_header(geometry: Geometry, group: int) -> r.FreeHeader:
    runs = _free_runs(geometry, group)
    first = geometry.header_blocks
    full = geometry.full
    return r.FreeHeader.of(
        agf_magicnum=b"XAGF",
        agf_versionnum=1,
        agf_seqno=group,
        agf_length=geometry.length(group),
        agf_roots=(first, first + 1, first + 4 if full else 0),
        agf_levels=(1, 1, 1 if full else 0),
        agf_flfirst=1,  # empty: the last place is before the first
        agf_freeblks=sum(count for _, count in runs),
        agf_longest=max(count for _, count in runs),
        agf_uuid=geometry.options.uuid,
        agf_rmap_blocks=1 if full else 0,
        agf_refcount_blocks=1 if full else 0,
        agf_refcount_root=first + 5 if full else 0,
        agf_refcount_level=1 if full else 0,
    )


def _inode_header(geometry: Geometry, group: int) -> r.InodeHeader:
    chunk = geometry.root_chunk * geometry.block_size // INODE_SIZE
    return r.InodeHeader.of(
        agi_magicnum=b"XAGI",
        agi_versionnum=1,
        agi_seqno=group,
        agi_length=geometry.length(group),
        agi_count=0 if group else INODES_PER_CHUNK,
        agi_root=geometry.header_blocks + 2,
        agi_level=1,
        agi_freecount=0 if group else INODES_PER_CHUNK - _USED_INODES,
        agi_newino=r.NULL_AGINO if group else chunk,
        agi_dirino=r.NULL_AGINO,
        agi_unlinked=(r.NULL_AGINO,) * 64,
        agi_uuid=geometry.options.uuid,
        agi_free_root=geometry.header_blocks + 3,
        agi_free_level=1,
        agi_iblocks=1,
        agi_fblocks=1,
    )


def _trees(geometry: Geometry, group: int) -> Iterable[bytes]:
    """Yield the roots of a group's trees, in the order they lie."""
    runs = [r.FreeRun(ar_startblock=start, ar_blockcount=count) for start, count in _free_runs(geometry, group)]
    chunks = []
    if group == 0:
        chunks = [
            r.InodeChunk(
                ir_startino=geometry.root_chunk * geometry.block_size // INODE_SIZE,
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
    if geometry.full:
        trees += [(b"RMB3", [*_owned_runs(geometry, group)]), (b"R3FC", [])]
    for number, (magic, entries) in enumerate(trees):
        place = group * geometry.group_blocks + geometry.header_blocks + number
        head = r.TreeBlock.of(
            bb_magic=magic,
            bb_numrecs=len(entries),
            bb_leftsib=r.NULL_BLOCK,
            bb_rightsib=r.NULL_BLOCK,
            bb_blkno=place * (geometry.block_size // 512),
            bb_uuid=geometry.options.uuid,
            bb_owner=group,
        )
        yield sealed(head, "bb_crc", geometry.block_size, b"".join(entry.encode() for entry in entries))


def _owned_runs(geometry: Geometry, group: int) -> Iterable[Record]:
    first = geometry.header_blocks
    runs = [
        (0, first, r.OWN_FS), (first, 2, r.OWN_AG), (first + 2, 2, r.OWN_INOBT), (first + 4, 1, r.OWN_AG),
        (first + 5, 1, r.OWN_REFC),
    ]  # fmt: skip
    owners = {geometry.log_start: r.OWN_LOG, geometry.root_chunk: r.OWN_INODES}
    runs += [(start, count, owners[start]) for start, count in geometry.taken(group)[1:]]
    for start, count, owner in runs:
        yield r.OwnedRun(rm_startblock=start, rm_blockcount=count, rm_owner=owner, rm_offset=0)


def _first_inodes(geometry: Geometry) -> bytes:
    """Return the chunk with the root; all but its first inodes are free."""
    options = geometry.options
    first = geometry.root_chunk * geometry.block_size // INODE_SIZE
    made = (options.made + _SINCE_1901) * 10**9
    free = r.Inode.of(di_magic=b"IN", di_version=3, di_next_unlinked=r.NULL_AGINO, di_uuid=options.uuid)
    used = free.but(
        di_aformat=_EXTENTS, di_atime=made, di_mtime=made, di_ctime=made, di_crtime=made, di_changecount=1,
        di_flags2=_BIG_TIME,
    )  # fmt: skip
    folder = bytes(2) + first.to_bytes(4, "big")  # no entries; the root is its own parent
    root = used.but(
        di_mode=_DIRECTORY | options.mode, di_format=_IN_INODE, di_nlink=2, di_uid=options.uid, di_gid=options.gid,
        di_size=len(folder),
    )  # fmt: skip
    bitmap = used.but(di_mode=_FILE, di_format=_EXTENTS, di_nlink=1, di_flags=_NEW_BITMAP)
    chosen = [(root, folder), (bitmap, b""), (bitmap.but(di_flags=0), b"")]
    chosen += [(free, b"")] * (INODES_PER_CHUNK - len(chosen))
    return b"".join(
        sealed(inode.but(di_ino=first + number), "di_crc", INODE_SIZE, rest)
        for number, (inode, rest) in enumerate(chosen)
    )


def _log_record(geometry: Geometry) -> bytes:
    """Return the one record of a clean log: an unmount, in cycle 1."""
    length = geometry.options.sector if geometry.options.sector > 512 else 1024
    cycle = 1
    header = r.LogHeader.of(
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
        h_fs_uuid=geometry.options.uuid,
        h_size=_LOG_BUFFER,
    )
    # The first word of each block is the cycle on disk, and the word it stands for is kept in the header.
    operation = r.LogOperation(oh_tid=cycle, oh_len=8, oh_clientid=0xAA, oh_flags=_UNMOUNT, oh_res2=0)
    blocks = [operation.encode() + (0x556E).to_bytes(2, "little")]
    blocks += [cycle.to_bytes(4, "big")] * ((length - 1024) // 512)
    return header.encode() + b"".join(data.ljust(512, b"\0") for data in blocks)


def superblock_of(geometry: Geometry) -> r.Superblock:
    """Return the superblock of the fresh filesystem."""
    options, block = geometry.options, geometry.block_size
    first = geometry.root_chunk * block // INODE_SIZE
    group_bits = (geometry.group_blocks - 1).bit_length()
    large = options.sector > 512
    version = r.VERSION | r.VERSION_BITS | (r.STRIPE_BIT if geometry.unit else 0) | (r.SECTOR_BIT if large else 0)
    ro_compat = r.FINOBT | r.INOBTCOUNT | (r.RMAPBT | r.REFLINK if geometry.full else 0)
    percent = 25 if geometry.size < 1 << 40 else 5 if geometry.size < 50 << 40 else 1
    return r.Superblock.of(
        sb_magicnum=r.MAGIC,
        sb_blocksize=block,
        sb_dblocks=geometry.block_count,
        sb_uuid=options.uuid,
        sb_logstart=geometry.log_group << group_bits | geometry.log_start,
        sb_rootino=first,
        sb_rbmino=first + 1,
        sb_rsumino=first + 2,
        sb_rextsize=max(_LEAST_FOLDER_BLOCK // block, 1),  # the least that the kernel takes, though nothing uses it
        sb_agblocks=geometry.group_blocks,
        sb_agcount=geometry.group_count,
        sb_logblocks=geometry.log_blocks,
        sb_versionnum=version,
        sb_sectsize=options.sector,
        sb_inodesize=INODE_SIZE,
        sb_inopblock=block // INODE_SIZE,
        sb_fname=options.label.encode(),
        sb_blocklog=block.bit_length() - 1,
        sb_sectlog=options.sector.bit_length() - 1,
        sb_inodelog=INODE_SIZE.bit_length() - 1,
        sb_inopblog=(block // INODE_SIZE).bit_length() - 1,
        sb_agblklog=group_bits,
        sb_imax_pct=percent,
        sb_icount=INODES_PER_CHUNK,
        sb_ifree=INODES_PER_CHUNK - _USED_INODES,
        sb_fdblocks=geometry.free_blocks,
        sb_inoalignmt=geometry.chunk_blocks,
        sb_unit=geometry.unit,
        sb_width=options.stripe // block if geometry.unit else 0,
        sb_dirblklog=max(_LEAST_FOLDER_BLOCK // block, 1).bit_length() - 1,
        sb_logsectlog=options.sector.bit_length() - 1 if large else 0,
        sb_logsectsize=options.sector if large else 0,
        sb_logsunit=options.sector if large else 1,
        sb_features2=r.FEATURES2,
        sb_bad_features2=r.FEATURES2,
        sb_features_ro_compat=ro_compat,
        sb_features_incompat=r.FTYPE | r.SPARSE_INODES | r.BIGTIME,
        sb_spino_align=geometry.chunk_blocks // 2,
    )
