"""The blocks that files of ext4 keep besides their content: extent trees, folders, hash trees, attributes; checksums.

Sections "Extent Tree", "Directory Entries", "Hash Tree Directories" and "Extended Attributes" of the kernel's
documentation of ext4 (filesystems/ext4). Only for filesystems with the metadata_csum feature.
"""

from __future__ import annotations

from collections.abc import Iterator

from narvet.formats.filesystems.ext4 import attributes as blocks
from narvet.formats.filesystems.ext4.folders import NODE_COUNTS, ROOT_COUNTS, hash_block_sum, is_hash_node
from narvet.formats.filesystems.ext4.inodes import inode_seed
from narvet.formats.filesystems.ext4.records import (
    EXTENT_MAGIC,
    INDEXED,
    INLINE_DATA,
    USES_EXTENTS,
    DirectoryTail,
    ExtentHeader,
    Inode,
)
from narvet.formats.filesystems.ext4.trees import mapped
from narvet.formats.filesystems.ext4.volume import Volume
from narvet.ground.checksums import crc32c_raw
from narvet.ground.errors import ImageError

MOST_FOLDER_BLOCKS = 1 << 18  # of one folder
_FOLDER = 0o4


def block_faults(volume: Volume, number: int, inode: Inode) -> Iterator[str]:
    """Yield what is wrong with the blocks of one sound inode, in use, by its `number`."""
    attributes = inode.i_file_acl_high << 32 | inode.i_file_acl_lo
    if attributes:
        yield from _attribute_faults(volume, number, attributes)
    if inode.i_flags & INLINE_DATA or not inode.i_flags & USES_EXTENTS:
        return
    seed = inode_seed(volume.seed, number, inode.i_generation)
    is_folder = inode.i_mode >> 12 == _FOLDER
    header = ExtentHeader.decode(inode.i_block)
    if not is_folder and (header.eh_magic != EXTENT_MAGIC or not header.eh_depth):
        return
    try:
        for run in mapped(volume, inode.i_block, seed):
            for index in range(run.count if is_folder else 0):
                if run.logical + index > MOST_FOLDER_BLOCKS:
                    return
                data = volume.read_block(run.start + index)
                indexed = bool(inode.i_flags & INDEXED)
                if not folder_block_sound(data, seed, is_root=indexed and run.logical + index == 0, indexed=indexed):
                    yield f"block {run.logical + index} of the folder {number} does not match its checksum"
    except ImageError as error:
        yield f"inode {number}: {error}"


def folder_block_sound(data: bytes, seed: int, *, is_root: bool, indexed: bool) -> bool:
    """Return whether a folder's block matches the checksum that its kind has: of a hash tree, or of entries."""
    if is_hash_node(data, is_root=is_root, indexed=indexed):
        signed = hash_block_sum(data, seed, ROOT_COUNTS if is_root else NODE_COUNTS)
        return signed is not None and signed[1] == int.from_bytes(data[signed[0] : signed[0] + 4], "little")
    tail = DirectoryTail.decode(data[-DirectoryTail.size :])
    whole = (tail.det_reserved_zero1, tail.det_rec_len, tail.det_reserved_zero2, tail.det_reserved_ft)
    good = crc32c_raw(seed, data[: -DirectoryTail.size]) == tail.det_checksum
    return good and whole == (0, DirectoryTail.size, 0, 0xDE)


def _attribute_faults(volume: Volume, number: int, place: int) -> Iterator[str]:
    try:
        data = volume.device.read(place * volume.block_size, volume.block_size)
    except ImageError:
        yield f"inode {number}: its attributes lie at block {place}, which does not exist"
        return
    if int.from_bytes(data[:4], "little") != blocks.MAGIC or not blocks.block_sound(volume, place, data):
        yield f"inode {number}: its block of attributes does not match its checksum"
