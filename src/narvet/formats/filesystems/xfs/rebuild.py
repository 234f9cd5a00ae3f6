"""The trees of an XFS allocation group written anew from all of their records, in the blocks that they have.

XFS Algorithms & Data Structures, 3rd edition, chapters "Allocation Groups" and "Reverse-Mapping B+tree".
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Sequence
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from narvet.formats.filesystems.contract import CannotChangeError
from narvet.formats.filesystems.xfs import records as r
from narvet.formats.filesystems.xfs.groups import sealed, tree_head
from narvet.formats.filesystems.xfs.trees import OWNERS, Group, Kind, sound
from narvet.formats.filesystems.xfs.volume import Volume
from narvet.ground.errors import ImageError
from narvet.ground.values import replace

_OWNER_KEY = struct.Struct(">IQQ")


class FreeList:
    """The blocks that a group keeps for its trees, taken from the front as the kernel does."""

    def __init__(self, volume: Volume, group: Group, agf: r.FreeHeader) -> None:
        size = volume.shape.sector_size
        self._room = (size - r.FreeList.size) // 4
        data = volume.device.read(group.start + 3 * size, size)
        if not sound(data, r.FreeList, "agfl_crc"):
            raise ImageError(f"group {group.number}: its list of blocks for trees does not match its checksum")
        self._places = np.frombuffer(data, dtype=">u4", offset=r.FreeList.size, count=self._room).copy()
        self._data, self._volume, self._start = data, volume, group.start + 3 * size
        self._blocks = group.blocks
        self.first, self.last, self.count = agf.agf_flfirst, agf.agf_fllast, agf.agf_flcount
        if self.first > self._room or self.count > self._room:
            raise ImageError(f"group {group.number}: its list of blocks for trees is out of bounds")

    def take(self) -> int:
        """Return a block, which is now a tree's."""
        if not self.count:
            raise CannotChangeError(
                "the xfs has no block left in its last group for its trees", "let its guest enlarge it while it runs"
            )
        place = int(self._places[self.first % self._room])
        if not 0 < place < self._blocks:
            raise ImageError(f"block {place} of the list of blocks for trees does not lie in its group")
        self.first, self.count = (self.first + 1) % self._room, self.count - 1
        return place

    def put(self, place: int) -> None:
        """Add a block to the end of the list, and write that.

        Raises:
            CannotChangeError: the list is full.
        """
        if self.count == self._room:
            raise CannotChangeError("the xfs has a full list of blocks for trees", "let its guest do it")
        self.last = (self.last + 1) % self._room
        self._places[self.last], self.count = place, self.count + 1
        rest = self._places.tobytes() + self._data[r.FreeList.size + 4 * self._room :]
        head = r.FreeList.decode(self._data)
        self._volume.device.write(self._start, sealed(head, "agfl_crc", len(self._data), rest))


def placed(
    volume: Volume,
    kind: Kind,
    levels: Sequence[Sequence[int]],
    records: int,
    take: Callable[[], int],
    give: Callable[[int], object] | None = None,
) -> list[list[int]]:
    """Return the blocks of a tree for so many records, level by level, each at least half full but for the root.

    Those are the blocks that it has, and as few more as it needs: `take` gives one. What it has too many goes to
    `give`; without that it keeps them all.
    """
    room = volume.shape.block_size - r.TreeBlock.size
    found, count, most = [list(level) for level in levels], records, room // kind.record.size
    for number in range(64):
        if number == len(found):
            found.append([])
        needed = max(-(-count // most), 1)
        while len(found[number]) < needed:
            found[number].append(take())
        while give is not None and len(found[number]) > max(count // (most // 2), 1):
            give(found[number].pop())
        count, most = len(found[number]), room // (kind.key + 4)
        if count == 1 and (number == len(found) - 1 or give is not None):
            for place in (place for level in found[number + 1 :] for place in level):
                if give is not None:
                    give(place)
            return found[: number + 1]
    raise ImageError("a tree of a group has too many levels")


def write_tree(volume: Volume, group: Group, kind: Kind, records: NDArray[Any], levels: list[list[int]]) -> None:
    """Write all blocks of a tree, its records spread evenly over them."""
    block = volume.shape.block_size
    room = (block - r.TreeBlock.size) // (kind.key + 4)
    below: list[bytes] = []
    for number, places in enumerate(levels):
        count = len(records) if number == 0 else len(levels[number - 1])
        borders = [count * index // len(places) for index in range(len(places) + 1)]
        keys = []
        for index, (place, (first, end)) in enumerate(zip(places, pairwise(borders), strict=True)):
            if number == 0:
                content = records[first:end].tobytes()
                keys.append(_leaf_key(kind, records[first:end]))
            else:
                children = np.array(levels[number - 1][first:end], dtype=">u4").tobytes()
                content = b"".join(below[first:end]).ljust(room * kind.key, b"\0") + children
                keys.append(_node_key(kind, below[first:end]))
            head = replace(
                tree_head(kind.magic, group.number, place, volume.shape, volume.uuid, end - first, number),
                bb_leftsib=places[index - 1] if index else r.NULL_BLOCK,
                bb_rightsib=places[index + 1] if index + 1 < len(places) else r.NULL_BLOCK,
            )
            volume.device.write(group.start + place * block, sealed(head, "bb_crc", block, content))
        below = keys


def _leaf_key(kind: Kind, records: NDArray[Any]) -> bytes:
    """Return the key of a leaf: of its first record; in the tree of owners, whose runs may overlap, the highest too."""
    if kind is not OWNERS:
        return records[:1].tobytes()[: kind.key].ljust(kind.key, b"\0")
    low = _OWNER_KEY.pack(*(int(records[0][name]) for name in ("rm_startblock", "rm_owner", "rm_offset")))
    return low + _OWNER_KEY.pack(*max(map(_reach, records)))


def _reach(record: Any) -> tuple[int, int, int]:
    """Return the highest key that a run with an owner covers (xfs_rmapbt_init_high_key_from_rec)."""
    more, owner, offset = int(record["rm_blockcount"]) - 1, int(record["rm_owner"]), int(record["rm_offset"])
    of_file = owner < r.FIRST_OWNER and not offset & r.IN_TREE
    return int(record["rm_startblock"]) + more, owner, offset + more if of_file else offset


def _node_key(kind: Kind, below: Sequence[bytes]) -> bytes:
    """Return the key of a node: of the first below it, and in the tree of owners the highest of all."""
    if kind is not OWNERS:
        return below[0]
    return below[0][: _OWNER_KEY.size] + max(key[_OWNER_KEY.size :] for key in below)
