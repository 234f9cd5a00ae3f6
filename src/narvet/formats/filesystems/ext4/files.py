"""The files of an ext4, ext3 or ext2, read from a device that is not trusted.

Sections "Index Nodes", "The Contents of inode.i_block", "Directory Entries" and "Inline Data" of the kernel's
documentation of ext4 (filesystems/ext4).
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator, Mapping
from typing import cast

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.ext4.attributes import INLINE, attributes_of
from narvet.formats.filesystems.ext4.entries import entries_of
from narvet.formats.filesystems.ext4.file_blocks import MOST_FOLDER_BLOCKS, folder_block_sound
from narvet.formats.filesystems.ext4.inodes import inode_seed, signed_in
from narvet.formats.filesystems.ext4.records import (
    DESCRIPTOR_SIZE,
    ENCRYPTED,
    INDEXED,
    INLINE_DATA,
    INODE_SIZE,
    MAGIC,
    USES_EXTENTS,
    GroupDescriptor,
    Inode,
)
from narvet.formats.filesystems.ext4.trees import Mapped, joined_up, mapped, single_blocks
from narvet.formats.filesystems.ext4.volume import Volume, descriptor_offset, superblock_on, volume_of
from narvet.formats.filesystems.trees import LARGEST_TARGET, Kind, Node, TreeReader, is_name, stored_runs
from narvet.ground.budget import spend
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent
from narvet.ground.values import Frozen

ROOT = 2
_KINDS = {0o4: Kind.FOLDER, 0o10: Kind.FILE, 0o12: Kind.LINK}
_FAST_LINK = 60  # bytes; shorter texts of links lie in i_block
_MOST_KNOWN = 64  # files whose runs are kept at hand
_LARGEST_VALUE = 1 << 16  # of an attribute kept in a file of its own


class Held(Frozen):
    """An inode: its number, its fields, and all of its bytes."""

    number: int
    inode: Inode
    whole: bytes

    @property
    def size(self) -> int:
        """Bytes of its content."""
        return self.inode.i_size_high << 32 | self.inode.i_size_lo

    def has(self, flag: int) -> bool:
        """Return whether a flag is set."""
        return bool(self.inode.i_flags & flag)


class Ext4Files(TreeReader):
    """The files of an ext4 on a device."""

    def __init__(self, volume: Volume) -> None:
        self.volume = volume
        self._known: dict[int, tuple[Mapped, ...]] = {}

    @property
    def root(self) -> Node:
        """The root."""
        return self.node(ROOT)

    def node(self, reference: object) -> Node:
        """Return the file with an inode number."""
        held = self.held(cast(int, reference))
        inode = held.inode
        extra = inode.i_mtime_extra & 3 if self.volume.shape.inode_size > 128 and inode.i_extra_isize >= 12 else 0
        low = inode.i_mtime - (inode.i_mtime >> 31 << 32)
        return Node(
            number=held.number,
            kind=_KINDS.get(inode.i_mode >> 12, Kind.OTHER),
            size=held.size,
            mode=inode.i_mode & 0o7777,
            uid=inode.i_uid | inode.i_uid_high << 16,
            gid=inode.i_gid | inode.i_gid_high << 16,
            modified=low + (extra << 32),
            names=inode.i_links_count,
            note="encrypted" if held.has(ENCRYPTED) else "",
            held=held,
        )

    def held(self, number: int) -> Held:
        """Return an inode by its number, checked.

        Raises:
            ImageError: there is none, or it does not match its checksum.
        """
        spend()
        place, size = self.inode_place(number), self.volume.shape.inode_size
        whole = self.volume.device.read(place, size)
        inode = Inode.decode(whole[:INODE_SIZE].ljust(INODE_SIZE, b"\0"))
        if self.volume.checksums:
            signed = signed_in(self.volume.seed, number, inode, whole)
            if (signed.i_checksum_lo, signed.i_checksum_hi) != (inode.i_checksum_lo, inode.i_checksum_hi):
                raise ImageError(f"inode {number} does not match its checksum")
        if not inode.i_mode or not inode.i_links_count:
            raise ImageError(f"inode {number} is not in use")
        if 128 + inode.i_extra_isize > size:
            raise ImageError(f"inode {number} says it has {inode.i_extra_isize} bytes more than fit")
        return Held(number, inode, whole)

    def inode_place(self, number: int) -> int:
        """Return the byte at which an inode lies; ImageError if there is no such inode."""
        volume, shape = self.volume, self.volume.shape
        if not 0 < number <= shape.group_count * shape.inodes_per_group:
            raise ImageError(f"there is no inode {number}")
        group, index = divmod(number - 1, shape.inodes_per_group)
        data = volume.device.read(descriptor_offset(shape, group), shape.descriptor_size)
        descriptor = GroupDescriptor.decode(data[:DESCRIPTOR_SIZE].ljust(DESCRIPTOR_SIZE, b"\0"))
        table = descriptor.bg_inode_table_lo | (descriptor.bg_inode_table_hi << 32 if volume.incompat("64bit") else 0)
        return table * volume.block_size + index * shape.inode_size

    def names(self, folder: Node) -> Iterator[tuple[str, object]]:
        """Yield the names in a folder and their inodes, in the order they are kept."""
        held = self.held_of(folder)
        for data in self._folder_pieces(held):
            for one in entries_of(data):
                spend()
                text = one.name.decode("utf-8", "surrogateescape")
                if one.inode and is_name(text):
                    yield text, one.inode

    def _folder_pieces(self, held: Held) -> Iterator[bytes]:
        """Yield the bytes of a folder that hold entries, block by block."""
        if held.has(INLINE_DATA):
            yield held.inode.i_block[4:]
            rest = self._inline(held)[_FAST_LINK:]
            yield from [rest] if rest else []
            return
        yield from (data for _, data in self.folder_blocks(held))

    def folder_blocks(self, held: Held) -> Iterator[tuple[int, bytes]]:
        """Yield number in the folder and bytes of each of its blocks, checked; those of its hash tree too."""
        volume = self.volume
        seed = inode_seed(volume.seed, held.number, held.inode.i_generation)
        count = -(-held.size // volume.block_size)
        if count > MOST_FOLDER_BLOCKS:
            raise ImageError(f"the folder of inode {held.number} has {count} blocks, more than are read")
        indexed = held.has(INDEXED)
        for run in self.runs(held):
            for index in range(run.logical, min(run.logical + run.count, count)):
                spend()
                data = volume.read_block(run.start + index - run.logical)
                is_root = indexed and not index
                if volume.checksums and not folder_block_sound(data, seed, is_root=is_root, indexed=indexed):
                    raise ImageError(f"block {index} of the folder of inode {held.number} does not match its checksum")
                yield index, data

    def held_of(self, node: Node) -> Held:
        """Return the inode of a node."""
        return node.held if isinstance(node.held, Held) else self.held(node.number)

    def runs(self, held: Held) -> tuple[Mapped, ...]:
        """Return the runs of a file's blocks, ascending in the file."""
        if held.number not in self._known:
            if len(self._known) == _MOST_KNOWN:
                self._known.clear()
            self._known[held.number] = self._runs(held)
        return self._known[held.number]

    def _runs(self, held: Held) -> tuple[Mapped, ...]:
        if held.has(USES_EXTENTS):
            seed = inode_seed(self.volume.seed, held.number, held.inode.i_generation)
            found = list(mapped(self.volume, held.inode.i_block, seed))
        else:
            every = single_blocks(self.volume, held.inode.i_block)
            found = joined_up(Mapped(logical, place, 1) for level, logical, place in every if not level)
        end = 0
        for run in found:
            if run.logical < end or run.end > self.volume.shape.block_count:
                raise ImageError(f"inode {held.number}: its blocks are not in order, or leave the filesystem")
            end = run.logical + run.count
        return tuple(found)

    def read(self, file: Node, offset: int, length: int) -> bytes:
        """Return the bytes of a file from `offset` on, at most `length`."""
        return self.content(self.held_of(file), offset, length)

    def content(self, held: Held, offset: int, length: int) -> bytes:
        """Return the bytes of a file from `offset` on, at most `length`; encrypted ones as they are stored."""
        length = max(min(length, held.size - offset), 0)
        if held.has(INLINE_DATA):
            return self._inline(held)[offset : offset + length].ljust(length, b"\0")
        block, runs = self.volume.block_size, self.runs(held)
        result, end = bytearray(length), offset + length
        position = max(bisect_right(runs, offset // block, key=lambda run: run.logical) - 1, 0)
        for run in runs[position:]:
            start, stop = max(run.logical * block, offset), min((run.logical + run.count) * block, end)
            if run.logical * block >= end:
                break
            if start < stop and not run.unwritten:
                data = self.volume.device.read(run.start * block + start - run.logical * block, stop - start)
                result[start - offset : stop - offset] = data
        return bytes(result)

    def _inline(self, held: Held) -> bytes:
        """Return the content that lies in an inode: in i_block, and what does not fit there as an attribute."""
        rest = self._attributes(held).get(INLINE, b"")
        return held.inode.i_block + rest

    def stored(self, file: Node) -> Iterator[Extent]:
        """Yield the runs of bytes of a file that may be other than zero."""
        held = self.held_of(file)
        if held.has(INLINE_DATA):
            return super().stored(file)
        runs = ((run.logical, run.count) for run in self.runs(held) if not run.unwritten)
        return stored_runs(runs, self.volume.block_size, held.size)

    def target(self, link: Node) -> str:
        """Return the text of a link."""
        held = self.held_of(link)
        if held.size > LARGEST_TARGET:
            raise ImageError(f"inode {held.number}: a link of {held.size} bytes")
        fast = held.size < _FAST_LINK and not held.has(USES_EXTENTS) and not held.has(INLINE_DATA)
        data = held.inode.i_block[: held.size] if fast else self.content(held, 0, held.size)
        return data.decode("utf-8", "surrogateescape")

    def attributes(self, node: Node) -> Mapping[str, bytes]:
        """Return the extended attributes, without the one that holds a small file's content."""
        return {name: value for name, value in self._attributes(self.held_of(node)).items() if name != INLINE}

    def _attributes(self, held: Held) -> dict[str, bytes]:
        found = {}
        for one in attributes_of(self.volume, held.number, held.inode, held.whole):
            value = one.value
            if one.inode:
                if one.size > _LARGEST_VALUE:
                    raise ImageError(f"inode {held.number}: an attribute of {one.size} bytes")
                value = self.content(self.held(one.inode), 0, one.size)
            found[one.name] = value
        return found


def files_of(device: BlockDevice) -> Ext4Files:
    """Return the files on a device.

    Raises:
        ImageError: its superblock is not sound.
    """
    superblock = superblock_on(device)
    if superblock.s_magic != MAGIC:
        raise ImageError("there is no superblock of an ext4")
    return Ext4Files(volume_of(device, superblock))
