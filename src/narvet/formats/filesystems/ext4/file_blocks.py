"""The blocks that files of ext4 keep besides their content: extent trees, folders, hash trees, attributes; checksums.

Sections "Extent Tree", "Directory Entries", "Hash Tree Directories" and "Extended Attributes" of the kernel's
documentation of ext4 (filesystems/ext4). Only for filesystems with the metadata_csum feature.
"""

from __future__ import annotations

from collections.abc import Iterator

from narvet.formats.filesystems.ext4.inodes import inode_seed
from narvet.formats.filesystems.ext4.records import EXTENT_MAGIC, DirectoryTail, ExtentHeader, ExtentRecord, Inode
from narvet.formats.filesystems.ext4.volume import Volume
from narvet.ground.budget import spend
from narvet.ground.checksums import crc32c_raw
from narvet.ground.errors import ImageError

MOST_DEPTH = 5  # levels that an extent tree can have
MOST_FOLDER_BLOCKS = 1 << 18  # of one folder
_USES_EXTENTS, _INDEXED, _INLINE = 0x80000, 0x1000, 0x10000000
_FOLDER = 0o4
_LONGEST_EXTENT = 1 << 15  # blocks; longer ones are not initialised, and count from there
_ROOT_COUNTS, _NODE_COUNTS = 32, 8  # where limit and count lie in a hash tree's root and nodes
_ATTRIBUTE_MAGIC = 0xEA020000
_ATTRIBUTE_SUM = 16  # offset of the checksum in a block of attributes


def block_faults(volume: Volume, number: int, inode: Inode) -> Iterator[str]:
    """Yield what is wrong with the blocks of one sound inode, in use, by its `number`."""
    attributes = inode.i_file_acl_high << 32 | inode.i_file_acl_lo
    if attributes:
        yield from _attribute_faults(volume, number, attributes)
    if inode.i_flags & _INLINE or not inode.i_flags & _USES_EXTENTS:
        return
    seed = inode_seed(volume.seed, number, inode.i_generation)
    is_folder = inode.i_mode >> 12 == _FOLDER
    header = ExtentHeader.decode(inode.i_block)
    if not is_folder and (header.eh_magic != EXTENT_MAGIC or not header.eh_depth):
        return
    try:
        for logical, place, count in _extents(volume, inode.i_block, seed, MOST_DEPTH):
            for index in range(count if is_folder else 0):
                if logical + index > MOST_FOLDER_BLOCKS:
                    return
                data = volume.device.read((place + index) * volume.block_size, volume.block_size)
                indexed = bool(inode.i_flags & _INDEXED)
                if not _folder_block_sound(data, seed, is_root=indexed and logical + index == 0, indexed=indexed):
                    yield f"block {logical + index} of the folder {number} does not match its checksum"
    except ImageError as error:
        yield f"inode {number}: {error}"


def _extents(volume: Volume, node: bytes, seed: int, depth: int) -> Iterator[tuple[int, int, int]]:
    """Yield first block in the file, first block on the disk and length of every extent below a node.

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
            length = entry.ee_len if entry.ee_len <= _LONGEST_EXTENT else entry.ee_len - _LONGEST_EXTENT
            yield entry.ee_block, entry.ee_start_hi << 32 | entry.ee_start_lo, length
            continue
        # An index has its block's number in another order: lower half, then upper (struct ext4_extent_idx).
        place = (
            int.from_bytes(node[start + 4 : start + 8], "little")
            | int.from_bytes(node[start + 8 : start + 10], "little") << 32
        )
        data = volume.device.read(place * volume.block_size, volume.block_size)
        end = ExtentHeader.size * (1 + ExtentHeader.decode(data).eh_max)
        if end + 4 > len(data) or int.from_bytes(data[end : end + 4], "little") != crc32c_raw(seed, data[:end]):
            raise ImageError("a node of its extent tree does not match its checksum")
        yield from _extents(volume, data, seed, header.eh_depth - 1)


def _folder_block_sound(data: bytes, seed: int, *, is_root: bool, indexed: bool) -> bool:
    """Return whether a folder's block matches the checksum that its kind has: of a hash tree, or of entries."""
    empty = int.from_bytes(data[:4], "little") == 0 and _length(data[4:6], len(data)) == len(data)
    if is_root or (indexed and empty):
        return _hash_block_sound(data, seed, _ROOT_COUNTS if is_root else _NODE_COUNTS)
    tail = DirectoryTail.decode(data[-DirectoryTail.size :])
    whole = (tail.det_reserved_zero1, tail.det_rec_len, tail.det_reserved_zero2, tail.det_reserved_ft)
    good = crc32c_raw(seed, data[: -DirectoryTail.size]) == tail.det_checksum
    return good and whole == (0, DirectoryTail.size, 0, 0xDE)


def _length(field: bytes, block: int) -> int:
    """Return the length of an entry; 64 KiB, which its 16 bits do not hold, is written as 0 or all ones."""
    length = int.from_bytes(field, "little")
    return block if length in (0, 0xFFFF) and block == 1 << 16 else length


def _hash_block_sound(data: bytes, seed: int, counts: int) -> bool:
    limit = int.from_bytes(data[counts : counts + 2], "little")
    count = int.from_bytes(data[counts + 2 : counts + 4], "little")
    tail = counts + 8 * limit
    if tail + 8 > len(data) or count > limit:
        return False
    summed = crc32c_raw(crc32c_raw(seed, data[: counts + 8 * count]), data[tail : tail + 4] + bytes(4))
    return summed == int.from_bytes(data[tail + 4 : tail + 8], "little")


def _attribute_faults(volume: Volume, number: int, place: int) -> Iterator[str]:
    try:
        data = volume.device.read(place * volume.block_size, volume.block_size)
    except ImageError:
        yield f"inode {number}: its attributes lie at block {place}, which does not exist"
        return
    kept = int.from_bytes(data[_ATTRIBUTE_SUM : _ATTRIBUTE_SUM + 4], "little")
    blank = data[:_ATTRIBUTE_SUM] + bytes(4) + data[_ATTRIBUTE_SUM + 4 :]
    summed = crc32c_raw(crc32c_raw(volume.seed, place.to_bytes(8, "little")), blank)
    if int.from_bytes(data[:4], "little") != _ATTRIBUTE_MAGIC or summed != kept:
        yield f"inode {number}: its block of attributes does not match its checksum"
