"""Reading XFS from a device that is not trusted: its facts, and every check that one pass allows.

Of a clean filesystem all trees of free space, inodes and owners are walked and compared with one another and with the
counts in the headers. What is read stays bounded: at most `MOST_GROUPS` groups, and of each tree what `trees` allows.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import FilesystemState
from narvet.formats.filesystems.xfs import records as r
from narvet.formats.filesystems.xfs.file_blocks import Files, block_faults
from narvet.formats.filesystems.xfs.log import is_clean
from narvet.formats.filesystems.xfs.shape import INODES_PER_CHUNK, Account, Shape, Used, hidden_in
from narvet.formats.filesystems.xfs.trees import (
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
from narvet.formats.filesystems.xfs.volume import MOST_GROUPS, Volume, volume_of
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent
from narvet.ground.findings import Finding, Place
from narvet.ground.rules import filesystems as rules

MOST_CHUNKS = 1 << 11  # of each group whose inodes are looked at, 64 MiB of them
INODES_A_BIT = 4  # of a chunk's ir_holemask
_SAME = ("sb_blocksize", "sb_dblocks", "sb_agblocks", "sb_agcount", "sb_logstart", "sb_logblocks", "sb_uuid")


def read(device: BlockDevice, where: Place, *, deep: bool = True) -> FilesystemState | None:
    """Return what is found, or None where no superblock of XFS lies."""
    if device.size < 512 or device.read(0, 4) != r.MAGIC:
        return None
    superblock = r.Superblock.decode(device.read(0, 512))
    uuid, label = str(superblock.sb_uuid), superblock.sb_fname.split(b"\0")[0].decode("utf-8", "replace")
    if superblock.sb_versionnum & 0xF != r.VERSION:
        old = f"it is XFS of version {superblock.sb_versionnum & 0xF}; only its id, label and size are read"
        said = rules.filesystem_not_checked.note(where, old)
        shape = _unchecked_shape(superblock)
        return FilesystemState(
            "xfs", uuid, label, shape, findings=(said,), unclean="its version is not written to here"
        )
    found: list[Finding] = []
    try:
        volume = volume_of(device, superblock)
        shape = volume.shape
        if shape.size > device.size:
            found = [rules.filesystem_past_end.error(where, shape.size, device.size)]
            return FilesystemState("xfs", uuid, label, shape, findings=tuple(found))
        found += _state(volume, where)
        account = _account(volume)
        if superblock.sb_agcount > MOST_GROUPS:
            cut = f"of {superblock.sb_agcount} groups the first {MOST_GROUPS} are looked at, free space is a guess"
            found.append(rules.filesystem_not_checked.note(where, cut))
        if deep and not any(finding.level != "note" for finding in found):
            found += [rules.filesystem_damaged.error(where, fault) for fault in _faults(volume)]
            found += _left_out(volume, where)
        root = _root(volume)
    except ImageError as error:
        found.append(rules.filesystem_damaged.error(where, str(error)))
        return FilesystemState("xfs", uuid, label, findings=tuple(found))
    return FilesystemState(
        kind="xfs",
        uuid=uuid,
        label=label,
        shape=shape,
        free=account.shown(shape) * shape.block_size,
        uid=root.di_uid,
        gid=root.di_gid,
        mode=root.di_mode & 0o7777,
        features=_features(superblock),
        findings=tuple(found),
        unclean=_unclean(volume, found),
        account=account,
    )


def _unchecked_shape(superblock: r.Superblock) -> Shape:
    """Return the sizes of a version whose superblock is not checked: how many blocks there are, and little else."""
    log_blocks = superblock.sb_logblocks if superblock.sb_logstart else 0
    groups = max(superblock.sb_agblocks, 1)
    return Shape(superblock.sb_blocksize, superblock.sb_sectsize, superblock.sb_dblocks, groups, log_blocks)


def unused(device: BlockDevice) -> Iterator[Extent]:
    """Yield the free runs of a filesystem that was read without a finding, group by group."""
    volume = volume_of(device, r.Superblock.decode(device.read(0, 512)))
    for group in volume.groups():
        header = free_header(volume, group)
        runs = records_of(device, group, BY_BLOCK, header.agf_roots[0], header.agf_levels[0])
        for start, count in zip(runs["ar_startblock"].tolist(), runs["ar_blockcount"].tolist(), strict=True):
            yield Extent(group.start + start * volume.shape.block_size, count * volume.shape.block_size)


def _state(volume: Volume, where: Place) -> Iterator[Finding]:
    superblock, shape = volume.superblock, volume.shape
    if not sound(volume.device.read(0, superblock.sb_sectsize), r.Superblock, "sb_crc"):
        yield rules.filesystem_damaged.error(where, "the superblock does not match its checksum")
    if superblock.sb_features_incompat & r.NEEDS_REPAIR:
        yield rules.filesystem_damaged.error(where, "it is marked as in need of repair")
    start = volume.group(shape.log_group).start + shape.log_start * shape.block_size
    if shape.log_blocks and not is_clean(volume.device, start, shape.log_blocks * shape.block_size):
        yield rules.filesystem_needs_recovery.warning(where)


def _unclean(volume: Volume, found: Iterable[Finding]) -> str:
    """Return why nothing may be changed, empty if nothing is open."""
    if any(rules.filesystem_needs_recovery.made(one) for one in found):
        return "its log holds changes that are not in place yet"
    if not volume.shape.log_blocks:
        return "its log is on another device, so it is not known whether it is clean"
    return "it is marked as in need of repair" if volume.superblock.sb_features_incompat & r.NEEDS_REPAIR else ""


def _header(volume: Volume, group: Group, sector_size: int, record: Any, prefix: str) -> Any:
    """Return one of the headers at a group's start, its magic, number and checksum checked."""
    size = volume.superblock.sb_sectsize
    data = volume.device.read(group.start + sector_size * size, size)
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


def free_header(volume: Volume, group: Group) -> r.FreeHeader:
    """Return a group's header of free space, checked."""
    header: r.FreeHeader = _header(volume, group, 1, r.FreeHeader, "agf")
    return header


def inode_header(volume: Volume, group: Group) -> r.InodeHeader:
    """Return a group's header of inodes, checked."""
    header: r.InodeHeader = _header(volume, group, 2, r.InodeHeader, "agi")
    return header


def _account(volume: Volume) -> Account:
    """Return what the free blocks that a guest shows are worked out from, as the kernel does at mount."""
    superblock, shape = volume.superblock, volume.shape
    free = hidden = trees = 0
    used, rmapbt = Used(None, None), volume.has(r.RMAPBT)
    for group in volume.groups():
        agf, agi = free_header(volume, group), inode_header(volume, group)
        free += agf.agf_freeblks + agf.agf_flcount + agf.agf_btreeblks
        owners = max(agf.agf_rmap_blocks - 1, 0) if rmapbt else 0
        trees += max(agf.agf_btreeblks - owners, 0)
        used = Used(
            finobt=(agi.agi_fblocks if volume.has(r.INOBTCOUNT) else 1) if volume.has(r.FINOBT) else None,
            refcount=agf.agf_refcount_blocks if volume.has(r.REFLINK) else None,
        )
        if group.number < shape.group_count - 1:
            hidden += hidden_in(shape, group.number, used, rmapbt=rmapbt)
    if superblock.sb_agcount > MOST_GROUPS:
        free, hidden = superblock.sb_fdblocks, hidden * superblock.sb_agcount // MOST_GROUPS
    return Account(free, trees, hidden, used, superblock.sb_features_ro_compat)


def root_place(volume: Volume) -> int:
    """Return the byte at which the root's inode lies."""
    superblock = volume.superblock
    per_block = superblock.sb_inopblog
    number, inside = divmod(superblock.sb_rootino, 1 << (superblock.sb_agblklog + per_block))
    block, index = divmod(inside, 1 << per_block)
    if number >= superblock.sb_agcount or block >= volume.group(number).blocks or index >= superblock.sb_inopblock:
        raise ImageError(f"sb_rootino is {superblock.sb_rootino}, which does not lie in the filesystem")
    return volume.group(number).start + block * volume.shape.block_size + index * superblock.sb_inodesize


def _root(volume: Volume) -> r.Inode:
    superblock = volume.superblock
    data = volume.device.read(root_place(volume), superblock.sb_inodesize)
    root = r.Inode.decode(data)
    if root.di_magic != b"IN" or root.di_ino != superblock.sb_rootino or root.di_mode >> 12 != 0o4:
        raise ImageError("the root's inode is not one of a folder")
    if not sound(data, r.Inode, "di_crc"):
        raise ImageError("the root's inode does not match its checksum")
    return root


def _faults(volume: Volume) -> Iterator[str]:
    """Yield what is wrong with a clean filesystem."""
    superblock = volume.superblock
    free = 0
    for group in volume.groups():
        agf, agi = free_header(volume, group), inode_header(volume, group)
        _header(volume, group, 3, r.FreeList, "agfl")
        if group.number:
            yield from _copy_faults(volume, group)
        yield from _space_faults(volume, group, agf)
        yield from _inode_faults(volume, group, agi)
        free += agf.agf_freeblks + agf.agf_flcount + agf.agf_btreeblks
    if superblock.sb_agcount <= MOST_GROUPS and free != superblock.sb_fdblocks:
        yield f"the groups have {free} free blocks, the superblock says {superblock.sb_fdblocks}"


def _copy_faults(volume: Volume, group: Group) -> Iterator[str]:
    data = volume.device.read(group.start, volume.superblock.sb_sectsize)
    copy = r.Superblock.decode(data)
    if not sound(data, r.Superblock, "sb_crc"):
        yield f"group {group.number}: its copy of the superblock does not match its checksum"
    elif any(getattr(copy, name) != getattr(volume.superblock, name) for name in _SAME):
        yield f"group {group.number}: its copy of the superblock tells of another filesystem"


def _space_faults(volume: Volume, group: Group, agf: r.FreeHeader) -> Iterator[str]:
    """Compare the trees of free space with each other, with the header, and with the tree of owners."""
    by_block = records_of(volume.device, group, BY_BLOCK, agf.agf_roots[0], agf.agf_levels[0])
    by_count = records_of(volume.device, group, BY_COUNT, agf.agf_roots[1], agf.agf_levels[1])
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
    if volume.has(r.RMAPBT):
        owned = records_of(volume.device, group, OWNERS, agf.agf_roots[2], agf.agf_levels[2])
        yield from _owner_faults(group, owned, starts, counts)
    if volume.has(r.REFLINK):
        shared = records_of(volume.device, group, COUNTS, agf.agf_refcount_root, agf.agf_refcount_level)
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


def _inode_faults(volume: Volume, group: Group, agi: r.InodeHeader) -> Iterator[str]:
    every = records_of(volume.device, group, INODES, agi.agi_root, agi.agi_level)
    if (int(every["ir_count"].sum()), int(every["ir_freecount"].sum())) != (agi.agi_count, agi.agi_freecount):
        yield f"group {group.number}: its inodes do not add up to what its header says"
    yield from _chunk_faults(volume, group, every)
    if volume.has(r.FINOBT):
        free = records_of(volume.device, group, FREE_INODES, agi.agi_free_root, agi.agi_free_level)
        expected = every[every["ir_freecount"] > 0]
        if len(free) != len(expected) or (free != expected).any():
            yield f"group {group.number}: its tree of free inodes is not what its tree of inodes says"


def _chunk_faults(volume: Volume, group: Group, chunks: NDArray[Any]) -> Iterator[str]:
    """Look at each inode of the chunks, and at the blocks of its own: its magic, its number, its checksum.

    A chunk may have holes: each bit of `ir_holemask` stands for four inodes that were never there.
    """
    superblock = volume.superblock
    size, bits = superblock.sb_inodesize, superblock.sb_agblklog + superblock.sb_inopblog
    files = volume.files()
    for start, holes in zip(chunks["ir_startino"].tolist()[:MOST_CHUNKS], chunks["ir_holemask"].tolist(), strict=False):
        place = (start >> superblock.sb_inopblog) * volume.shape.block_size
        for part in range(0, INODES_PER_CHUNK, INODES_A_BIT):
            if holes >> part // INODES_A_BIT & 1:
                continue
            if place + (part + INODES_A_BIT) * size > group.blocks * volume.shape.block_size:
                yield f"group {group.number}: inodes {start + part} and on leave the group"
                break
            data = volume.device.read(group.start + place + part * size, INODES_A_BIT * size)
            for index in range(INODES_A_BIT):
                one = data[index * size : (index + 1) * size]
                yield from _one_inode_faults(files, one, group.number << bits | start + part + index)


def _one_inode_faults(files: Files, data: bytes, number: int) -> Iterator[str]:
    inode = r.Inode.decode(data)
    if inode.di_magic != b"IN" or inode.di_ino != number or not sound(data, r.Inode, "di_crc"):
        yield f"inode {number} is not one, or does not match its checksum"
    elif inode.di_mode:
        yield from block_faults(files, data, inode)


def _left_out(volume: Volume, where: Place) -> Iterator[Finding]:
    """Yield a note where a group has more chunks of inodes than are looked at, or parts of chunks."""
    for group in volume.groups():
        agi = inode_header(volume, group)
        every = records_of(volume.device, group, INODES, agi.agi_root, agi.agi_level)
        if len(every) > MOST_CHUNKS or every["ir_holemask"].any():
            yield rules.filesystem_not_checked.note(
                where, f"group {group.number} has more inodes than are looked at, or parts of chunks"
            )
            return


def _features(superblock: r.Superblock) -> tuple[str, ...]:
    names = []
    for word, table, kind in (
        (superblock.sb_features_ro_compat, r.RO_COMPAT, "ro_compat"),
        (superblock.sb_features_incompat, r.INCOMPAT, "incompat"),
        (superblock.sb_features_compat, {}, "compat"),
        (superblock.sb_features_log_incompat, {}, "log_incompat"),
    ):
        bits = [1 << bit for bit in range(32) if word >> bit & 1]
        names += [table.get(bit, f"{kind}:0x{bit:x}") for bit in bits]
    return tuple(names)
