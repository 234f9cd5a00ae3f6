"""The maps of single blocks that older files of ext4, and all of ext3 and ext2, find their blocks by, made anew.

Section "Direct/Indirect Block Addressing" of the kernel's documentation of ext4.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence

from narvet.ground.errors import RefusedError

_DIRECT = 12


def map_blocks(count: int, block_size: int) -> int:
    """Return how many blocks of maps a file of `count` blocks has.

    Raises:
        RefusedError: it takes maps of three levels.
    """
    each = block_size // 4
    if count <= _DIRECT:
        return 0
    if count <= _DIRECT + each:
        return 1
    if count <= _DIRECT + each + each * each:
        return 2 + -(-(count - _DIRECT - each) // each)
    raise RefusedError("a file in it would become too large to be written here")


def mapped_singly(blocks: Sequence[int], places: Sequence[int], block_size: int) -> tuple[bytes, dict[int, bytes]]:
    """Return the 60 bytes of i_block of a file with these blocks, and its maps by where they are, at `places`."""
    each, left, maps = block_size // 4, list(places), dict[int, bytes]()
    pointers = [*blocks[:_DIRECT], *[0] * (_DIRECT - len(blocks[:_DIRECT])), 0, 0, 0]

    def put(inside: Sequence[int]) -> int:
        place = left.pop(0)
        maps[place] = struct.pack(f"<{len(inside)}I", *inside).ljust(block_size, b"\0")
        return place

    if len(blocks) > _DIRECT:
        pointers[_DIRECT] = put(blocks[_DIRECT : _DIRECT + each])
    rest = blocks[_DIRECT + each :]
    if rest:
        pointers[_DIRECT + 1] = put([put(rest[start : start + each]) for start in range(0, len(rest), each)])
    return struct.pack("<15I", *pointers), maps
