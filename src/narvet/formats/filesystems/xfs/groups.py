"""A fresh allocation group: its four headers and the roots of its trees, as bytes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from uuid import UUID

from narvet.formats.filesystems.xfs import records as r
from narvet.formats.filesystems.xfs.shape import INODE_SIZE, INODES_PER_CHUNK, Shape
from narvet.ground.checksums import crc32c
from narvet.ground.extents import Extent, gaps
from narvet.ground.records import Record

USED_INODES = 3  # root, and those of the real-time device that is not there


def sealed(record: Record, field: str, size: int, rest: bytes = b"") -> bytes:
    """Return a record with what follows it, `size` bytes, its checksum in `field`."""
    data = (record.encode() + rest).ljust(size, b"\0")
    offset = next(row.offset for row in record.rows if row.name == field)
    blank = data[:offset] + bytes(4) + data[offset + 4 :]
    return data[:offset] + crc32c(blank).to_bytes(4, "little") + data[offset + 4 :]


def group_bytes(shape: Shape, group: int, superblock: r.Superblock) -> bytes:
    """Return the headers of a fresh group and the roots of the trees that the superblock's features ask for."""
    fresh = _Fresh(shape, group, superblock)
    sector_size, block = shape.sector_size, shape.block_size
    places = (sector_size - r.FreeList.size) // 4
    headers = b"".join((
        sealed(superblock, "sb_crc", sector_size),
        sealed(fresh.free_header(), "agf_crc", sector_size),
        sealed(fresh.inode_header(), "agi_crc", sector_size),
        sealed(
            r.FreeList(agfl_magicnum=b"XAFL", agfl_seqno=group, agfl_uuid=fresh.uuid), "agfl_crc",
            sector_size, b"\xff" * (4 * places),
        ),
    ))  # fmt: skip
    return headers.ljust(shape.header_blocks * block, b"\0") + b"".join(fresh.trees())


def first_free(shape: Shape, ro_compat: int) -> int:
    """Return the block of a fresh group behind its headers and the roots of its trees, by the features in use."""
    return shape.header_blocks + len(_trees_of(ro_compat))


def _trees_of(ro_compat: int) -> tuple[bytes, ...]:
    """Return the trees of each group, in the order their roots lie."""
    own = ((b"FIB3", r.FINOBT), (b"RMB3", r.RMAPBT), (b"R3FC", r.REFLINK))
    return (b"AB3B", b"AB3C", b"IAB3", *(magic for magic, bit in own if ro_compat & bit))


class _Fresh:
    """One group in which nothing is used but the log and the root's inodes, where it has them."""

    def __init__(self, shape: Shape, group: int, superblock: r.Superblock) -> None:
        self._shape = shape
        self._group = group
        self._features = superblock.sb_features_ro_compat
        other = superblock.sb_features_incompat & r.META_UUID
        self.uuid: UUID = superblock.sb_meta_uuid if other else superblock.sb_uuid
        self._places = {magic: shape.header_blocks + number for number, magic in enumerate(_trees_of(self._features))}

    def _taken(self) -> list[tuple[int, int]]:
        return [(0, first_free(self._shape, self._features)), *self._shape.taken(self._group)[1:]]

    def _free_runs(self) -> list[Extent]:
        """Return the free runs, in blocks."""
        return list(gaps((Extent(*run) for run in self._taken()), self._shape.length(self._group)))

    def free_header(self) -> r.FreeHeader:
        """Return the header of free space."""
        runs, places = self._free_runs(), self._places
        owners, counts = places.get(b"RMB3", 0), places.get(b"R3FC", 0)
        return r.FreeHeader(
            agf_magicnum=b"XAGF",
            agf_versionnum=1,
            agf_seqno=self._group,
            agf_length=self._shape.length(self._group),
            agf_roots=(places[b"AB3B"], places[b"AB3C"], owners),
            agf_levels=(1, 1, bool(owners)),
            agf_flfirst=1,  # empty: the last place is before the first
            agf_freeblks=sum(count for _, count in runs),
            agf_longest=max(count for _, count in runs),
            agf_uuid=self.uuid,
            agf_rmap_blocks=bool(owners),
            agf_refcount_blocks=bool(counts),
            agf_refcount_root=counts,
            agf_refcount_level=bool(counts),
        )

    def inode_header(self) -> r.InodeHeader:
        """Return the header of inodes."""
        shape, group, places = self._shape, self._group, self._places
        chunk = shape.root_chunk * shape.block_size // INODE_SIZE
        free, counted = places.get(b"FIB3", 0), bool(self._features & r.INOBTCOUNT)
        return r.InodeHeader(
            agi_magicnum=b"XAGI",
            agi_versionnum=1,
            agi_seqno=group,
            agi_length=shape.length(group),
            agi_count=0 if group else INODES_PER_CHUNK,
            agi_root=places[b"IAB3"],
            agi_level=1,
            agi_freecount=0 if group else INODES_PER_CHUNK - USED_INODES,
            agi_newino=r.NULL_AGINO if group else chunk,
            agi_dirino=r.NULL_AGINO,
            agi_unlinked=(r.NULL_AGINO,) * 64,
            agi_uuid=self.uuid,
            agi_free_root=free,
            agi_free_level=bool(free),
            agi_iblocks=counted,
            agi_fblocks=counted and bool(free),
        )

    def trees(self) -> Iterator[bytes]:
        """Yield the roots of the trees, in the order they lie."""
        runs = [r.FreeRun(ar_startblock=start, ar_blockcount=count) for start, count in self._free_runs()]
        by_count = sorted(runs, key=lambda run: (run.ar_blockcount, run.ar_startblock))
        chunks = self._chunks()
        kept: dict[bytes, list[Record]] = {
            b"AB3B": [*runs], b"AB3C": [*by_count], b"IAB3": [*chunks], b"FIB3": [*chunks],
            b"RMB3": [*self._owned_runs()], b"R3FC": [],
        }  # fmt: skip
        for magic, place in self._places.items():
            content = b"".join(entry.encode() for entry in kept[magic])
            head = tree_head(magic, self._group, place, self._shape, self.uuid, len(kept[magic]))
            yield sealed(head, "bb_crc", self._shape.block_size, content)

    def _chunks(self) -> list[r.InodeChunk]:
        if self._group:
            return []
        return [
            r.InodeChunk(
                ir_startino=self._shape.root_chunk * self._shape.block_size // INODE_SIZE,
                ir_holemask=0,
                ir_count=INODES_PER_CHUNK,
                ir_freecount=INODES_PER_CHUNK - USED_INODES,
                ir_free=(1 << INODES_PER_CHUNK) - (1 << USED_INODES),
            )
        ]

    def _owned_runs(self) -> Iterable[Record]:
        shape, places = self._shape, self._places
        inodes = [b"IAB3", b"FIB3"]
        runs = [
            (0, shape.header_blocks, r.OWN_FS),
            (places[b"AB3B"], 2, r.OWN_AG),
            (places[b"IAB3"], sum(magic in places for magic in inodes), r.OWN_INOBT),
        ]
        runs += [
            (places[magic], 1, own) for magic, own in ((b"RMB3", r.OWN_AG), (b"R3FC", r.OWN_REFC)) if magic in places
        ]
        owners = {shape.log_start: r.OWN_LOG, shape.root_chunk: r.OWN_INODES}
        runs += [(start, count, owners[start]) for start, count in shape.taken(self._group)[1:]]
        for start, count, owner in runs:
            yield r.OwnedRun(rm_startblock=start, rm_blockcount=count, rm_owner=owner, rm_offset=0)


def tree_head(
    magic: bytes, group: int, place: int, shape: Shape, uuid: UUID, count: int, level: int = 0
) -> r.TreeBlock:
    """Return the head of a block of a group's tree without neighbours, `place` blocks into its group."""
    return r.TreeBlock(
        bb_magic=magic,
        bb_level=level,
        bb_numrecs=count,
        bb_leftsib=r.NULL_BLOCK,
        bb_rightsib=r.NULL_BLOCK,
        bb_blkno=(group * shape.group_blocks + place) * (shape.block_size // 512),
        bb_uuid=uuid,
        bb_owner=group,
    )
