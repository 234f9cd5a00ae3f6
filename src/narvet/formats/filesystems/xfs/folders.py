"""Folders of XFS made anew from their names: in the inode, in one block, or in blocks with leaves that find them. Pure.

XFS Algorithms & Data Structures, 3rd edition, chapter "Directories", for version 5.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator, Sequence
from itertools import pairwise
from typing import NamedTuple
from uuid import UUID

from narvet.ground.checksums import crc32c
from narvet.ground.values import Frozen

LEAF_SPACE, FREE_SPACE = 1 << 35, 1 << 36  # bytes into a folder from which its leaves and its free indexes lie
_DATA_HEAD, _DA_HEAD = 64, 64
_FREE_TAG = 0xFFFF
_LEAF_ONE, _LEAF_MANY, _NODE = 0x3DF1, 0x3DFF, 0x3EBE
_HASHED = struct.Struct(">II")
_DATA_NUMBER, _DA_NUMBER = 8, 16  # where a block tells where it lies, in units of 512 bytes
_DATA_SUM, _DA_SUM = 4, 12
_ALL = 0xFFFFFFFF


class Name(NamedTuple):
    """A name in a folder: the inode it leads to, its kind (1 a file, 2 a folder), and its bytes."""

    inode: int
    kind: int
    name: bytes


class Form(Frozen):
    """How a filesystem keeps folders: bytes of a folder's block and of its own, whether entries tell kinds, its id."""

    block: int
    unit: int
    with_kinds: bool
    uuid: UUID


class Piece(Frozen):
    """A block of a folder: the byte of the folder it starts at, its content, and where its place and checksum are."""

    offset: int
    data: bytes
    number: int
    checksum: int

    def at(self, place: int) -> bytes:
        """Return the block as it lies at a byte of the filesystem."""
        data = bytearray(self.data)
        struct.pack_into(">Q", data, self.number, place // 512)
        struct.pack_into("<I", data, self.checksum, crc32c(bytes(data)))
        return bytes(data)


def hash_of(name: bytes) -> int:
    """Return the hash by which a name is found (xfs_da_hashname), 32 bits."""
    total, place = 0, 0
    while len(name) - place >= 4:
        one, two, three, four = name[place : place + 4]
        total = one << 21 ^ two << 14 ^ three << 7 ^ four ^ _rolled(total, 28)
        place += 4
    rest = name[place:]
    mixed = 0
    for index, sign in enumerate(reversed(rest)):
        mixed ^= sign << 7 * index
    return (mixed ^ _rolled(total, 7 * len(rest))) & _ALL if rest else total


def _rolled(value: int, bits: int) -> int:
    return (value << bits | value >> 32 - bits) & _ALL


def entry_size(name: bytes, *, with_kinds: bool) -> int:
    """Return the bytes of an entry in a block."""
    return -(-(11 + len(name) + with_kinds) // 8) * 8


def short(names: Sequence[Name], parent: int, form: Form) -> bytes | None:
    """Return a folder as it lies in its inode; None where a block of its own size could not hold it either."""
    wide = parent > _ALL or any(one.inode > _ALL for one in names)
    size = 8 if wide else 4
    count = sum(one.inode > _ALL for one in names) + (parent > _ALL)
    if len(names) > 255 or _taken(names, parent, parent, form) > form.block:
        return None
    data = bytearray([len(names), count]) + parent.to_bytes(size, "big")
    offset = _DATA_HEAD + sum(entry_size(name, with_kinds=form.with_kinds) for name in (b".", b".."))
    for one in names:
        data += bytes([len(one.name)]) + offset.to_bytes(2, "big") + one.name
        data += bytes([one.kind]) * form.with_kinds + one.inode.to_bytes(size, "big")
        offset += entry_size(one.name, with_kinds=form.with_kinds)
    return bytes(data)


def _taken(names: Sequence[Name], own: int, parent: int, form: Form) -> int:
    """Return the bytes that all names take in a single block, with its leaves."""
    every = [*_dots(own, parent), *names]
    entries = sum(entry_size(one.name, with_kinds=form.with_kinds) for one in every)
    return _DATA_HEAD + entries + 8 * len(every) + 8


def _dots(own: int, parent: int) -> tuple[Name, Name]:
    return Name(own, 2, b"."), Name(parent, 2, b"..")


def pieces(names: Sequence[Name], own: int, parent: int, form: Form) -> list[Piece]:
    """Return the blocks of a folder: one, or blocks of names with a leaf, or with many and an index of free space."""
    every = [*_dots(own, parent), *names]
    if _taken(names, own, parent, form) <= form.block:
        data, hashed = _data_block(every, 0, form, own, b"XDB3")
        return [_with_leaves(data, hashed, form)]
    blocks, hashes = list[Piece](), list[tuple[int, int]]()
    for part in _parts(every, form):
        data, hashed = _data_block(part, len(blocks) * form.block, form, own, b"XDD3")
        blocks.append(Piece(len(blocks) * form.block, _padded(data, form.block), _DATA_NUMBER, _DATA_SUM))
        hashes += hashed
    hashes.sort()
    bests = [_best(one.data) for one in blocks]
    leaf = _DA_HEAD + 8 * len(hashes) + 2 * len(bests) + 4
    if leaf <= form.block:
        return [*blocks, _one_leaf(hashes, bests, own, form)]
    return [*blocks, *_leaves(hashes, own, form), *_free_indexes(bests, own, form)]


def _parts(every: Iterable[Name], form: Form) -> Iterator[list[Name]]:
    """Yield names as they are spread over blocks, each filled before the next."""
    part, left = list[Name](), form.block - _DATA_HEAD
    for one in every:
        size = entry_size(one.name, with_kinds=form.with_kinds)
        if size > left:
            yield part
            part, left = [], form.block - _DATA_HEAD
        part.append(one)
        left -= size
    yield part


def _data_block(
    names: Sequence[Name], start: int, form: Form, own: int, magic: bytes
) -> tuple[bytes, list[tuple[int, int]]]:
    """Return the head and entries of a block, and the hash and address of each of its names."""
    data, hashed = bytearray(_DATA_HEAD), list[tuple[int, int]]()
    data[:4] = magic
    data[24:40] = form.uuid.bytes
    data[40:48] = own.to_bytes(8, "big")
    for one in names:
        size = entry_size(one.name, with_kinds=form.with_kinds)
        place = len(data)
        hashed.append((hash_of(one.name), (start + place) >> 3))
        entry = one.inode.to_bytes(8, "big") + bytes([len(one.name)]) + one.name + bytes([one.kind]) * form.with_kinds
        data += entry.ljust(size - 2, b"\0") + place.to_bytes(2, "big")
    return bytes(data), hashed


def _padded(data: bytes, end: int) -> bytes:
    """Return a block whose entries are followed by one unused stretch up to `end`, which its head tells of."""
    spare, result = end - len(data), bytearray(data)
    if spare:
        result += struct.pack(">HH", _FREE_TAG, spare).ljust(spare - 2, b"\0") + len(data).to_bytes(2, "big")
        struct.pack_into(">HH", result, 48, len(data), spare)
    return bytes(result)


def _best(data: bytes) -> int:
    """Return the longest unused stretch of a block of names."""
    return int.from_bytes(data[50:52], "big")


def _with_leaves(data: bytes, hashed: list[tuple[int, int]], form: Form) -> Piece:
    """Return a folder's only block, which ends with the hashes of its names."""
    tail = b"".join(_HASHED.pack(*one) for one in sorted(hashed)) + struct.pack(">II", len(hashed), 0)
    return Piece(0, _padded(data, form.block - len(tail)) + tail, _DATA_NUMBER, _DATA_SUM)


def _da_head(magic: int, own: int, form: Form, rest: bytes, back: int = 0, forward: int = 0) -> bytes:
    """Return the head of a leaf or node: its neighbours by their numbers, and the eight bytes of its own kind."""
    head = struct.pack(">IIHHIQQ16sQ", forward, back, magic, 0, 0, 0, 0, form.uuid.bytes, own)
    return head + rest


def _one_leaf(hashes: Sequence[tuple[int, int]], bests: Sequence[int], own: int, form: Form) -> Piece:
    head = _da_head(_LEAF_ONE, own, form, struct.pack(">HHI", len(hashes), 0, 0))
    tail = struct.pack(f">{len(bests)}HI", *bests, len(bests))
    body = head + b"".join(_HASHED.pack(*one) for one in hashes)
    return Piece(LEAF_SPACE, body.ljust(form.block - len(tail), b"\0") + tail, _DA_NUMBER, _DA_SUM)


def _leaves(hashes: Sequence[tuple[int, int]], own: int, form: Form) -> Iterator[Piece]:
    """Yield the leaves, spread evenly, and the nodes above them; the root of all is the first block of their space."""
    each = (form.block - _DA_HEAD) // 8
    levels = [_spread(hashes, max(each * 3 // 4, 1))]
    while len(levels[-1]) > 1:
        below = [(part[-1][0], 0) for part in levels[-1]]
        levels.append(_spread(below, max(each * 3 // 4, 1)))
    first, step = LEAF_SPACE // form.unit, form.block // form.unit
    numbers, following = list[list[int]](), first
    for level in reversed(levels):  # the root comes first
        numbers.insert(0, list(range(following, following + step * len(level), step)))
        following += step * len(level)
    for depth, level in enumerate(levels):
        start = 0
        for index, part in enumerate(level):
            number, row = numbers[depth][index], numbers[depth]
            beside = (row[index - 1] if index else 0, row[index + 1] if index + 1 < len(row) else 0)
            if depth:
                below_numbers = numbers[depth - 1][start : start + len(part)]
                pairs = [(hashed, below) for (hashed, _), below in zip(part, below_numbers, strict=True)]
                head = _da_head(_NODE, own, form, struct.pack(">HHI", len(part), depth, 0), *beside)
            else:
                pairs = list(part)
                head = _da_head(_LEAF_MANY, own, form, struct.pack(">HHI", len(part), 0, 0), *beside)
            start += len(part)
            data = head + b"".join(_HASHED.pack(*one) for one in pairs)
            yield Piece(number * form.unit, data.ljust(form.block, b"\0"), _DA_NUMBER, _DA_SUM)


def _spread(items: Sequence[tuple[int, int]], most: int) -> list[Sequence[tuple[int, int]]]:
    count = -(-len(items) // most)
    borders = [len(items) * index // count for index in range(count + 1)]
    return [items[low:high] for low, high in pairwise(borders)]


def _free_indexes(bests: Sequence[int], own: int, form: Form) -> Iterator[Piece]:
    """Yield the blocks that tell the longest unused stretch of each block of names."""
    each = (form.block - _DATA_HEAD) // 2
    for number, first in enumerate(range(0, len(bests), each)):
        part = bests[first : first + each]
        head = bytearray(_DATA_HEAD)
        head[:4] = b"XDF3"
        head[24:40] = form.uuid.bytes
        head[40:48] = own.to_bytes(8, "big")
        struct.pack_into(">III", head, 48, first, len(part), len(part))
        data = bytes(head) + struct.pack(f">{len(part)}H", *part)
        yield Piece(FREE_SPACE + number * form.block, data.ljust(form.block, b"\xff"), _DATA_NUMBER, _DATA_SUM)
