"""The blocks that a file of ext4 has, by its extent tree or by its map of single blocks; and both made anew.

Sections "Extent Tree" and "Direct/Indirect Block Addressing" of the kernel's documentation of ext4.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterable, Iterator, Sequence

from narvet.formats.filesystems.ext4.records import EXTENT_MAGIC, LONGEST_EXTENT, ExtentHeader, ExtentRecord
from narvet.formats.filesystems.ext4.volume import Volume
from narvet.ground.budget import spend
from narvet.ground.checksums import crc32c_raw
from narvet.ground.errors import ImageError
from narvet.ground.values import Frozen, replace

MOST_DEPTH = 5  # levels that an extent tree can have
_IN_INODE = 4  # entries that fit i_block beside their header
_DIRECT, _LEVELS = 12, 3  # blocks that i_block of an older file names itself, and the levels of maps behind those


class Mapped(Frozen):
    """A run of a file: its first block in the file and on the disk, its length, and whether it reads as zeros."""

    logical: int
    start: int
    count: int
    unwritten: bool = False

    @property
    def end(self) -> int:
        """The block on the disk behind it."""
        return self.start + self.count


def mapped(
    volume: Volume, node: bytes, seed: int, depth: int = MOST_DEPTH, on_node: Callable[[int], object] = lambda _: None
) -> Iterator[Mapped]:
    """Yield every run below a node of an extent tree; `on_node` is called with the block of each further node.

    Raises:
        ImageError: a node does not match its checksum, or is not one.
    """
    spend()
    header = ExtentHeader.decode(node)
    room = (len(node) - ExtentHeader.size) // ExtentRecord.size
    if header.eh_magic != EXTENT_MAGIC or header.eh_entries > min(header.eh_max, room) or header.eh_depth > depth:
        raise ImageError("a node of its extent tree is not one")
    for index in range(header.eh_entries):
        start = ExtentHeader.size * (1 + index)
        entry = ExtentRecord.decode(node[start : start + ExtentRecord.size])
        if not header.eh_depth:
            unwritten = entry.ee_len > LONGEST_EXTENT
            length = entry.ee_len - LONGEST_EXTENT if unwritten else entry.ee_len
            yield Mapped(entry.ee_block, entry.ee_start_hi << 32 | entry.ee_start_lo, length, unwritten)
            continue
        # An index has its block's number in another order: lower half, then upper (struct ext4_extent_idx).
        place = (
            int.from_bytes(node[start + 4 : start + 8], "little")
            | int.from_bytes(node[start + 8 : start + 10], "little") << 32
        )
        data = volume.device.read(place * volume.block_size, volume.block_size)
        end = ExtentHeader.size * (1 + ExtentHeader.decode(data).eh_max)
        if volume.checksums and (
            end + 4 > len(data) or int.from_bytes(data[end : end + 4], "little") != crc32c_raw(seed, data[:end])
        ):
            raise ImageError("a node of its extent tree does not match its checksum")
        on_node(place)
        yield from mapped(volume, data, seed, header.eh_depth - 1, on_node)


def joined_up(runs: Iterable[Mapped]) -> list[Mapped]:
    """Return runs of a file with those made one that go on where another ends, none longer than an extent can be."""
    result: list[Mapped] = []
    for run in runs:
        last = result[-1] if result else None
        most = LONGEST_EXTENT - run.unwritten
        goes_on = last is not None and (last.logical + last.count, last.end) == (run.logical, run.start)
        if last is not None and goes_on and last.unwritten == run.unwritten and last.count + run.count <= most:
            result[-1] = replace(last, count=last.count + run.count)
        else:
            result.append(run)
    return result


def extent_tree_nodes(count: int, block_size: int) -> int:
    """Return how many blocks an extent tree of `count` runs has besides the inode."""
    each, nodes = (block_size - ExtentHeader.size) // ExtentRecord.size, 0
    while count > _IN_INODE:
        count = -(-count // each)
        nodes += count
    return nodes


def built(runs: Sequence[Mapped], places: Sequence[int], volume: Volume, seed: int) -> tuple[bytes, dict[int, bytes]]:
    """Return the 60 bytes of i_block of a file with these runs, and the blocks of its tree, at `places`."""
    entries = [(one.logical, _record(one)) for one in runs]
    each = (volume.block_size - ExtentHeader.size) // ExtentRecord.size
    left, blocks, depth = list(places), dict[int, bytes](), 0
    while len(entries) > _IN_INODE:
        above = []
        for first in range(0, len(entries), each):
            part, place = entries[first : first + each], left.pop(0)
            data = _node(part, each, depth)
            if volume.checksums:
                data += crc32c_raw(seed, data).to_bytes(4, "little")
            blocks[place] = data.ljust(volume.block_size, b"\0")
            index = struct.pack("<IIHH", part[0][0], place & 0xFFFFFFFF, place >> 32, 0)
            above.append((part[0][0], index))
        entries, depth = above, depth + 1
    return _node(entries, _IN_INODE, depth).ljust(60, b"\0"), blocks


def _record(run: Mapped) -> bytes:
    high, low = divmod(run.start, 1 << 32)
    length = run.count + LONGEST_EXTENT * run.unwritten
    return ExtentRecord(ee_block=run.logical, ee_len=length, ee_start_hi=high, ee_start_lo=low).encode()


def _node(entries: Sequence[tuple[int, bytes]], most: int, depth: int) -> bytes:
    header = ExtentHeader(eh_magic=EXTENT_MAGIC, eh_entries=len(entries), eh_max=most, eh_depth=depth)
    return (header.encode() + b"".join(data for _, data in entries)).ljust(ExtentHeader.size * (1 + most), b"\0")


def single_blocks(volume: Volume, i_block: bytes) -> Iterator[tuple[int, int, int]]:
    """Yield the blocks of an older file: level (0 for content), first block in the file, and number on the disk.

    Raises:
        ImageError: a block lies outside the filesystem.
    """
    pointers = struct.unpack("<15I", i_block)
    each, logical = volume.block_size // 4, 0
    for index, pointer in enumerate(pointers):
        level = max(index - _DIRECT + 1, 0)
        yield from _below(volume, pointer, level, logical)
        logical += each**level


def _below(volume: Volume, pointer: int, level: int, logical: int) -> Iterator[tuple[int, int, int]]:
    spend()
    if not pointer:
        return
    if pointer >= volume.shape.block_count:
        raise ImageError(f"a file has block {pointer}, which does not exist")
    yield level, logical, pointer
    if level:
        each = volume.block_size // 4
        for index, one in enumerate(struct.unpack(f"<{each}I", volume.read_block(pointer))):
            if one:
                yield from _below(volume, one, level - 1, logical + index * each ** (level - 1))


def renamed_blocks(volume: Volume, i_block: bytes, places: dict[int, int]) -> tuple[bytes, dict[int, bytes]]:
    """Return i_block of an older file whose blocks are at other `places`, and its maps, by where those are then."""
    each, blocks = volume.block_size // 4, dict[int, bytes]()

    def renamed(pointer: int, level: int) -> int:
        if pointer and level:
            inside = struct.unpack(f"<{each}I", volume.read_block(pointer))
            changed = [renamed(one, level - 1) for one in inside]
            if tuple(changed) != inside or pointer in places:
                blocks[places.get(pointer, pointer)] = struct.pack(f"<{each}I", *changed)
        return places.get(pointer, pointer)

    pointers = struct.unpack("<15I", i_block)
    changed = [renamed(pointer, max(index - _DIRECT + 1, 0)) for index, pointer in enumerate(pointers)]
    return struct.pack("<15I", *changed), blocks
