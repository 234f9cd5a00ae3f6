"""The files of an XFS, read from a device that is not trusted.

XFS Algorithms & Data Structures, 3rd edition, chapters "On-disk Inode", "Directories", "Extended Attributes" and
"Symbolic Links", for version 5.
"""

from __future__ import annotations

import struct
from bisect import bisect_right
from collections.abc import Iterator, Mapping
from typing import cast

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.trees import LARGEST_TARGET, Kind, Node, TreeReader, is_name, stored_runs
from narvet.formats.filesystems.xfs import file_blocks as blocks
from narvet.formats.filesystems.xfs import records as r
from narvet.formats.filesystems.xfs.file_blocks import BIGTIME, IN_INODE, NREXT64, Run
from narvet.formats.filesystems.xfs.folders import Name
from narvet.formats.filesystems.xfs.trees import sound
from narvet.formats.filesystems.xfs.volume import Volume, volume_of
from narvet.ground.budget import spend
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent
from narvet.ground.values import Frozen

_KINDS = {0o4: Kind.FOLDER, 0o10: Kind.FILE, 0o12: Kind.LINK}
_BIGTIME_EPOCH = 1 << 31  # seconds before 1970 at which its times start
_DATA_HEAD, _LINK_HEAD, _REMOTE_HEAD, _LEAF_HEAD = 64, 56, 56, 80  # bytes that blocks start with
_FREE_TAG = 0xFFFF
_ATTRIBUTE_LEAF = 0x3BEE
_LOCAL, _SPACES = 0x1, {0: "user.", 0x2: "trusted.", 0x4: "security."}
_INCOMPLETE, _PARENT = 0x80, 0x8
_LARGEST_VALUE = 1 << 16
_MOST_BLOCKS = 1 << 12  # of an extent of attributes, which take 64 KiB each at most
_MOST_KNOWN = 64


class Held(Frozen):
    """An inode: its number, its fields, all of its bytes, and what of those its content and its attributes take."""

    number: int
    inode: r.Inode
    whole: bytes

    @property
    def split(self) -> int:
        """The byte at which its attributes start."""
        return r.Inode.size + 8 * self.inode.di_forkoff if self.inode.di_forkoff else len(self.whole)

    @property
    def content(self) -> bytes:
        """What it holds of its content, or of where that lies."""
        return self.whole[r.Inode.size : self.split]

    @property
    def attributes(self) -> bytes:
        """What it holds of its attributes, or of where those lie."""
        return self.whole[self.split :]

    @property
    def extents(self) -> tuple[int, int]:
        """How many extents its content and its attributes have."""
        inode = self.inode
        if inode.di_flags2 & NREXT64:
            return inode.di_big_nextents, inode.di_nextents
        return inode.di_nextents, inode.di_anextents


class XfsFiles(TreeReader):
    """The files of an XFS on a device."""

    def __init__(self, volume: Volume) -> None:
        self.volume = volume
        self.blocks = volume.files()
        self._known: dict[int, list[Run]] = {}

    @property
    def root(self) -> Node:
        """The root."""
        return self.node(self.volume.superblock.sb_rootino)

    def node(self, reference: object) -> Node:
        """Return the file with an inode number."""
        held = self.held(cast(int, reference))
        inode = held.inode
        return Node(
            number=held.number,
            kind=_KINDS.get(inode.di_mode >> 12, Kind.OTHER),
            size=inode.di_size,
            mode=inode.di_mode & 0o7777,
            uid=inode.di_uid,
            gid=inode.di_gid,
            modified=_seconds(inode.di_mtime, big=bool(inode.di_flags2 & BIGTIME)),
            names=inode.di_nlink,
            held=held,
        )

    def held(self, number: int) -> Held:
        """Return an inode by its number, checked.

        Raises:
            ImageError: there is none, or it does not match its checksum.
        """
        spend()
        whole = self.volume.device.read(self.inode_place(number), self.volume.shape.inode_size)
        inode = r.Inode.decode(whole)
        if inode.di_magic != b"IN" or inode.di_version < 3 or inode.di_ino != number:
            raise ImageError(f"inode {number} is not one of version 5")
        if not sound(whole, r.Inode, "di_crc"):
            raise ImageError(f"inode {number} does not match its checksum")
        if not inode.di_mode:
            raise ImageError(f"inode {number} is not in use")
        if r.Inode.size + 8 * inode.di_forkoff >= len(whole):
            raise ImageError(f"inode {number}: its attributes start behind its end")
        return Held(number, inode, whole)

    def inode_place(self, number: int) -> int:
        """Return the byte at which an inode lies; ImageError if there is no such inode."""
        superblock, shape = self.volume.superblock, self.volume.shape
        in_block = (shape.block_size // shape.inode_size).bit_length() - 1
        group, inside = divmod(number, 1 << superblock.sb_agblklog + in_block)
        block, index = divmod(inside, 1 << in_block)
        if group >= shape.group_count or not 0 < block < shape.length(group):
            raise ImageError(f"there is no inode {number}")
        return (group * shape.group_blocks + block) * shape.block_size + index * shape.inode_size

    def names(self, folder: Node) -> Iterator[tuple[str, object]]:
        """Yield the names in a folder and their inodes, in the order they are kept."""
        for one in self.entries(self.held_of(folder)):
            text = one.name.decode("utf-8", "surrogateescape")
            if is_name(text):
                yield text, one.inode

    def entries(self, folder: Held) -> Iterator[Name]:
        """Yield the names in a folder with their inodes and kinds; `.` and `..` too where they are kept."""
        if folder.inode.di_format == IN_INODE:
            return _short_entries(folder, with_kinds=self._with_kinds)
        return self._long_entries(folder)

    @property
    def _with_kinds(self) -> bool:
        return bool(self.volume.superblock.sb_features_incompat & r.FTYPE)

    def _long_entries(self, held: Held) -> Iterator[Name]:
        for place, data in blocks.pieces(self.blocks, self.runs(held), lambda _: self.blocks.folder_block):
            if place >= blocks.LEAF_SPACE:
                return
            spend()
            if data[:4] not in blocks.DATA_MAGICS or not blocks.is_sound(data, blocks.DATA_SUM):
                raise ImageError(f"block {place} of the folder of inode {held.number} does not match its checksum")
            yield from _block_entries(data, f"the folder of inode {held.number}", with_kinds=self._with_kinds)

    def held_of(self, node: Node) -> Held:
        """Return the inode of a node."""
        return node.held if isinstance(node.held, Held) else self.held(node.number)

    def runs(self, held: Held) -> list[Run]:
        """Return the extents of a file's content."""
        if held.number not in self._known:
            if len(self._known) == _MOST_KNOWN:
                self._known.clear()
            self._known[held.number] = self._runs(held)
        return self._known[held.number]

    def _runs(self, held: Held) -> list[Run]:
        found = blocks.runs_of(self.blocks, held.content, held.inode.di_format, held.extents[0])
        end = 0
        for start, place, count, _ in found:
            group, inside = divmod(place, 1 << self.blocks.group_bits)
            there = group < self.volume.shape.group_count and inside + count <= self.volume.shape.length(group)
            if start < end or not there:
                raise ImageError(f"inode {held.number}: its extents are not in order, or leave the filesystem")
            end = start + count
        return found

    def read(self, file: Node, offset: int, length: int) -> bytes:
        """Return the bytes of a file from `offset` on, at most `length`."""
        held = self.held_of(file)
        length = max(min(length, held.inode.di_size - offset), 0)
        if held.inode.di_format == IN_INODE:
            return held.content[offset : offset + length].ljust(length, b"\0")
        size, runs = self.volume.shape.block_size, self.runs(held)
        result, end = bytearray(length), offset + length
        position = max(bisect_right(runs, offset // size, key=lambda run: run[0]) - 1, 0)
        for first, place, count, unwritten in runs[position:]:
            start, stop = max(first * size, offset), min((first + count) * size, end)
            if first * size >= end:
                break
            if start < stop and not unwritten:
                data = self.volume.device.read(self.blocks.byte_of(place) + start - first * size, stop - start)
                result[start - offset : stop - offset] = data
        return bytes(result)

    def stored(self, file: Node) -> Iterator[Extent]:
        """Yield the runs of bytes of a file that may be other than zero."""
        held = self.held_of(file)
        if held.inode.di_format == IN_INODE:
            return super().stored(file)
        runs = ((run.start, run.blocks) for run in self.runs(held) if not run.unwritten)
        return stored_runs(runs, self.volume.shape.block_size, held.inode.di_size)

    def target(self, link: Node) -> str:
        """Return the text of a link."""
        held = self.held_of(link)
        if held.inode.di_size > LARGEST_TARGET:
            raise ImageError(f"inode {held.number}: a link of {held.inode.di_size} bytes")
        if held.inode.di_format == IN_INODE:
            data = held.content
        else:
            data = b"".join(self._remote(place, count, _LINK_HEAD, b"XSLM") for _, place, count, _ in self.runs(held))
        return data[: held.inode.di_size].decode("utf-8", "surrogateescape")

    def _remote(self, place: int, count: int, head: int, magic: bytes) -> bytes:
        """Return what blocks hold that start with a head of their own, each of which tells its length."""
        data = self.blocks.read(place, count)
        if data[:4] != magic or not blocks.is_sound(data, blocks.DA_SUM):
            raise ImageError(f"the blocks from {place} on do not match their checksum")
        return data[head : head + int.from_bytes(data[8:12], "big")]

    def attributes(self, node: Node) -> Mapping[str, bytes]:
        """Return the extended attributes."""
        held = self.held_of(node)
        if not held.inode.di_forkoff:
            return {}
        if held.inode.di_aformat == IN_INODE:
            return dict(_short_attributes(held))
        runs = blocks.runs_of(self.blocks, held.attributes, held.inode.di_aformat, held.extents[1])
        return dict(self._long_attributes(held, runs))

    def _long_attributes(self, held: Held, runs: list[Run]) -> Iterator[tuple[str, bytes]]:
        where = {
            start + index: place + index for start, place, count, _ in runs for index in range(min(count, _MOST_BLOCKS))
        }
        for data in [self.blocks.read(place, 1) for place in where.values()]:
            kind = int.from_bytes(data[8:10], "big")
            if kind != _ATTRIBUTE_LEAF or data[:4] == b"XARM":
                continue
            if not blocks.is_sound(data, blocks.DA_SUM):
                raise ImageError(f"inode {held.number}: a block of its attributes does not match its checksum")
            for index in range(int.from_bytes(data[56:58], "big")):
                place = _LEAF_HEAD + 8 * index
                offset, flags = struct.unpack_from(">HB", data, place + 4) if place + 8 <= len(data) else (0, 0)
                if not _LEAF_HEAD <= offset <= len(data) - 4 or flags & (_INCOMPLETE | _PARENT):
                    continue
                name, value = self._entry(data, offset, flags, where)
                yield _SPACES.get(flags & 0x6, "") + name.decode("utf-8", "surrogateescape"), value

    def _entry(self, data: bytes, offset: int, flags: int, where: Mapping[int, int]) -> tuple[bytes, bytes]:
        if flags & _LOCAL:
            size, length = struct.unpack_from(">HB", data, offset)
            name = data[offset + 3 : offset + 3 + length]
            return name, data[offset + 3 + length : offset + 3 + length + size]
        first, size, length = struct.unpack_from(">IIB", data, offset) if offset + 9 <= len(data) else (0, 0, 0)
        if size > _LARGEST_VALUE:
            raise ImageError(f"an attribute of {size} bytes")
        value = b""
        while len(value) < size:
            if first not in where:
                raise ImageError("the value of an attribute is not whole")
            value += self._remote(where[first], 1, _REMOTE_HEAD, b"XARM")[: size - len(value)] or b"\0"
            first += 1
        return data[offset + 9 : offset + 9 + length], value


def files_of(device: BlockDevice) -> XfsFiles:
    """Return the files on a device.

    Raises:
        ImageError: its superblock is not sound.
    """
    superblock = r.Superblock.decode(device.read(0, 512))
    if superblock.sb_magicnum != r.MAGIC or superblock.sb_versionnum & 0xF != r.VERSION:
        raise ImageError("there is no superblock of an XFS of version 5")
    return XfsFiles(volume_of(device, superblock))


def _seconds(moment: int, *, big: bool) -> int:
    """Return a time of an inode as seconds since 1970: nanoseconds since December 1901, or two halves."""
    if big:
        return moment // 10**9 - _BIGTIME_EPOCH
    seconds = moment >> 32
    return seconds - (seconds >> 31 << 32)


def _short_entries(held: Held, *, with_kinds: bool) -> Iterator[Name]:
    """Yield the entries of a folder that lies in its inode."""
    data = held.content[: held.inode.di_size]
    if len(data) < 6:
        raise ImageError(f"the folder of inode {held.number} is cut short")
    size = 8 if data[1] else 4
    place = 2 + size
    for _ in range(data[0]):
        length = data[place] if place < len(data) else 0
        name = data[place + 3 : place + 3 + length]
        start = place + 3 + length + with_kinds
        if not length or start + size > len(data):
            raise ImageError(f"the folder of inode {held.number}: an entry leaves it")
        kind = data[start - 1] if with_kinds else 0
        yield Name(int.from_bytes(data[start : start + size], "big"), kind, name)
        place = start + size


def _block_entries(data: bytes, where: str, *, with_kinds: bool) -> Iterator[Name]:
    """Yield the entries of a block of a folder; a block of its own ends with its leaves."""
    end = len(data)
    if data[:4] == blocks.DATA_MAGICS[0]:
        end -= 8 + 8 * int.from_bytes(data[-8:-4], "big")
    place = _DATA_HEAD
    while place < end:
        spend()
        if int.from_bytes(data[place : place + 2], "big") == _FREE_TAG:
            length = int.from_bytes(data[place + 2 : place + 4], "big")
            if length < 8 or length % 8:
                raise ImageError(f"{where}: an unused entry of {length} bytes")
            place += length
            continue
        length = data[place + 8] if place + 8 < end else 0
        size = -(-(11 + length + with_kinds) // 8) * 8
        if not length or place + size > end:
            raise ImageError(f"{where}: an entry leaves its block")
        name, kind = data[place + 9 : place + 9 + length], data[place + 9 + length] if with_kinds else 0
        yield Name(int.from_bytes(data[place : place + 8], "big"), kind, name)
        place += size
    if place != end:
        raise ImageError(f"{where}: its entries do not fill their block")


def _short_attributes(held: Held) -> Iterator[tuple[str, bytes]]:
    """Yield the attributes that lie in an inode."""
    data = held.attributes
    count, place = data[2] if len(data) > 4 else 0, 4
    for _ in range(count):
        if place + 3 > len(data):
            raise ImageError(f"inode {held.number}: its attributes leave it")
        length, size, flags = data[place : place + 3]
        end = place + 3 + length + size
        if end > len(data):
            raise ImageError(f"inode {held.number}: its attributes leave it")
        if not flags & _PARENT:
            name = data[place + 3 : place + 3 + length].decode("utf-8", "surrogateescape")
            yield _SPACES.get(flags & 0x6, "") + name, data[place + 3 + length : end]
        place = end
