"""Blocks and inodes of an XFS that are taken and given back, group by group; each group is read when it is needed.

All records of a group's trees are held; those of a tree that changed are written anew, in the blocks that the tree has.
Trees of free space and of owners take blocks more from the group's own list for that, the others from what is free.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from narvet.formats.filesystems.xfs import records as r
from narvet.formats.filesystems.xfs.groups import sealed
from narvet.formats.filesystems.xfs.read import free_header, inode_header
from narvet.formats.filesystems.xfs.rebuild import FreeList, placed, write_tree
from narvet.formats.filesystems.xfs.shape import INODES_PER_CHUNK, SET_ASIDE, Used, hidden_in
from narvet.formats.filesystems.xfs.trees import (
    BY_BLOCK,
    BY_COUNT,
    COUNTS,
    FREE_INODES,
    INODES,
    OWNERS,
    Group,
    Kind,
    blocks_of,
    records_of,
)
from narvet.formats.filesystems.xfs.volume import Volume
from narvet.ground.errors import ImageError, RefusedError
from narvet.ground.extents import Extent
from narvet.ground.values import Draft, field, replace

_INODES_A_BIT = 4  # of a chunk's mask of holes
_STAGED = 1 << 31  # of a run with a reference count: it waits to be copied to, and is no file's
_MOST_STEPS = 1 << 12
_FULL = "its filesystem has no room left for this; make room in it, or enlarge it"


class _Group(Draft):
    """A group: its headers and the records of its trees, as rows of numbers; `changed` are the trees to be written.

    `keeps` is how many blocks a kernel wants to find free in it, for its trees to grow.
    """

    group: Group
    agf: r.FreeHeader
    agi: r.InodeHeader
    free: list[tuple[int, int]]
    owned: list[tuple[int, int, int, int]]
    counted: list[tuple[int, int, int]]
    chunks: list[tuple[int, int, int, int, int]]
    keeps: int
    changed: set[str] = field(default_factory=set)

    @property
    def usable(self) -> int:
        """Blocks that may be taken for files."""
        return max(sum(count for _, count in self.free) - self.keeps, 0)


class Space:
    """What is free of an XFS, and what is taken of it; `write` writes all that changed.

    `left` is how many blocks may be taken: what a kernel shows as free, as it keeps back more for its trees.
    """

    def __init__(self, volume: Volume, left: int) -> None:
        self._left = left
        self._volume = volume
        self._device = volume.device
        self._shape = volume.shape
        self._groups: dict[int, _Group] = {}
        self._blocks = self._inodes = self._chunk_inodes = 0  # that became free, and inodes that are new
        self._bits = volume.superblock.sb_agblklog
        self._in_block = volume.superblock.sb_inopblog

    # Blocks.

    def take(self, count: int, near: int, owner: int, offset: int) -> list[Extent]:
        """Return runs of `count` blocks of the filesystem for a file, from the group `near` on; ascending in the file.

        `owner` is the file's inode, `offset` the first block of the file, with the flags of an owner's record.

        Raises:
            RefusedError: there are not so many.
        """
        found: list[Extent] = []
        for group in self._from(near):
            usable = group.usable
            while count and usable:
                run = next((run for run in group.free if run[1] >= count), max(group.free, key=lambda run: run[1]))
                length = min(run[1], count, usable)
                usable -= length
                self._cut(group, run[0], length)
                self._own(group, run[0], length, owner, offset)
                found.append(Extent(group.group.number << self._bits | run[0], length))
                count, offset = count - length, offset + length
            if not count:
                return found
        raise RefusedError(_FULL)

    def give(self, run: Extent, owner: int, offset: int) -> None:
        """Give back blocks that a file has; those that another one shares stay its."""
        group = self._group(run.start >> self._bits)
        start = run.start & (1 << self._bits) - 1
        self._disown(group, start, run.length, owner, offset)
        for first, length in self._unshared(group, start, run.length):
            self._release(group, first, length)

    def _cut(self, group: _Group, start: int, length: int) -> None:
        """Take blocks out of what is free."""
        index = bisect_right(group.free, (start, 1 << 62)) - 1
        first, count = group.free[index] if index >= 0 else (0, 0)
        if not first <= start <= start + length <= first + count:
            raise ImageError(f"group {group.group.number}: blocks from {start} on are not free")
        rest = [(first, start - first), (start + length, first + count - start - length)]
        group.free[index : index + 1] = [run for run in rest if run[1]]
        self._blocks -= length
        if self._left + self._blocks < 0:
            raise RefusedError(_FULL)
        group.changed |= {"free"}

    def _release(self, group: _Group, start: int, length: int) -> None:
        """Put blocks to what is free."""
        index = bisect_left(group.free, (start, 0))
        low, high, first, end = index, index, start, start + length
        if index and sum(group.free[index - 1]) >= start:
            low, first = index - 1, group.free[index - 1][0]
            if sum(group.free[index - 1]) > start:
                raise ImageError(f"group {group.group.number}: blocks from {start} on are free already")
        if index < len(group.free) and group.free[index][0] <= end:
            high, end = index + 1, sum(group.free[index])
            if group.free[index][0] < start + length:
                raise ImageError(f"group {group.group.number}: blocks from {start} on are free already")
        group.free[low:high] = [(first, end - first)]
        self._blocks += length
        group.changed |= {"free"}

    def _own(self, group: _Group, start: int, length: int, owner: int, offset: int) -> None:
        """Enter an owner of blocks; runs of one owner that go on where another ends are one record."""
        if not self._volume.has(r.RMAPBT):
            return
        index = bisect_left(group.owned, (start, 0, 0, 0))
        last = group.owned[index - 1] if index else None
        of_file = owner < r.FIRST_OWNER and not offset & r.IN_TREE
        if last is not None and last[0] + last[1] == start and last[2] == owner:
            goes_on = last[3] + last[1] == offset if of_file else last[3] == offset
            if goes_on:
                group.owned[index - 1] = (last[0], last[1] + length, owner, last[3])
                group.changed |= {"owned"}
                return
        group.owned.insert(bisect_left(group.owned, (start, 0, owner, offset)), (start, length, owner, offset))
        group.owned.sort(key=lambda one: (one[0], one[2], one[3]))
        group.changed |= {"owned"}

    def _disown(self, group: _Group, start: int, length: int, owner: int, offset: int) -> None:
        """Take an owner of blocks out; what it has before and behind them stays its."""
        if not self._volume.has(r.RMAPBT):
            return
        flags = r.IN_ATTRIBUTES | r.IN_TREE | r.NOT_WRITTEN
        of_file = owner < r.FIRST_OWNER and not offset & r.IN_TREE
        for index, (first, count, who, where) in enumerate(group.owned):
            if first > start:
                break
            fits = first <= start and start + length <= first + count and who == owner
            same = (where & ~flags) + start - first == offset & ~flags if of_file else where & ~r.NOT_WRITTEN == offset
            if fits and same and (where ^ offset) & (r.IN_ATTRIBUTES | r.IN_TREE) == 0:
                behind = start + length - first
                rest = [(first, start - first, who, where)]
                rest.append((start + length, first + count - start - length, who, where + behind if of_file else where))
                group.owned[index : index + 1] = [one for one in rest if one[1]]
                group.owned.sort(key=lambda one: (one[0], one[2], one[3]))
                group.changed |= {"owned"}
                return
        raise ImageError(f"group {group.group.number}: blocks from {start} on are not owned by inode {owner}")

    def _unshared(self, group: _Group, start: int, length: int) -> Iterator[tuple[int, int]]:
        """Yield what of a run that a file gives back nobody else has; the others count one owner less."""
        end, place, rest = start + length, start, list[tuple[int, int, int]]()
        for first, count, owners in group.counted:
            low, high = max(first, start), min(first + count, end)
            if first & _STAGED or low >= high:
                rest.append((first, count, owners))
                continue
            if place < low:
                yield place, low - place
            pieces = ((first, low - first, owners), (low, high - low, owners - 1), (high, first + count - high, owners))
            rest += [one for one in pieces if one[1] and one[2] > 1]
            place = high
            group.changed |= {"counted"}
        group.counted = _joined(rest)
        if place < end:
            yield place, end - place

    # Inodes.

    def take_inode(self, near: int) -> int:
        """Return the number of an inode that was free, from the group `near` on; new ones are made where none is.

        Raises:
            RefusedError: there is none, and no room for more.
        """
        for group in self._from(near):
            if group.agi.agi_freecount:
                number = self._from_chunks(group)
                if number is not None:
                    return number
        for group in self._from(near):
            if self._add_chunk(group):
                number = self._from_chunks(group)
                if number is not None:
                    return number
        raise RefusedError(_FULL)

    def _from_chunks(self, group: _Group) -> int | None:
        for index, (start, holes, count, free, bits) in enumerate(group.chunks):
            if not free:
                continue
            for place in range(INODES_PER_CHUNK):
                if bits >> place & 1 and not holes >> place // _INODES_A_BIT & 1:
                    group.chunks[index] = (start, holes, count, free - 1, bits & ~(1 << place))
                    self._count_inodes(group, -1)
                    return group.group.number << self._bits + self._in_block | start + place
        return None

    def give_inode(self, number: int) -> None:
        """Make an inode free that was in use."""
        shift = self._bits + self._in_block
        group, inside = self._group(number >> shift), number & (1 << shift) - 1
        for index, (start, holes, count, free, bits) in enumerate(group.chunks):
            if start <= inside < start + INODES_PER_CHUNK:
                if bits >> inside - start & 1:
                    raise ImageError(f"inode {number} is free already")
                group.chunks[index] = (start, holes, count, free + 1, bits | 1 << inside - start)
                self._count_inodes(group, 1)
                return
        raise ImageError(f"inode {number} lies in no chunk")

    def _count_inodes(self, group: _Group, change: int) -> None:
        group.agi = replace(group.agi, agi_freecount=group.agi.agi_freecount + change)
        group.changed |= {"chunks"}
        self._inodes += change

    def _add_chunk(self, group: _Group) -> bool:
        """Make a chunk of inodes in a group, all free; return whether there was room, aligned as chunks must be."""
        count = self._shape.chunk_blocks or 1
        align = max(self._volume.superblock.sb_inoalignmt, 1)
        if group.usable < count:
            return False
        for first, length in group.free:
            start = -(-first // align) * align
            if start + count > first + length:
                continue
            self._cut(group, start, count)
            self._own(group, start, count, r.OWN_INODES, 0)
            number = start << self._in_block
            row = (number, 0, INODES_PER_CHUNK, INODES_PER_CHUNK, (1 << INODES_PER_CHUNK) - 1)
            group.chunks.insert(bisect_left(group.chunks, row), row)
            group.agi = replace(group.agi, agi_count=group.agi.agi_count + INODES_PER_CHUNK, agi_newino=number)
            self._chunk_inodes += INODES_PER_CHUNK
            self._count_inodes(group, INODES_PER_CHUNK)
            self._fill_chunk(group, number)
            return True
        return False

    def _fill_chunk(self, group: _Group, first: int) -> None:
        """Write a chunk of inodes that are free."""
        size, start = self._shape.inode_size, group.group.start
        place = start + (first >> self._in_block) * self._shape.block_size
        for index in range(INODES_PER_CHUNK):
            number = group.group.number << self._bits + self._in_block | first + index
            self._device.write(place + index * size, free_inode(number, self._volume.uuid, size))

    # Groups.

    def _from(self, near: int) -> Iterator[_Group]:
        count = self._shape.group_count
        for step in range(count):
            yield self._group((near + step) % count)

    def group_of(self, inode: int) -> int:
        """Return the group that an inode lies in."""
        return inode >> self._bits + self._in_block

    def _group(self, number: int) -> _Group:
        if number not in self._groups:
            if not 0 <= number < self._shape.group_count:
                raise ImageError(f"there is no group {number}")
            group = self._volume.group(number)
            agf, agi = free_header(self._volume, group), inode_header(self._volume, group)

            def rows(kind: Kind, root: int, levels: int) -> list[Any]:
                return [tuple(map(int, one)) for one in records_of(self._device, group, kind, root, levels).tolist()]

            owned = rows(OWNERS, agf.agf_roots[2], agf.agf_levels[2]) if self._volume.has(r.RMAPBT) else []
            counted = rows(COUNTS, agf.agf_refcount_root, agf.agf_refcount_level) if self._volume.has(r.REFLINK) else []
            self._groups[number] = _Group(
                group,
                agf,
                agi,
                rows(BY_BLOCK, agf.agf_roots[0], agf.agf_levels[0]),
                owned,
                counted,
                rows(INODES, agi.agi_root, agi.agi_level),
                self._kept_back(number, agf, agi),
            )
        return self._groups[number]

    def _kept_back(self, number: int, agf: r.FreeHeader, agi: r.InodeHeader) -> int:
        """Return the blocks that a kernel wants to find free in a group at mount (xfs_ag_resv_init)."""
        has = self._volume.has
        used = Used(
            finobt=(agi.agi_fblocks if has(r.INOBTCOUNT) else 1) if has(r.FINOBT) else None,
            refcount=agf.agf_refcount_blocks if has(r.REFLINK) else None,
        )
        return hidden_in(self._shape, number, used, rmapbt=has(r.RMAPBT)) + SET_ASIDE

    # Writing.

    def write(self) -> None:
        """Write trees, headers and superblock as far as they changed."""
        for group in self._groups.values():
            if group.changed:
                self._write_group(group)
        if self._blocks or self._inodes or self._chunk_inodes:
            self._write_superblock()
        self._left += self._blocks
        self._blocks = self._inodes = self._chunk_inodes = 0

    def _write_group(self, one: _Group) -> None:
        if "chunks" in one.changed:
            self._write_inodes(one)
        if "counted" in one.changed:
            agf = one.agf
            blocks = self._write_own(one, COUNTS, agf.agf_refcount_root, agf.agf_refcount_level, one.counted)
            one.agf = replace(
                agf,
                agf_refcount_root=blocks[-1][0],
                agf_refcount_level=len(blocks),
                agf_refcount_blocks=sum(map(len, blocks)),
            )
        self._write_space(one)
        size = self._shape.sector_size
        for at, record, name in ((1, one.agf, "agf_crc"), (2, one.agi, "agi_crc")):
            start = one.group.start + at * size
            rest = self._device.read(start + record.size, size - record.size)
            self._device.write(start, sealed(record, name, size, rest))
        one.changed.clear()

    def _write_inodes(self, one: _Group) -> None:
        """Write the trees of inodes, and what the header says of them."""
        agi = one.agi
        blocks = self._write_own(one, INODES, agi.agi_root, agi.agi_level, one.chunks)
        agi = replace(agi, agi_root=blocks[-1][0], agi_level=len(blocks))
        if self._volume.has(r.INOBTCOUNT):
            agi = replace(agi, agi_iblocks=sum(map(len, blocks)))
        if self._volume.has(r.FINOBT):
            free = [row for row in one.chunks if row[3]]
            blocks = self._write_own(one, FREE_INODES, agi.agi_free_root, agi.agi_free_level, free)
            agi = replace(agi, agi_free_root=blocks[-1][0], agi_free_level=len(blocks))
            if self._volume.has(r.INOBTCOUNT):
                agi = replace(agi, agi_fblocks=sum(map(len, blocks)))
        one.agi = agi

    def _write_own(self, one: _Group, kind: Kind, root: int, levels: int, rows: list[Any]) -> list[list[int]]:
        """Write a tree whose blocks are taken from what is free; return them level by level."""
        owner = r.OWN_REFC if kind is COUNTS else r.OWN_INOBT

        def take() -> int:
            return self._take_block(one, owner)

        def give(place: int) -> None:
            self._disown(one, place, 1, owner, 0)
            self._release(one, place, 1)

        before = blocks_of(self._device, one.group, kind, root, levels)
        blocks = placed(self._volume, kind, before, len(rows), take, give)
        self._write(one, kind, rows, blocks)
        return blocks

    def _take_block(self, one: _Group, owner: int) -> int:
        """Take a block for a tree out of what is free."""
        if not one.free:
            raise RefusedError(_FULL)
        start = one.free[0][0]
        self._cut(one, start, 1)
        self._own(one, start, 1, owner, 0)
        return start

    def _write_space(self, one: _Group) -> None:
        """Write the trees of free space and of owners, and what the header says of them."""
        agf, spare = one.agf, FreeList(self._volume, one.group, one.agf)
        kinds = (BY_BLOCK, BY_COUNT, OWNERS) if self._volume.has(r.RMAPBT) else (BY_BLOCK, BY_COUNT)
        levels = [
            blocks_of(self._device, one.group, kind, agf.agf_roots[number], agf.agf_levels[number])
            for number, kind in enumerate(kinds)
        ]
        before = [sum(map(len, level)) for level in levels]
        aside = self._settle(one, kinds, levels, spare.count)
        counts = (len(one.free), len(one.free), len(one.owned))

        def take() -> int:
            return spare.take() if spare.count else aside.pop()

        blocks = [
            placed(self._volume, kind, level, count, take)
            for kind, level, count in zip(kinds, levels, counts, strict=False)
        ]
        for place in aside:
            spare.put(place)
        by_count = sorted(one.free, key=lambda run: (run[1], run[0]))
        trees: tuple[list[Any], ...] = (one.free, by_count, one.owned)
        for kind, rows, places in zip(kinds, trees, blocks, strict=False):
            self._write(one, kind, rows, places)
        grown = [sum(map(len, places)) - old for places, old in zip(blocks, before, strict=True)]
        roots, depths = list(agf.agf_roots), list(agf.agf_levels)
        for number, places in enumerate(blocks):
            roots[number], depths[number] = places[-1][0], len(places)
        one.agf = replace(
            agf,
            agf_roots=tuple(roots),
            agf_levels=tuple(depths),
            agf_freeblks=sum(count for _, count in one.free),
            agf_longest=max((count for _, count in one.free), default=0),
            agf_btreeblks=agf.agf_btreeblks + sum(grown),
            agf_rmap_blocks=agf.agf_rmap_blocks + sum(grown[2:]),
            agf_flfirst=spare.first,
            agf_fllast=spare.last,
            agf_flcount=spare.count,
        )

    def _settle(self, one: _Group, kinds: Sequence[Kind], levels: list[list[list[int]]], listed: int) -> list[int]:
        """Return blocks that the trees of free space and of owners need beyond those that are listed for them.

        Blocks that they have too many are taken out of `levels` and become free. Both change the trees' records, so
        that this goes on until nothing is missing or too much; blocks of these trees count as free all the while.
        """
        aside, missing = list[int](), list[int]()

        def take() -> int:
            missing.append(0)
            return 0

        for _ in range(_MOST_STEPS):
            counts, surplus = (len(one.free), len(one.free), len(one.owned)), list[int]()
            missing.clear()
            for number, kind in enumerate(kinds):
                kept = placed(self._volume, kind, levels[number], counts[number], take, surplus.append)
                levels[number] = [[place for place in level if place] for level in kept]
                levels[number] = [level for level in levels[number] if level]
            for place in surplus:
                if place:
                    self._disown(one, place, 1, r.OWN_AG, 0)
                    self._release(one, place, 1)
                    self._blocks -= 1
            if any(surplus):
                continue
            if len(missing) <= listed + len(aside):
                return aside
            aside.append(self._take_block(one, r.OWN_AG))
            self._blocks += 1
        raise ImageError(f"group {one.group.number}: its trees do not come to fit it")

    def _write(self, one: _Group, kind: Kind, rows: Iterable[Any], blocks: list[list[int]]) -> None:
        records: NDArray[Any] = np.array(list(rows), dtype=kind.record.dtype())
        write_tree(self._volume, one.group, kind, records, blocks)

    def _write_superblock(self) -> None:
        superblock = self._volume.superblock
        changed = replace(
            superblock,
            sb_fdblocks=superblock.sb_fdblocks + self._blocks,
            sb_ifree=superblock.sb_ifree + self._inodes,
            sb_icount=superblock.sb_icount + self._chunk_inodes,
        )
        self.put_superblock(changed)

    def put_superblock(self, changed: r.Superblock) -> None:
        """Write the first superblock."""
        size = self._shape.sector_size
        rest = self._device.read(r.Superblock.size, size - r.Superblock.size)
        self._device.write(0, sealed(changed, "sb_crc", size, rest))
        self._volume = replace(self._volume, superblock=changed)

    @property
    def superblock(self) -> r.Superblock:
        """The first superblock as it is now."""
        return self._volume.superblock


def _joined(rows: Iterable[tuple[int, int, int]]) -> list[tuple[int, int, int]]:
    """Return runs with reference counts in order, those that touch and count alike made one."""
    result: list[tuple[int, int, int]] = []
    for first, count, owners in sorted(rows):
        last = result[-1] if result else None
        if last is not None and last[0] + last[1] == first and last[2] == owners:
            result[-1] = (last[0], last[1] + count, owners)
        else:
            result.append((first, count, owners))
    return result


def free_inode(number: int, uuid: Any, size: int, generation: int = 0) -> bytes:
    """Return an inode that is free, `size` bytes."""
    inode = r.Inode(
        di_magic=b"IN", di_version=3, di_format=0, di_gen=generation, di_next_unlinked=r.NULL_AGINO, di_ino=number,
        di_uuid=uuid,
    )  # fmt: skip
    return sealed(inode, "di_crc", size)
