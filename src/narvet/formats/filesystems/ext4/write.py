"""Writing a fresh ext4 filesystem: first everything is worked out, then one block run after another is written."""

from __future__ import annotations

import struct
from collections.abc import Iterator, Mapping
from functools import lru_cache
from types import MappingProxyType
from typing import Any
from uuid import UUID

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.ext4 import inodes
from narvet.formats.filesystems.ext4.geometry import FIRST_INODES, PlannedExt4
from narvet.formats.filesystems.ext4.groups import Spread, spread
from narvet.formats.filesystems.ext4.records import (
    COMPAT,
    DESCRIPTOR_SIZE,
    EXTRA_ISIZE,
    GROUP_BLOCKS_UNUSED,
    GROUP_INODES_UNUSED,
    GROUP_TABLE_ZEROED,
    INCOMPAT,
    INODE_SIZE,
    JOURNAL_MAGIC,
    MAGIC,
    RO_COMPAT,
    SUPERBLOCK_OFFSET,
    GroupDescriptor,
    Inode,
    JournalSuperblock,
    Superblock,
)
from narvet.formats.filesystems.ext4.shape import Shape
from narvet.ground.checksums import crc32c_numbered, crc32c_raw
from narvet.ground.extents import Extent
from narvet.ground.values import Frozen, replace

_ALL = 0xFFFFFFFF
_NUMBER = 4  # bytes of a group's number, as checksums begin with it
_MOST_KEPT = 1 << 14  # groups, for whose maps some megabytes are kept
_READ_ONLY_ON_ERRORS = 2
_NEVER = 0xFFFF
_USER_XATTR_AND_ACL = 0xC


def checksum_seed(uuid: UUID) -> int:
    """Return where every metadata checksum starts (metadata_csum_seed: it outlives a change of the UUID)."""
    return crc32c_raw(_ALL, uuid.bytes)


def write(device: BlockDevice, new: PlannedExt4) -> None:
    """Write the filesystem to a device that reads as zeros: copies first, the first superblock last."""
    shape, seed = new.shape, checksum_seed(new.options.uuid)
    lay_out = _kept_lay_out if shape.group_count <= _MOST_KEPT else _lay_out
    laid = lay_out(shape, new.options.made)
    places = laid.places
    descriptors = _descriptors(shape, laid, seed, noise=new.options.noise)
    block = shape.block_size
    for group, bitmap in laid.bitmaps.items():
        device.write(int(places.block_bitmap[group]) * block, bitmap)
    device.write(int(places.inode_bitmap[0]) * block, laid.inode_bitmap)
    first_inodes = {**laid.inodes, inodes.ROOT: inodes.root_inode(shape, new.options, places.root).encode()}
    device.write(int(places.inode_table[0]) * block, _inode_table(first_inodes, seed))
    _write_folders(device, shape, places, seed)
    for place, content in laid.growth.items():
        device.write(place * block, content)
    if places.journal:
        device.write(places.journal[0].start * block, laid.journal)
    _write_descriptors(device, shape, descriptors)
    superblock = _superblock(new, seed, laid.journal_copy).encode()
    for group in (*reversed(shape.copies), 0):
        start = shape.group_start(group) * block
        own = Superblock.changed(superblock, s_block_group_nr=group & 0xFFFF)
        device.write(max(start, SUPERBLOCK_OFFSET), Superblock.changed(own, s_checksum=crc32c_raw(_ALL, own[:-4])))


class _Laid(Frozen):
    """What filesystems of one shape have in common.

    That is where everything lies, the map of the inodes of group 0, the maps of blocks that are written, the group
    descriptors without their checksums, and what these come to from a seed of 0, the blocks to grow into, the inodes
    in use but for the root's, the start of the journal, and what the superblock keeps of the journal's inode.
    """

    places: Spread
    inode_bitmap: bytes
    bitmaps: Mapping[int, bytes]
    descriptors: NDArray[Any]
    sums: NDArray[Any]
    growth: Mapping[int, bytes]
    inodes: Mapping[int, bytes]
    journal: bytes
    journal_copy: tuple[int, ...]


def _lay_out(shape: Shape, made: int) -> _Laid:
    places = spread(shape)
    bitmaps = MappingProxyType(dict(block_bitmaps(shape, places.base, places.length, places.used)))
    first = _first_inodes(shape, made, places)
    descriptors = _unsigned_descriptors(shape, places, bitmaps)
    return _Laid(
        places,
        _inode_bitmap(shape),
        bitmaps,
        descriptors,
        descriptor_checksums(descriptors, 0),
        MappingProxyType(inodes.growth_blocks(shape, places.growth_map) if places.growth_map else {}),
        MappingProxyType({number: inode.encode() for number, inode in first.items()}),
        _journal(shape).encode(),
        _journal_copy(first.get(inodes.JOURNAL)),
    )


@lru_cache(maxsize=8)
def _kept_lay_out(shape: Shape, made: int) -> _Laid:
    """Return how a shape is laid out; many disks of a sheet have the same."""
    return _lay_out(shape, made)


def sign(superblock: Superblock) -> Superblock:
    """Return the superblock with its checksum, which covers all bytes before it."""
    return replace(superblock, s_checksum=crc32c_raw(_ALL, superblock.encode()[:-4]))


def _inode_bitmap(shape: Shape) -> bytes:
    """Return group 0's inode bitmap: the first inodes used, the bits after the last inode set."""
    bits = np.zeros(8 * shape.block_size, dtype=bool)
    bits[:FIRST_INODES] = True
    bits[shape.inodes_per_group :] = True
    return np.packbits(bits, bitorder="little").tobytes()


def block_bitmaps(
    shape: Shape, base: NDArray[np.int64], length: NDArray[np.int64], used: Mapping[int, list[Extent]]
) -> Iterator[tuple[int, bytes]]:
    """Yield the bitmap of every group that needs one written: `used` has the runs taken in it besides its base."""
    cluster, whole = shape.cluster_blocks, 8 * shape.block_size
    alike: dict[tuple[tuple[int, int], ...], bytes] = {}
    groups = list(used)
    for group, first, end in zip(groups, base[groups].tolist(), length[groups].tolist(), strict=True):
        start = shape.group_start(group)
        taken = (
            (0, first // cluster),
            (end // cluster, whole),
            *(((at - start) // cluster, -(-(at - start + count) // cluster)) for at, count in used[group]),
        )
        if taken not in alike:
            bits = np.zeros(whole, dtype=bool)
            for low, high in taken:
                bits[low:high] = True
            alike[taken] = np.packbits(bits, bitorder="little").tobytes()
        yield group, alike[taken]


def _unsigned_descriptors(shape: Shape, places: Spread, bitmaps: Mapping[int, bytes]) -> NDArray[Any]:
    """Return all group descriptors, without their checksums and those of the maps."""
    count, inodes_each = shape.group_count, shape.inodes_per_group
    flags = np.full(count, GROUP_INODES_UNUSED | GROUP_BLOCKS_UNUSED | GROUP_TABLE_ZEROED)
    flags[0] &= ~GROUP_INODES_UNUSED
    flags[list(bitmaps)] &= ~GROUP_BLOCKS_UNUSED
    free_inodes = np.full(count, inodes_each)
    free_inodes[0] -= FIRST_INODES
    folders = np.zeros(count, dtype=np.int64)
    folders[0] = 2
    halves: dict[str, NDArray[Any]] = {}
    for name, values, bits in (
        ("bg_block_bitmap", places.block_bitmap, 32),
        ("bg_inode_bitmap", places.inode_bitmap, 32),
        ("bg_inode_table", places.inode_table, 32),
        ("bg_free_blocks_count", places.free // shape.cluster_blocks, 16),
        ("bg_free_inodes_count", free_inodes, 16),
        ("bg_used_dirs_count", folders, 16),
        ("bg_itable_unused", free_inodes, 16),
    ):
        halves[name + "_lo"] = values & ((1 << bits) - 1)
        halves[name + "_hi"] = values >> bits
    return GroupDescriptor.table(count, bg_flags=flags, **halves)


def _descriptors(shape: Shape, laid: _Laid, seed: int, *, noise: bool) -> NDArray[Any]:
    """Return all group descriptors, with their checksums; tables of inodes count as zeroed where they read as zeros."""
    table = laid.descriptors.copy()
    if noise:
        table["bg_flags"] &= 0xFFFF ^ GROUP_TABLE_ZEROED
    written = list(laid.bitmaps)
    sums = np.array([crc32c_raw(seed, bitmap) for bitmap in laid.bitmaps.values()], dtype=np.uint32)
    table["bg_block_bitmap_csum_lo"][written], table["bg_block_bitmap_csum_hi"][written] = sums & 0xFFFF, sums >> 16
    high, low = divmod(crc32c_raw(seed, laid.inode_bitmap[: shape.inodes_per_group // 8]), 1 << 16)
    table["bg_inode_bitmap_csum_lo"][0], table["bg_inode_bitmap_csum_hi"][0] = low, high
    if noise:
        table["bg_checksum"] = descriptor_checksums(table, seed)
        return table
    # A CRC is linear: what the seed brings about is the same for all groups whose descriptors are as they were kept.
    sums = laid.sums ^ np.uint16(crc32c_raw(seed, bytes(_NUMBER + DESCRIPTOR_SIZE)) & 0xFFFF)
    others = sorted({0, *written})
    for group, row in zip(others, table[others], strict=True):
        begun = crc32c_raw(seed, group.to_bytes(_NUMBER, "little"))
        sums[group] = crc32c_raw(begun, row.tobytes()) & 0xFFFF
    table["bg_checksum"] = sums
    return table


def descriptor_checksums(table: NDArray[Any], seed: int, first: int = 0) -> NDArray[Any]:
    """Return the checksums of the descriptors of groups `first` and on, shape (n,), as 16 bits."""
    blank = table
    if table["bg_checksum"].any():
        blank = table.copy()
        blank["bg_checksum"] = 0
    return (crc32c_numbered(seed, blank, first) & 0xFFFF).astype(np.uint16)


def _write_descriptors(device: BlockDevice, shape: Shape, table: NDArray[Any]) -> None:
    block, first = shape.block_size, shape.first_data_block
    data = memoryview(table.tobytes())
    if shape.meta_from is None:
        for group in (*shape.copies, 0):
            device.write((first + group * shape.blocks_per_group + 1) * block, data)
        return
    each = shape.descriptors_per_block
    with_super = {0, *shape.copies}
    for index in range(shape.descriptor_blocks):
        content = data[index * each * DESCRIPTOR_SIZE :][: each * DESCRIPTOR_SIZE]
        for group in (index * each, index * each + 1, index * each + each - 1):
            if group < shape.group_count:
                start = first + group * shape.blocks_per_group + (group in with_super)
                device.write(start * block, content)


def _first_inodes(shape: Shape, moment: int, places: Spread) -> dict[int, Inode]:
    """Return the inodes in use but for the root's, not signed yet."""
    made = {inodes.LOST_FOUND: inodes.lost_found_inode(shape, moment, places.lost_found)}
    if places.journal:
        made[inodes.JOURNAL] = inodes.file_inode(shape, moment, places.journal)
    if places.growth_map:
        made[inodes.GROWTH] = inodes.growth_inode(shape, moment, places.growth_map)
    return made


_UNUSED_INODE = Inode(i_extra_isize=EXTRA_ISIZE).encode()


def _inode_table(first_inodes: Mapping[int, bytes], seed: int) -> bytes:
    """Return the start of group 0's inode table; reserved inodes not in use are empty, but signed too."""
    parts = []
    for number in range(1, FIRST_INODES + 1):
        data = first_inodes.get(number, _UNUSED_INODE)
        high, low = divmod(crc32c_raw(inodes.inode_seed(seed, number), data), 1 << 16)
        parts.append(Inode.changed(data, i_checksum_lo=low, i_checksum_hi=high))
    return b"".join(parts)


def _write_folders(device: BlockDevice, shape: Shape, places: Spread, seed: int) -> None:
    root, found = inodes.ROOT, inodes.LOST_FOUND
    names = [(".", root), ("..", root), ("lost+found", found)]
    device.write(places.root.start * shape.block_size, inodes.folder_block(shape, seed, root, names))
    blocks = [start + index for start, count in places.lost_found for index in range(count)]
    for index, place in enumerate(blocks):
        names = [(".", found), ("..", root)] if index == 0 else []
        device.write(place * shape.block_size, inodes.folder_block(shape, seed, found, names))


def _journal(shape: Shape) -> JournalSuperblock:
    """Return the superblock of a clean, empty journal; the kernel turns its checksums on at the first mount."""
    return JournalSuperblock(
        h_magic=JOURNAL_MAGIC,
        h_blocktype=4,
        s_blocksize=shape.block_size,
        s_maxlen=shape.journal_blocks,
        s_first=1,
        s_sequence=1,
        s_nr_users=1,
    )


@lru_cache(maxsize=8)
def _features(shape: Shape) -> tuple[int, int, int]:
    unwanted = {"recover", "meta_bg" if shape.meta_from is None else "resize_inode"}
    if shape.cluster_blocks == 1:
        unwanted.add("bigalloc")
    if not shape.journal_blocks:
        unwanted.add("has_journal")
    compat, incompat, ro_compat = (
        sum(bit for bit, name in table.items() if name not in unwanted) for table in (COMPAT, INCOMPAT, RO_COMPAT)
    )
    return compat, incompat, ro_compat


def _journal_copy(journal: Inode | None) -> tuple[int, ...]:
    if journal is None:
        return (0,) * 17
    return (*struct.unpack("<15I", journal.i_block), journal.i_size_high, journal.i_size_lo)


def _superblock(new: PlannedExt4, seed: int, journal_copy: tuple[int, ...]) -> Superblock:
    shape, options, made = new.shape, new.options, new.options.made & _ALL
    compat, incompat, ro_compat = _features(shape)
    log_block = shape.block_size.bit_length() - 11
    return Superblock(
        s_inodes_count=shape.group_count * shape.inodes_per_group,
        s_blocks_count_lo=shape.block_count & _ALL,
        s_blocks_count_hi=shape.block_count >> 32,
        s_r_blocks_count_lo=shape.superuser_blocks & _ALL,
        s_r_blocks_count_hi=shape.superuser_blocks >> 32,
        s_free_blocks_count_lo=shape.free_blocks & _ALL,
        s_free_blocks_count_hi=shape.free_blocks >> 32,
        s_free_inodes_count=shape.group_count * shape.inodes_per_group - FIRST_INODES,
        s_first_data_block=shape.first_data_block,
        s_log_block_size=log_block,
        s_log_cluster_size=log_block + shape.cluster_blocks.bit_length() - 1,
        s_blocks_per_group=shape.blocks_per_group,
        s_clusters_per_group=shape.blocks_per_group // shape.cluster_blocks,
        s_inodes_per_group=shape.inodes_per_group,
        s_wtime=made,
        s_max_mnt_count=_NEVER,
        s_magic=MAGIC,
        s_state=1,
        s_errors=_READ_ONLY_ON_ERRORS,
        s_lastcheck=made,
        s_rev_level=1,
        s_first_ino=FIRST_INODES,
        s_inode_size=INODE_SIZE,
        s_feature_compat=compat,
        s_feature_incompat=incompat,
        s_feature_ro_compat=ro_compat,
        s_uuid=options.uuid,
        s_volume_name=options.label.encode(),
        s_reserved_gdt_blocks=shape.reserved_descriptor_blocks,
        s_journal_inum=inodes.JOURNAL if shape.journal_blocks else 0,
        s_hash_seed=UUID(int=options.uuid.int ^ ((1 << 128) - 1)),
        s_def_hash_version=1,
        s_jnl_backup_type=1 if shape.journal_blocks else 0,
        s_jnl_blocks=journal_copy,
        s_desc_size=DESCRIPTOR_SIZE,
        s_default_mount_opts=_USER_XATTR_AND_ACL,
        s_creation_time=made,
        s_min_extra_isize=EXTRA_ISIZE,
        s_want_extra_isize=EXTRA_ISIZE,
        s_raid_stride=min(options.chunk // shape.block_size, 0xFFFF),
        s_raid_stripe_width=options.stripe // shape.block_size,
        s_flags=1,
        s_log_groups_per_flex=shape.groups_per_flex_log,
        s_checksum_type=1,
        s_overhead_clusters=shape.overhead_blocks // shape.cluster_blocks & _ALL,
        s_lpf_ino=inodes.LOST_FOUND,
        s_checksum_seed=seed,
    )
