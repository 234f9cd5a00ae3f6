"""What an ext4 keeps behind a border moved before it: blocks of files, and inodes, which get other numbers by that.

Content is copied to blocks that are free, which nobody looks at yet; what leads to it follows. Files keep their names,
times, owners, attributes and links; only the number that programs see as the inode's changes for those that move.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator

import numpy as np

from narvet.block.contract import BlockDevice
from narvet.block.delayed import Delays
from narvet.formats.filesystems.contract import CannotChangeError, FilesystemState
from narvet.formats.filesystems.ext4 import inodes
from narvet.formats.filesystems.ext4.allot import Allotter
from narvet.formats.filesystems.ext4.folders import renumbered
from narvet.formats.filesystems.ext4.records import INODE_SIZE, SUPERBLOCK_OFFSET, Inode
from narvet.formats.filesystems.ext4.shape import Shape
from narvet.formats.filesystems.ext4.trees import (
    Mapped,
    built,
    extent_tree_nodes,
    joined_up,
    mapped,
    renamed_blocks,
    single_blocks,
)
from narvet.formats.filesystems.ext4.volume import superblock_on, volume_of
from narvet.formats.filesystems.ext4.write import sign
from narvet.ground.budget import budget, spend
from narvet.ground.checksums import crc32c_raw
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent
from narvet.ground.meter import copied
from narvet.ground.offers import offers
from narvet.ground.values import Draft, Frozen, replace

_FOLDER, _FILE, _LINK = 0o4, 0o10, 0o12
_USES_EXTENTS, _INDEXED, _INLINE, _HUGE = 0x80000, 0x1000, 0x10000000, 0x40000
_SHORT_LINK = 60  # bytes of a link that lies in its inode
_BAD_BLOCKS = 1
_DOUBLY = 13  # where i_block of an older file names its map of maps
_ORPHAN_MAGIC = 0x0B10CA04  # ends a block of the orphan file, with its checksum
_ATTRIBUTE_SUM = 16  # offset of the checksum in a block of attributes
_PIECE = 4 << 20  # bytes copied at once


class _Same(Frozen):
    """An ext4 that keeps its size."""

    state: FilesystemState
    old: Shape
    new: Shape
    gives_up_map = False


class _Moving(Draft):
    """An inode on its way: its number, the new one, and its bytes as they are and as they will be."""

    number: int
    becomes: int
    data: bytes
    inode: Inode

    @property
    def kind(self) -> int:
        """The kind of file."""
        return self.inode.i_mode >> 12


def relocate(device: BlockDevice, state: FilesystemState, border: int) -> None:
    """Move everything that files keep from block `border` on before it; the filesystem keeps its size.

    Raises:
        ImageError: it is not sound.
        CannotChangeError: there is no room for it, or something cannot be moved.
    """
    volume = volume_of(device, superblock_on(device))
    with budget(sum(length for _, length in device.extents())):
        _Relocator(Allotter(volume, _Same(state, volume.shape, volume.shape), border), border).run()


class _Relocator:
    def __init__(self, maps: Allotter, border: int) -> None:
        self._maps = maps
        self._volume = maps.volume
        self._device = maps.volume.device
        self._shape = maps.volume.shape
        self._border = border
        self._numbers: dict[int, int] = {}
        self._attributes: dict[int, int] = {}
        self._superblock = maps.volume.superblock

    def run(self) -> None:
        """Move everything: numbers first, so that what is written anew has its checksums by them."""
        found = [(number, data) for group in range(self._shape.group_count) for number, data in self._inodes(group)]
        for number, data in found:
            if number > self._maps.most_inodes:
                is_folder = self._decoded(data).i_mode >> 12 == _FOLDER
                self._numbers[number] = self._maps.take_inode(is_folder=is_folder)
                self._maps.give_back_inode(number, is_folder=is_folder)
        for number, data in found:
            self._move(number, data)
        free = self._maps.write()
        self._write_superblock(free)

    def _decoded(self, data: bytes) -> Inode:
        return Inode.decode(data[:INODE_SIZE].ljust(INODE_SIZE, b"\0"))

    def _inodes(self, group: int) -> Iterator[tuple[int, bytes]]:
        """Yield number and bytes of the inodes in use of a group that have to do with what moves."""
        places = self._maps.inodes_in_use(group)
        if not len(places):
            return
        size, first = self._shape.inode_size, group * self._shape.inodes_per_group
        start = self._maps.inode_place(first + 1)
        data = self._device.read(start, (int(places[-1]) + 1) * size)
        rows = np.frombuffer(data, dtype=np.uint8).reshape(-1, size)[places]
        spend(len(data))
        for index in np.flatnonzero(self._concerned(rows) | (first >= self._maps.most_inodes)).tolist():
            place = int(places[index])
            yield first + place + 1, data[place * size : (place + 1) * size]

    def _concerned(self, rows: np.ndarray) -> np.ndarray:
        """Return which inodes may have to do with what moves, by their bytes, shape (n, bytes)."""
        whole = np.zeros((len(rows), INODE_SIZE), dtype=np.uint8)
        whole[:, : min(rows.shape[1], INODE_SIZE)] = rows[:, :INODE_SIZE]
        table = whole.view(Inode.dtype())[:, 0]
        is_folder = table["i_mode"] >> 12 == _FOLDER
        attributes = table["i_file_acl_lo"].astype(np.int64) | table["i_file_acl_high"].astype(np.int64) << 32
        tree = np.ascontiguousarray(whole[:, 0x28 : 0x28 + 60])
        heads = tree.view("<u2")
        depth, count = heads[:, 3], heads[:, 1]
        in_extents = (table["i_flags"] & _USES_EXTENTS) != 0
        behind = ~in_extents | (depth > 0)
        for index in range(4):
            at = 6 * (1 + index)
            low = heads[:, at + 4].astype(np.int64) | heads[:, at + 5].astype(np.int64) << 16
            start = low | heads[:, at + 3].astype(np.int64) << 32
            length = heads[:, at + 2].astype(np.int64)
            length = np.where(length > 1 << 15, length - (1 << 15), length)
            behind |= (count > index) & (start + length > self._border)
        return np.asarray(behind | (attributes >= self._border) | (is_folder & self._maps.renumbers))

    def _move(self, number: int, data: bytes) -> None:
        one = _Moving(number, self._numbers.get(number, number), data, self._decoded(data))
        before = one.inode
        self._move_attributes(one)
        runs = self._move_content(one)
        if one.kind == _FOLDER and self._numbers:
            if one.inode.i_flags & _INLINE:
                raise CannotChangeError("a folder that is kept in its inode cannot be moved here", "make a new disk")
            self._rename(one, runs)
        if one.inode == before and one.number == one.becomes:
            return
        if self._is_orphan_file(number):
            if self._volume.checksums:
                self._sign_orphans(one, runs)
            self._superblock = replace(self._superblock, s_orphan_file_inum=one.becomes)
        if self._volume.checksums:
            one.inode = inodes.signed_in(self._volume.seed, one.becomes, one.inode, data)
        size = self._shape.inode_size
        whole = one.inode.encode()[: min(size, INODE_SIZE)] + data[INODE_SIZE:]
        self._device.write(self._maps.inode_place(one.becomes), whole)
        if number == inodes.JOURNAL:
            words = (*struct.unpack("<15I", one.inode.i_block), *self._superblock.s_jnl_blocks[15:])
            self._superblock = replace(self._superblock, s_jnl_blocks=words)
        if number == _BAD_BLOCKS:
            raise CannotChangeError(
                "the ext4 has bad blocks behind the new end",
                "ask for a larger size, or make a new disk and copy the files",
            )

    def _move_content(self, one: _Moving) -> list[Mapped]:
        """Give a file's blocks places before the border; return the runs of its content, if that lies in any."""
        if one.number == inodes.GROWTH:
            self._move_growth_map(one)
            return []
        if not self._has_blocks(one):
            return []
        return self._move_tree(one) if one.inode.i_flags & _USES_EXTENTS else self._move_single_blocks(one)

    def _is_orphan_file(self, number: int) -> bool:
        """Return whether a file is the one that lists files which were removed while in use."""
        return self._volume.compat("orphan_file") and number == self._volume.superblock.s_orphan_file_inum

    def _sign_orphans(self, one: _Moving, runs: Iterable[Mapped]) -> None:
        """Sign the blocks of the orphan file, whose checksums are of their places and of the file's number too."""
        block = self._shape.block_size
        for place in (run.start + index for run in runs for index in range(run.count)):
            data = self._device.read(place * block, block)
            if int.from_bytes(data[-8:-4], "little") != _ORPHAN_MAGIC:
                raise ImageError("the list of files that were removed while in use is not sound")
            seed = crc32c_raw(self._seed(one, one.becomes), place.to_bytes(8, "little"))
            self._device.write((place + 1) * block - 4, crc32c_raw(seed, data[:-8]).to_bytes(4, "little"))

    def _has_blocks(self, one: _Moving) -> bool:
        inode = one.inode
        if inode.i_flags & _INLINE or one.kind not in (_FOLDER, _FILE, _LINK):
            return False
        in_inode = one.kind == _LINK and inode.i_size_lo < _SHORT_LINK and not inode.i_flags & _USES_EXTENTS
        return not in_inode

    def _seed(self, one: _Moving, number: int) -> int:
        return inodes.inode_seed(self._volume.seed, number, one.inode.i_generation)

    def _move_tree(self, one: _Moving) -> list[Mapped]:
        """Give a file in extents blocks before the border; return its runs."""
        nodes = list[int]()
        found = list(mapped(self._volume, one.inode.i_block, self._seed(one, one.number), on_node=nodes.append))
        self._check(found)
        runs = joined_up(piece for run in found for piece in self._moved(run))
        stays = one.number == one.becomes or not nodes
        if runs == found and all(node < self._border for node in nodes) and stays:
            return found
        needed = extent_tree_nodes(len(runs), self._shape.block_size)
        kept = [node for node in nodes if node < self._border][:needed]
        for node in nodes:
            if node not in kept:
                self._maps.give_back(Extent(node, 1))
        more = self._take(needed - len(kept)) if needed > len(kept) else []
        places = [*kept, *(block for run in more for block in range(run.start, run.end))]
        tree, blocks = built(runs, places, self._volume, self._seed(one, one.becomes))
        for place, content in blocks.items():
            self._device.write(place * self._shape.block_size, content)
        one.inode = self._counted(replace(one.inode, i_block=tree), needed - len(nodes))
        return runs

    def _counted(self, inode: Inode, more: int) -> Inode:
        """Return an inode that has some blocks more, or fewer."""
        unit = 1 if inode.i_flags & _HUGE else self._shape.block_size // 512
        stored = (inode.i_blocks_high << 32 | inode.i_blocks_lo) + more * unit
        return replace(inode, i_blocks_lo=stored & 0xFFFFFFFF, i_blocks_high=stored >> 32)

    def _check(self, runs: Iterable[Mapped]) -> None:
        reach = 0
        for run in runs:
            if run.logical < reach or not run.count or run.end > self._shape.block_count or not run.start:
                raise ImageError(f"a file has blocks from {run.start} to {run.end}, which cannot be")
            reach = run.logical + run.count

    def _moved(self, run: Mapped) -> Iterator[Mapped]:
        """Yield where a run lies once what is behind the border was copied."""
        stays = max(min(self._border - run.start, run.count), 0)
        if stays:
            yield replace(run, count=stays)
        if stays == run.count:
            return
        self._maps.give_back(Extent(run.start + stays, run.count - stays))
        done = stays
        for new in self._take(run.count - stays):
            if not run.unwritten:
                self._copy(run.start + done, new)
            yield Mapped(run.logical + done, new.start, new.length, run.unwritten)
            done += new.length

    def _take(self, count: int) -> list[Extent]:
        runs = self._maps.take(count)
        if offers(self._device, Delays):
            for run in runs:
                self._device.is_free(Extent(run.start * self._shape.block_size, run.length * self._shape.block_size))
        return runs

    def _copy(self, old: int, new: Extent) -> None:
        block, size = self._shape.block_size, new.length * self._shape.block_size
        for done in range(0, size, _PIECE):
            data = self._device.read(old * block + done, min(_PIECE, size - done))
            self._device.write(new.start * block + done, data)
            copied(len(data))

    def _move_single_blocks(self, one: _Moving) -> list[Mapped]:
        """Give an older file blocks before the border; return the runs of its content."""
        found = list(single_blocks(self._volume, one.inode.i_block))
        behind = [place for _, _, place in found if place >= self._border]
        places: dict[int, int] = {}
        if behind:
            new = [block for run in self._take(len(behind)) for block in range(run.start, run.end)]
            places = dict(zip(behind, new, strict=True))
            for level, _, place in found:
                if place in places:
                    self._maps.give_back(Extent(place, 1))
                    if not level:
                        self._copy(place, Extent(places[place], 1))
            i_block, blocks = renamed_blocks(self._volume, one.inode.i_block, places)
            for place, content in blocks.items():
                self._device.write(place * self._shape.block_size, content)
            one.inode = replace(one.inode, i_block=i_block)
        return [Mapped(logical, places.get(place, place), 1) for level, logical, place in found if not level]

    def _move_growth_map(self, one: _Moving) -> None:
        """Give the map of what growth may use, a single block, a place before the border; what it names stays."""
        pointers = list(struct.unpack("<15I", one.inode.i_block))
        place = pointers[_DOUBLY]
        if place < self._border:
            return
        if place >= self._shape.block_count:
            raise ImageError(f"the map of what growth may use is at block {place}, which does not exist")
        (new,) = self._take(1)
        self._maps.give_back(Extent(place, 1))
        self._copy(place, new)
        pointers[_DOUBLY] = new.start
        one.inode = replace(one.inode, i_block=struct.pack("<15I", *pointers))

    def _move_attributes(self, one: _Moving) -> None:
        """Give a file's block of attributes, which others may share, a place before the border."""
        place = one.inode.i_file_acl_high << 32 | one.inode.i_file_acl_lo
        if place < self._border:
            return
        if place not in self._attributes:
            data = bytearray(self._volume.read_block(place))
            new = self._take(1)[0]
            self._maps.give_back(Extent(place, 1))
            if self._volume.checksums:
                data[_ATTRIBUTE_SUM : _ATTRIBUTE_SUM + 4] = bytes(4)
                seed = crc32c_raw(self._volume.seed, new.start.to_bytes(8, "little"))
                data[_ATTRIBUTE_SUM : _ATTRIBUTE_SUM + 4] = crc32c_raw(seed, bytes(data)).to_bytes(4, "little")
            self._device.write(new.start * self._shape.block_size, bytes(data))
            self._attributes[place] = new.start
        new_place = self._attributes[place]
        one.inode = replace(one.inode, i_file_acl_lo=new_place & 0xFFFFFFFF, i_file_acl_high=new_place >> 32)

    def _rename(self, one: _Moving, runs: Iterable[Mapped]) -> None:
        """Lead the entries of a folder to inodes by their new numbers."""
        block, indexed = self._shape.block_size, bool(one.inode.i_flags & _INDEXED)
        seed = self._seed(one, one.becomes) if self._volume.checksums else None
        for run in runs:
            if run.unwritten:
                continue
            for index in range(run.count):
                spend(block)
                place = (run.start + index) * block
                data = self._device.read(place, block)
                is_root = indexed and run.logical + index == 0
                changed = renumbered(data, self._numbers, seed, is_root=is_root, indexed=indexed)
                if changed != data:
                    self._device.write(place, changed)

    def _write_superblock(self, free: int) -> None:
        """Write the first superblock with what became other in it."""
        one, numbers = self._superblock, self._numbers
        changed = replace(
            one,
            s_free_blocks_count_lo=free & 0xFFFFFFFF,
            s_free_blocks_count_hi=free >> 32,
            s_lpf_ino=numbers.get(one.s_lpf_ino, one.s_lpf_ino),
        )
        self._device.write(SUPERBLOCK_OFFSET, (sign(changed) if self._volume.checksums else changed).encode())
