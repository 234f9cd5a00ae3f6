"""The blocks that files of XFS keep besides their content: folders, attributes, long links, trees of extents.

XFS Algorithms & Data Structures, 3rd edition, chapters "Directories", "Extended Attributes", "Symbolic Links" and "Data
Extents", for version 5: every such block has a checksum.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

import numpy as np

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.xfs import records as r
from narvet.ground.budget import spend
from narvet.ground.checksums import crc32c
from narvet.ground.errors import ImageError
from narvet.ground.values import Frozen

IN_INODE, IN_EXTENTS, IN_TREE = 1, 2, 3  # di_format
BIGTIME, NREXT64 = 0x8, 0x10  # di_flags2
_FOLDER, _LINK = 0o4, 0o12
_MOST_DEPTH = 9
_MOST_BLOCKS = 1 << 18  # of one folder or set of attributes
_TREE_MAGIC, _TREE_HEAD, _TREE_SUM = b"BMA3", 72, 64
LEAF_SPACE, FREE_SPACE = 1 << 35, 1 << 36  # bytes into a folder from which its leaves and its free indexes lie
DATA_SUM, DA_SUM = 4, 12  # offsets of the checksums of data and free blocks, and of leaves and nodes
DATA_MAGICS, FREE_MAGIC = (b"XDB3", b"XDD3"), b"XDF3"
_LEAF_MAGICS = (0x3DF1, 0x3DFF, 0x3EBE)
_ATTRIBUTE_MAGICS, _REMOTE_MAGIC = (0x3BEE, 0x3EBE), b"XARM"
_LINK_MAGIC = b"XSLM"


class Files(Frozen):
    """What is needed of a filesystem to follow its files: bytes of a block and of a folder's block, and its groups."""

    device: BlockDevice
    block: int
    folder_block: int
    group_bits: int
    group_blocks: int
    inode_size: int

    def byte_of(self, place: int) -> int:
        """Return the byte at which a block of the filesystem lies."""
        group, inside = divmod(place, 1 << self.group_bits)
        return (group * self.group_blocks + inside) * self.block

    def read(self, place: int, count: int) -> bytes:
        """Return `count` blocks from a filesystem block number on."""
        return self.device.read(self.byte_of(place), count * self.block)


class Run(NamedTuple):
    """Blocks in a row: the first one in the file and in the filesystem, how many, and whether they read as zeros."""

    start: int
    place: int
    blocks: int
    unwritten: bool = False


def block_faults(files: Files, data: bytes, inode: r.Inode) -> Iterator[str]:
    """Yield what is wrong with the blocks of one sound inode, whose bytes are `data`."""
    kind = inode.di_mode >> 12
    wide = bool(inode.di_flags2 & NREXT64)
    end = r.Inode.size + 8 * inode.di_forkoff if inode.di_forkoff else files.inode_size
    content, attributes = data[r.Inode.size : end], data[end:]
    count = inode.di_big_nextents if wide else inode.di_nextents
    name = f"inode {inode.di_ino}"
    try:
        if kind in (_FOLDER, _LINK) or inode.di_format == IN_TREE:
            runs = runs_of(files, content, inode.di_format, count)
            if kind == _FOLDER:
                yield from _folder_faults(files, runs, name)
            elif kind == _LINK:
                yield from _link_faults(files, runs, name)
        if inode.di_forkoff and inode.di_aformat in (IN_EXTENTS, IN_TREE):
            count = inode.di_nextents if wide else inode.di_anextents
            yield from _attribute_faults(files, runs_of(files, attributes, inode.di_aformat, count), name)
    except ImageError as error:
        yield f"{name}: {error}"


def runs_of(files: Files, fork: bytes, form: int, count: int) -> list[Run]:
    """Return the extents of a fork.

    Raises:
        ImageError: a block of its tree does not match its checksum, or is not one.
    """
    if form == IN_EXTENTS:
        if 16 * count > len(fork):
            raise ImageError(f"it has {count} extents, more than fit")
        return [_extent(fork[at : at + 16]) for at in range(0, 16 * count, 16)]
    if form != IN_TREE:
        return []
    blocks = _tree_levels(files, fork)[-1]
    return [_extent(data[_TREE_HEAD + 16 * at :][:16]) for _, used, data in blocks for at in range(used)]


def tree_places(files: Files, fork: bytes) -> list[int]:
    """Return the blocks of the tree of extents whose root a fork holds."""
    return [place for level in _tree_levels(files, fork) for place, _, _ in level]


def _tree_levels(files: Files, fork: bytes) -> list[list[tuple[int, int, bytes]]]:
    """Return the blocks of a tree of extents level by level, the leaves last: place, records in use, bytes."""
    level, used = int.from_bytes(fork[:2], "big"), int.from_bytes(fork[2:4], "big")
    room = (len(fork) - 4) // 16
    if not 0 < level <= _MOST_DEPTH or used > room:
        raise ImageError("the root of its tree of extents is not one")
    places = [int(place) for place in np.frombuffer(fork, ">u8", used, 4 + 8 * room)]
    found = []
    for depth in range(level - 1, -1, -1):
        blocks = [(place, *_tree_block(files, place, depth)) for place in places]
        found.append(blocks)
        room = (files.block - _TREE_HEAD) // 16
        places = [
            int(one)
            for _, used, data in (blocks if depth else ())
            for one in np.frombuffer(data, ">u8", used, _TREE_HEAD + 8 * room)
        ]
        if len(places) > _MOST_BLOCKS:
            raise ImageError("its tree of extents has more blocks than are read")
    return found


def _tree_block(files: Files, place: int, level: int) -> tuple[int, bytes]:
    spend()
    data = files.read(place, 1)
    used = int.from_bytes(data[6:8], "big")
    good = data[:4] == _TREE_MAGIC and int.from_bytes(data[4:6], "big") == level
    if not good or used > (files.block - _TREE_HEAD) // 16 or not is_sound(data, _TREE_SUM):
        raise ImageError(f"block {place} of its tree of extents does not match its checksum")
    return used, data


def _extent(record: bytes) -> Run:
    """Return an extent: 1 bit of state, 54 bits offset, 52 bits block, 21 bits length."""
    bits = int.from_bytes(record, "big")
    return Run(bits >> 73 & (1 << 54) - 1, bits >> 21 & (1 << 52) - 1, bits & (1 << 21) - 1, bool(bits >> 127))


def is_sound(data: bytes, offset: int) -> bool:
    """Return whether a block matches its checksum, which is kept at `offset`."""
    kept = int.from_bytes(data[offset : offset + 4], "little")
    return crc32c(data[:offset] + bytes(4) + data[offset + 4 :]) == kept


def pieces(files: Files, runs: list[Run], size: Callable[[int], int]) -> Iterator[tuple[int, bytes]]:
    """Yield the blocks of a fork, with the byte of the file they start at; one may be of several extents."""
    at = {start + index: place + index for start, place, count, _ in runs[:_MOST_BLOCKS] for index in range(count)}
    if len(at) > _MOST_BLOCKS:
        raise ImageError("it has more blocks than are read")
    for start in sorted(at):
        length = size(start * files.block) // files.block
        if start % length:
            continue
        places = [at.get(start + index) for index in range(length)]
        if None in places:
            raise ImageError(f"its block {start} is not whole")
        yield start * files.block, b"".join(files.read(place, 1) for place in places if place is not None)


def _folder_faults(files: Files, runs: list[Run], name: str) -> Iterator[str]:
    for place, data in pieces(files, runs, lambda _: files.folder_block):
        spend()
        if place < LEAF_SPACE:
            good = data[:4] in DATA_MAGICS and is_sound(data, DATA_SUM)
        elif place < FREE_SPACE:
            good = int.from_bytes(data[8:10], "big") in _LEAF_MAGICS and is_sound(data, DA_SUM)
        else:
            good = data[:4] == FREE_MAGIC and is_sound(data, DATA_SUM)
        if not good:
            yield f"{name}: the block of the folder at {place} does not match its checksum"


def _attribute_faults(files: Files, runs: list[Run], name: str) -> Iterator[str]:
    for place, data in pieces(files, runs, lambda _: files.block):
        spend()
        known = data[:4] == _REMOTE_MAGIC or int.from_bytes(data[8:10], "big") in _ATTRIBUTE_MAGICS
        if not known or not is_sound(data, DA_SUM):
            yield f"{name}: its block of attributes at {place} does not match its checksum"


def _link_faults(files: Files, runs: list[Run], name: str) -> Iterator[str]:
    for _, place, count, _ in runs:
        data = files.read(place, count)
        if data[:4] != _LINK_MAGIC or not is_sound(data, DA_SUM):
            yield f"{name}: the link's text does not match its checksum"
