"""The trees of an XFS allocation group, read from a device that is not trusted: bounded, every block checked."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.xfs import records as r
from narvet.ground.checksums import crc32c
from narvet.ground.errors import ImageError
from narvet.ground.records import Record
from narvet.ground.values import Frozen

MOST_LEVELS = 12
MOST_BLOCKS = 1 << 16  # of a tree that are read; 17 million records


class Group(Frozen):
    """What a group's trees need to be read: the group's number, first byte and blocks, and the filesystem's id."""

    number: int
    start: int
    blocks: int
    block: int
    uuid: Any


class Kind(Frozen):
    """A tree: its magic, its records, and the bytes of a key in its nodes."""

    name: str
    magic: bytes
    record: type[Record]
    key: int


BY_BLOCK = Kind("free space by block", b"AB3B", r.FreeRun, 8)
BY_COUNT = Kind("free space by size", b"AB3C", r.FreeRun, 8)
INODES = Kind("inodes", b"IAB3", r.InodeChunk, 4)
FREE_INODES = Kind("free inodes", b"FIB3", r.InodeChunk, 4)
COUNTS = Kind("reference counts", b"R3FC", r.CountedRun, 4)
OWNERS = Kind("owners", b"RMB3", r.OwnedRun, 40)


def records_of(device: BlockDevice, group: Group, kind: Kind, root: int, levels: int) -> NDArray[Any]:
    """Return all records of a tree, in the order they are kept, as an array of the record's dtype.

    Raises:
        ImageError: a block of the tree is damaged, or leads nowhere.
    """
    size, leaves = kind.record.size, []
    for place in blocks_of(device, group, kind, root, levels)[0]:
        count, data = _block(device, group, kind, place, 0, size)
        leaves.append(data[r.TreeBlock.size : r.TreeBlock.size + count * size])
    return np.frombuffer(b"".join(leaves), dtype=kind.record.dtype())


def blocks_of(device: BlockDevice, group: Group, kind: Kind, root: int, levels: int) -> list[list[int]]:
    """Return the blocks of a tree level by level, its leaves first and its root last.

    Raises:
        ImageError: a block of the tree is damaged, or leads nowhere.
    """
    if not 0 < levels <= MOST_LEVELS:
        raise ImageError(f"group {group.number}: the tree of {kind.name} has {levels} levels")
    found = [[root]]
    for level in range(levels - 1, 0, -1):
        places = [child for place in found[0] for child in _children(device, group, kind, place, level)]
        if len(places) > MOST_BLOCKS:
            raise ImageError(f"group {group.number}: the tree of {kind.name} has more than {MOST_BLOCKS} blocks")
        found.insert(0, places)
    return found


def _children(device: BlockDevice, group: Group, kind: Kind, place: int, level: int) -> list[int]:
    """Return the blocks that a node leads to; keys come first, room for as many as fit, then block numbers."""
    count, data = _block(device, group, kind, place, level, kind.key + 4)
    first = r.TreeBlock.size + (group.block - r.TreeBlock.size) // (kind.key + 4) * kind.key
    return [int(child) for child in np.frombuffer(data, dtype=">u4", count=count, offset=first)]


def _block(device: BlockDevice, group: Group, kind: Kind, place: int, level: int, size: int) -> tuple[int, bytes]:
    """Return the number of records of `size` bytes in a block of a tree, and its bytes."""
    name = f"group {group.number}: block {place} of the tree of {kind.name}"
    if not 0 < place < group.blocks:
        raise ImageError(f"{name} does not lie in the group")
    data = device.read(group.start + place * group.block, group.block)
    head = r.TreeBlock.decode(data)
    if head.bb_magic != kind.magic or head.bb_level != level:
        raise ImageError(f"{name} is not one of level {level}")
    if not sound(data, r.TreeBlock, "bb_crc"):
        raise ImageError(f"{name} does not match its checksum")
    if head.bb_owner != group.number or head.bb_uuid != group.uuid:
        raise ImageError(f"{name} belongs to another group or filesystem")
    if head.bb_numrecs > (group.block - r.TreeBlock.size) // size:
        raise ImageError(f"{name} has {head.bb_numrecs} records, more than fit")
    return head.bb_numrecs, data


def sound(data: bytes, record: type[Record], field: str) -> bool:
    """Return whether bytes that start with a record match the checksum in its `field`."""
    offset = next(row.offset for row in record.rows if row.name == field)
    kept = int.from_bytes(data[offset : offset + 4], "little")
    return crc32c(data[:offset] + bytes(4) + data[offset + 4 :]) == kept
