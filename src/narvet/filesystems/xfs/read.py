"""Reading XFS from a device that is not trusted, whoever made it: its facts, and every check that one pass allows.

Of a clean filesystem all trees of free space, inodes and owners are walked and held against one another and against the
counts in the headers. What is read stays bounded: at most `MOST_GROUPS` groups, and of each tree what `trees` allows.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice, Extent
from narvet.errors import ImageError
from narvet.filesystems import told
from narvet.filesystems.contract import FilesystemFacts
from narvet.filesystems.xfs import records as r
from narvet.filesystems.xfs.file_blocks import Volume, block_faults
from narvet.filesystems.xfs.geometry import INODES_PER_CHUNK, SET_ASIDE, SMALLEST_GROUP, Used, hidden_of, kept_back
from narvet.filesystems.xfs.log import is_clean
from narvet.filesystems.xfs.trees import (
    BY_BLOCK,
    BY_COUNT,
    COUNTS,
    FREE_INODES,
    INODES,
    OWNERS,
    Group,
    records_of,
    sound,
)
from narvet.findings import Finding

MOST_GROUPS = 1 << 13  # some seconds; what was enlarged a thousandfold has more groups than any one made large
MOST_CHUNKS = 1 << 11  # of each group whose inodes are looked at, 64 MiB of them
INODES_A_BIT = 4  # of a chunk's ir_holemask
_SECTORS = (512, 1024, 2048, 4096, 8192, 16384, 32768)
_SAME = ("sb_blocksize", "sb_dblocks", "sb_agblocks", "sb_agcount", "sb_logstart", "sb_logblocks", "sb_uuid")


@dataclass(frozen=True)
class _Shape:
    """The checked sizes of a superblock; `size` is bytes of the filesystem."""

    superblock: r.Superblock
    size: int

    @property
    def block(self) -> int:
        return self.superblock.sb_blocksize

    @property
    def uuid(self) -> Any:
        other = self.superblock.sb_features_incompat & r.META_UUID
        return self.superblock.sb_meta_uuid if other else self.superblock.sb_uuid

    @property
    def log(self) -> tuple[int, int]:
        """The group of the log and the block in it."""
        return divmod(self.superblock.sb_logstart, 1 << self.superblock.sb_agblklog)

    def has(self, feature: int) -> bool:
        return bool(self.superblock.sb_features_ro_compat & feature)

    def group(self, number: int) -> Group:
        superblock = self.superblock
        first = number * superblock.sb_agblocks
        length = min(superblock.sb_agblocks, superblock.sb_dblocks - first)
        return Group(number, first * self.block, length, self.block, self.uuid)

    def volume(self, device: BlockDevice) -> Volume:
        superblock = self.superblock
        return Volume(
            device, self.block, self.block << superblock.sb_dirblklog, superblock.sb_agblklog, superblock.sb_agblocks,
            superblock.sb_inodesize,
        )  # fmt: skip

    def groups(self) -> Iterator[Group]:
        for number in range(min(self.superblock.sb_agcount, MOST_GROUPS)):
            yield self.group(number)


def read(device: BlockDevice, where: str, *, deep: bool = True) -> FilesystemFacts | None:
    """Return what is found, or None where no superblock of XFS lies."""
    if device.size < 512 or device.read(0, 4) != r.MAGIC:
        return None
    superblock = r.Superblock.decode(device.read(0, 512))
    uuid, label = str(superblock.sb_uuid), superblock.sb_fname.split(b"\0")[0].decode("utf-8", "replace")
    if superblock.sb_versionnum & 0xF != r.VERSION:
        old = f"it is XFS of version {superblock.sb_versionnum & 0xF}, of which only id and label are read"
        said = told.not_checked(where, old)
        size = superblock.sb_dblocks * superblock.sb_blocksize
        return FilesystemFacts("xfs", uuid, label, size, 0, 0, superblock.sb_blocksize, findings=(said,))
    found: list[Finding] = []
    try:
        shape = _shape(superblock)
        if shape.size > device.size:
            found = [told.past_end(where, shape.size, device.size)]
            return FilesystemFacts("xfs", uuid, label, shape.size, 0, 0, shape.block, findings=tuple(found))
        found += _state(device, shape, where)
        free = _free(device, shape)
        if superblock.sb_agcount > MOST_GROUPS:
            cut = f"of {superblock.sb_agcount} groups the first {MOST_GROUPS} are looked at, free space is a guess"
            found.append(told.not_checked(where, cut))
        if deep and not any(finding.level != "note" for finding in found):
            found += [told.damaged(where, fault) for fault in _faults(device, shape)]
            found += _left_out(device, shape, where)
        root = _root(device, shape)
    except ImageError as error:
        found.append(told.damaged(where, str(error)))
        return FilesystemFacts("xfs", uuid, label, 0, 0, 0, superblock.sb_blocksize, findings=tuple(found))
    return FilesystemFacts(
        kind="xfs",
        uuid=uuid,
        label=label,
        size=shape.size,
        total=(superblock.sb_dblocks - (superblock.sb_logblocks if superblock.sb_logstart else 0)) * shape.block,
        free=free * shape.block,
        block=shape.block,
        uid=root.di_uid,
        gid=root.di_gid,
        mode=root.di_mode & 0o7777,
        features=_features(superblock),
        findings=tuple(found),
    )


def unused(device: BlockDevice) -> Iterator[Extent]:
    """Yield the free runs of a filesystem that was read without a finding, group by group."""
    shape = _shape(r.Superblock.decode(device.read(0, 512)))
    for group in shape.groups():
        header = _free_header(device, shape, group)
        runs = records_of(device, group, BY_BLOCK, header.agf_roots[0], header.agf_levels[0])
        for start, count in zip(runs["ar_startblock"].tolist(), runs["ar_blockcount"].tolist(), strict=True):
            yield Extent(group.start + start * shape.block, count * shape.block)


def _shape(superblock: r.Superblock) -> _Shape:
    """Return the checked sizes; ImageError names the first value that breaks the specification."""

    def check(good: bool, name: str, expected: str) -> None:
        if not good:
            raise ImageError(f"{name} is {getattr(superblock, name)}, {expected} expected")

    block, sector = superblock.sb_blocksize, superblock.sb_sectsize
    check(1024 <= block <= 65536 and not block & (block - 1), "sb_blocksize", "a power of two from 1 to 64 KiB")
    check(sector in _SECTORS and sector <= block, "sb_sectsize", "a power of two up to the block size")
    agblocks, agcount = superblock.sb_agblocks, superblock.sb_agcount
    check(agblocks * block >= SMALLEST_GROUP, "sb_agblocks", f"{SMALLEST_GROUP} bytes or more")
    check(superblock.sb_agblklog == (agblocks - 1).bit_length(), "sb_agblklog", "the bits of sb_agblocks")
    check(agcount > 0, "sb_agcount", "one or more")
    inside = (agcount - 1) * agblocks < superblock.sb_dblocks <= agcount * agblocks
    check(inside, "sb_dblocks", "as many as the groups have")
    inode = superblock.sb_inodesize
    check(256 <= inode <= 2048 and not inode & (inode - 1), "sb_inodesize", "a power of two from 256 to 2048")
    shape = _Shape(superblock, superblock.sb_dblocks * block)
    if superblock.sb_logstart:
        number, first = shape.log
        there = number < agcount and first + superblock.sb_logblocks <= shape.group(number).blocks
        check(there and superblock.sb_logblocks > 0, "sb_logblocks", "a log inside its group")
    return shape


def _state(device: BlockDevice, shape: _Shape, where: str) -> Iterator[Finding]:
    superblock = shape.superblock
    if not sound(device.read(0, superblock.sb_sectsize), r.Superblock, "sb_crc"):
        yield told.damaged(where, "the superblock does not match its checksum")
    if superblock.sb_features_incompat & r.NEEDS_REPAIR:
        yield told.damaged(where, "it is marked as in need of repair")
    number, first = shape.log
    start = shape.group(number).start + first * shape.block
    if superblock.sb_logstart and not is_clean(device, start, superblock.sb_logblocks * shape.block):
        yield told.in_use(where)


def _header(device: BlockDevice, shape: _Shape, group: Group, sector: int, record: Any, prefix: str) -> Any:
    """Return one of the headers at a group's start, its magic, number and checksum checked."""
    size = shape.superblock.sb_sectsize
    data = device.read(group.start + sector * size, size)
    header = record.decode(data)
    magic = {"agf": b"XAGF", "agi": b"XAGI", "agfl": b"XAFL"}[prefix]
    name = f"group {group.number}: its {prefix}"
    if getattr(header, f"{prefix}_magicnum") != magic or getattr(header, f"{prefix}_seqno") != group.number:
        raise ImageError(f"{name} is not one")
    if not sound(data, record, f"{prefix}_crc"):
        raise ImageError(f"{name} does not match its checksum")
    if prefix != "agfl" and getattr(header, f"{prefix}_length") != group.blocks:
        raise ImageError(f"{name} says {getattr(header, f'{prefix}_length')} blocks, {group.blocks} expected")
    return header


def _free_header(device: BlockDevice, shape: _Shape, group: Group) -> r.FreeHeader:
    header: r.FreeHeader = _header(device, shape, group, 1, r.FreeHeader, "agf")
    return header


def _inode_header(device: BlockDevice, shape: _Shape, group: Group) -> r.InodeHeader:
    header: r.InodeHeader = _header(device, shape, group, 2, r.InodeHeader, "agi")
    return header


def _free(device: BlockDevice, shape: _Shape) -> int:
    """Return the blocks that statvfs gives as free, as the kernel works them out at mount."""
    superblock, log_group = shape.superblock, shape.log[0]
    free = hidden = trees = 0
    for group in shape.groups():
        agf, agi = _free_header(device, shape, group), _inode_header(device, shape, group)
        free += agf.agf_freeblks + agf.agf_flcount + agf.agf_btreeblks
        owners = max(agf.agf_rmap_blocks - 1, 0) if shape.has(r.RMAPBT) else 0
        trees += max(agf.agf_btreeblks - owners, 0)
        has_log = superblock.sb_logstart and group.number == log_group
        used = Used(
            finobt=(agi.agi_fblocks if shape.has(r.INOBTCOUNT) else 1) if shape.has(r.FINOBT) else None,
            refcount=agf.agf_refcount_blocks if shape.has(r.REFLINK) else None,
        )
        agblocks = max(group.blocks - (superblock.sb_logblocks if has_log else 0), 1)
        hidden += hidden_of(shape.block, agblocks, used, rmapbt=shape.has(r.RMAPBT))
    if superblock.sb_agcount > MOST_GROUPS:
        free, hidden = superblock.sb_fdblocks, hidden * superblock.sb_agcount // MOST_GROUPS
    free -= SET_ASIDE * superblock.sb_agcount + trees
    return max(free - kept_back(superblock.sb_dblocks, free) - hidden, 0)


def _root(device: BlockDevice, shape: _Shape) -> r.Inode:
    superblock = shape.superblock
    per_block = superblock.sb_inopblog
    number, inside = divmod(superblock.sb_rootino, 1 << (superblock.sb_agblklog + per_block))
    block, index = divmod(inside, 1 << per_block)
    if number >= superblock.sb_agcount or block >= shape.group(number).blocks or index >= superblock.sb_inopblock:
        raise ImageError(f"sb_rootino is {superblock.sb_rootino}, which does not lie in the filesystem")
    size = superblock.sb_inodesize
    data = device.read(shape.group(number).start + block * shape.block + index * size, size)
    root = r.Inode.decode(data)
    if root.di_magic != b"IN" or root.di_ino != superblock.sb_rootino or root.di_mode >> 12 != 0o4:
        raise ImageError("the root's inode is not one of a folder")
    if not sound(data, r.Inode, "di_crc"):
        raise ImageError("the root's inode does not match its checksum")
    return root


def _faults(device: BlockDevice, shape: _Shape) -> Iterator[str]:
    """Yield what is wrong with a clean filesystem."""
    superblock = shape.superblock
    free = 0
    for group in shape.groups():
        agf, agi = _free_header(device, shape, group), _inode_header(device, shape, group)
        _header(device, shape, group, 3, r.FreeList, "agfl")
        if group.number:
            yield from _copy_faults(device, shape, group)
        yield from _space_faults(device, shape, group, agf)
        yield from _inode_faults(device, shape, group, agi)
        free += agf.agf_freeblks + agf.agf_flcount + agf.agf_btreeblks
    if superblock.sb_agcount <= MOST_GROUPS and free != superblock.sb_fdblocks:
        yield f"the groups have {free} free blocks, the superblock says {superblock.sb_fdblocks}"


def _copy_faults(device: BlockDevice, shape: _Shape, group: Group) -> Iterator[str]:
    data = device.read(group.start, shape.superblock.sb_sectsize)
    copy = r.Superblock.decode(data)
    if not sound(data, r.Superblock, "sb_crc"):
        yield f"group {group.number}: its copy of the superblock does not match its checksum"
    elif any(getattr(copy, name) != getattr(shape.superblock, name) for name in _SAME):
        yield f"group {group.number}: its copy of the superblock tells of another filesystem"


def _space_faults(device: BlockDevice, shape: _Shape, group: Group, agf: r.FreeHeader) -> Iterator[str]:
    """Compare the trees of free space with each other, with the header, and with the tree of owners."""
    by_block = records_of(device, group, BY_BLOCK, agf.agf_roots[0], agf.agf_levels[0])
    by_count = records_of(device, group, BY_COUNT, agf.agf_roots[1], agf.agf_levels[1])
    starts, counts = by_block["ar_startblock"].astype(np.int64), by_block["ar_blockcount"].astype(np.int64)
    if len(starts) and (not counts.all() or (starts[1:] <= (starts + counts)[:-1]).any()):
        yield f"group {group.number}: its free runs overlap or touch"
        return
    if len(starts) and (starts + counts)[-1] > group.blocks:
        yield f"group {group.number}: a free run leaves the group"
        return
    if int(counts.sum()) != agf.agf_freeblks or int(counts.max(initial=0)) != agf.agf_longest:
        yield f"group {group.number}: its free runs do not add up to what its header says"
    order = np.lexsort((starts, counts))
    same = len(by_count) == len(by_block) and (by_count == by_block[order]).all()
    if not same:
        yield f"group {group.number}: its two trees of free space differ"
    if shape.has(r.RMAPBT):
        owned = records_of(device, group, OWNERS, agf.agf_roots[2], agf.agf_levels[2])
        yield from _owner_faults(group, owned, starts, counts)
    if shape.has(r.REFLINK):
        shared = records_of(device, group, COUNTS, agf.agf_refcount_root, agf.agf_refcount_level)
        if len(shared) and not shared["rc_refcount"].all():
            yield f"group {group.number}: a run with a reference count has no owner"


def _owner_faults(
    group: Group, owned: NDArray[Any], starts: NDArray[np.int64], counts: NDArray[np.int64]
) -> Iterator[str]:
    """Free runs and owned ones together make up the group, and share no block."""
    first, length = owned["rm_startblock"].astype(np.int64), (owned["rm_blockcount"]).astype(np.int64)
    if len(first) and ((first + length).max() > group.blocks or (first[1:] < first[:-1]).any()):
        yield f"group {group.number}: an owned run leaves the group or is out of order"
        return
    ends = np.maximum.accumulate(first + length) if len(first) else length
    fresh = np.concatenate(([True], first[1:] > ends[:-1])) if len(first) else np.zeros(0, dtype=bool)
    joined = first[fresh], (ends[np.append(np.flatnonzero(fresh)[1:] - 1, len(ends) - 1)] if len(first) else ends)
    edges = np.concatenate((starts, joined[0]))
    reach = np.concatenate((starts + counts, joined[1]))
    order = np.argsort(edges, kind="stable")
    whole = len(order) and edges[order[0]] == 0 and reach[order[-1]] == group.blocks
    if not whole or (edges[order][1:] != reach[order][:-1]).any():
        yield f"group {group.number}: what is free and what has an owner do not make up the group"


def _inode_faults(device: BlockDevice, shape: _Shape, group: Group, agi: r.InodeHeader) -> Iterator[str]:
    every = records_of(device, group, INODES, agi.agi_root, agi.agi_level)
    if (int(every["ir_count"].sum()), int(every["ir_freecount"].sum())) != (agi.agi_count, agi.agi_freecount):
        yield f"group {group.number}: its inodes do not add up to what its header says"
    yield from _chunk_faults(device, shape, group, every)
    if shape.has(r.FINOBT):
        free = records_of(device, group, FREE_INODES, agi.agi_free_root, agi.agi_free_level)
        expected = every[every["ir_freecount"] > 0]
        if len(free) != len(expected) or (free != expected).any():
            yield f"group {group.number}: its tree of free inodes is not what its tree of inodes says"


def _chunk_faults(device: BlockDevice, shape: _Shape, group: Group, chunks: NDArray[Any]) -> Iterator[str]:
    """Look at each inode of the chunks, and at the blocks of its own: its magic, its number, its checksum.

    A chunk may have holes: each bit of `ir_holemask` stands for four inodes that were never there.
    """
    superblock = shape.superblock
    size, bits = superblock.sb_inodesize, superblock.sb_agblklog + superblock.sb_inopblog
    volume = shape.volume(device)
    for start, holes in zip(chunks["ir_startino"].tolist()[:MOST_CHUNKS], chunks["ir_holemask"].tolist(), strict=False):
        place = (start >> superblock.sb_inopblog) * shape.block
        for part in range(0, INODES_PER_CHUNK, INODES_A_BIT):
            if holes >> part // INODES_A_BIT & 1:
                continue
            if place + (part + INODES_A_BIT) * size > group.blocks * shape.block:
                yield f"group {group.number}: inodes {start + part} and on leave the group"
                break
            data = device.read(group.start + place + part * size, INODES_A_BIT * size)
            for index in range(INODES_A_BIT):
                one = data[index * size : (index + 1) * size]
                yield from _one_inode_faults(volume, one, group.number << bits | start + part + index)


def _one_inode_faults(volume: Volume, data: bytes, number: int) -> Iterator[str]:
    inode = r.Inode.decode(data)
    if inode.di_magic != b"IN" or inode.di_ino != number or not sound(data, r.Inode, "di_crc"):
        yield f"inode {number} is not one, or does not match its checksum"
    elif inode.di_mode:
        yield from block_faults(volume, data, inode)


def _left_out(device: BlockDevice, shape: _Shape, where: str) -> Iterator[Finding]:
    """Yield a note where a group has more chunks of inodes than are looked at, or parts of chunks."""
    for group in shape.groups():
        agi = _inode_header(device, shape, group)
        every = records_of(device, group, INODES, agi.agi_root, agi.agi_level)
        if len(every) > MOST_CHUNKS or every["ir_holemask"].any():
            yield told.not_checked(
                where, f"group {group.number} has more inodes than are looked at, or parts of chunks"
            )
            return


def _features(superblock: r.Superblock) -> tuple[str, ...]:
    names = []
    for word, table, kind in (
        (superblock.sb_features_ro_compat, r.RO_COMPAT, "ro_compat"),
        (superblock.sb_features_incompat, r.INCOMPAT, "incompat"),
    ):
        bits = [1 << bit for bit in range(32) if word >> bit & 1]
        names += [table.get(bit, f"{kind}:0x{bit:x}") for bit in bits]
    return tuple(names)
