"""An exFAT read from a device that is not trusted."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import FilesystemState
from narvet.formats.filesystems.fat import common
from narvet.formats.filesystems.fat.clusters import Chains, TooManyError, Volume, tree_faults
from narvet.formats.filesystems.fat.common import FIRST_CLUSTER, serial_text
from narvet.formats.filesystems.fat.exfat_shape import (
    BAD,
    BOOT_SECTORS,
    MOST_CLUSTERS,
    UNSUMMED,
    BitmapEntry,
    BootSector,
    LabelEntry,
    Shape,
    UpcaseEntry,
    checksum,
    shape_of,
)
from narvet.formats.filesystems.fat.exfat_tree import LARGEST_FOLDER, items_of
from narvet.formats.filesystems.upcase import UNITS
from narvet.ground.extents import Extent
from narvet.ground.findings import Finding, Place
from narvet.ground.rules import filesystems as rules
from narvet.ground.units import MIB, Cluster

_DIRTY, _FAILED = 2, 4
UPCASE_ENTRY, BITMAP_ENTRY = 0x82, 0x81
_LARGEST_UPCASE = 2 * UNITS


def read(device: BlockDevice, where: Place, *, deep: bool = True) -> FilesystemState | None:
    """Return what is found on a device that is not trusted."""
    boot = boot_of(device)
    if boot is None:
        return None
    shape, native_id = shape_of(boot), serial_text(boot.volume_serial_number)
    needed = max(shape.size, shape.heap_start + shape.total)
    if needed > device.size:
        found = (rules.filesystem_past_end.error(where, needed, device.size),)
        return FilesystemState("exfat", native_id, "", shape, findings=found)
    findings = list(_boot_findings(device, boot, where))
    label, used, said = _inside(device, boot, shape, where, deep=deep)
    free = (shape.clusters - used) * shape.unit
    unclean = "its guest did not unmount it" if boot.volume_flags & _DIRTY else ""
    features = ("two tables",) if boot.number_of_fats != 1 else ()
    return FilesystemState(
        "exfat", native_id, label, shape, free, features=features, findings=(*findings, *said), unclean=unclean
    )


def unused(device: BlockDevice) -> Iterator[Extent]:
    """Yield the runs of free clusters by the bitmap."""
    boot = boot_of(device)
    place = _bitmap_place(device, boot) if boot else None
    if boot is None or place is None:
        return
    shape = shape_of(boot)
    for first, count in common.free_between(_bitmap(device, shape, place), shape.clusters):
        yield Extent(shape.heap_start + first * shape.unit, count * shape.unit)


def boot_of(device: BlockDevice) -> BootSector | None:
    """Return the boot sector of an exFAT, None where there is none whose numbers can be followed."""
    if device.size < BootSector.size:
        return None
    boot = BootSector.decode(device.read(0, BootSector.size))
    sane = (
        boot.file_system_name == b"EXFAT   "
        and boot.boot_signature == 0xAA55
        and not any(boot.must_be_zero)
        and 9 <= boot.bytes_per_sector_shift <= 12
        and boot.sectors_per_cluster_shift <= 25 - boot.bytes_per_sector_shift
        and 0 < boot.cluster_count <= MOST_CLUSTERS
        and boot.number_of_fats in (1, 2)
        and (boot.cluster_count + FIRST_CLUSTER) * 4 <= boot.fat_length << boot.bytes_per_sector_shift
        and boot.fat_offset >= 2 * BOOT_SECTORS
        and boot.fat_offset + boot.fat_length <= boot.cluster_heap_offset
    )
    return boot if sane else None


def _boot_findings(device: BlockDevice, boot: BootSector, where: Place) -> Iterator[Finding]:
    sector_size = 1 << boot.bytes_per_sector_shift
    for name, start in (("", 0), ("copy of the ", BOOT_SECTORS)):
        region = device.read(start * sector_size, BOOT_SECTORS * sector_size)
        kept, body = region[-sector_size:], region[:-sector_size]
        if checksum(body, UNSUMMED).to_bytes(4, "little") * (sector_size // 4) != kept:
            yield rules.filesystem_damaged.error(where, f"the {name}boot region does not match its checksum")
    if boot.volume_flags & _DIRTY:
        yield rules.filesystem_needs_recovery.warning(where)
    if boot.volume_flags & _FAILED:
        yield rules.filesystem_damaged.error(where, "a guest has recorded failures of the medium in it")


def _place(shape: Shape, first: Cluster, length: int) -> int | None:
    """Return the byte at which `length` bytes from a cluster on lie, None where they leave the heap."""
    inside = 0 <= first - FIRST_CLUSTER <= shape.clusters - -(-length // shape.unit)
    return shape.start_of(first) if inside and length else None


def root_entries(device: BlockDevice, boot: BootSector) -> Iterator[bytes]:
    """Yield the entries of the root's first cluster, at most 1 MiB of them."""
    shape = shape_of(boot)
    cluster = shape.unit
    place = _place(shape, boot.first_cluster_of_root, cluster)
    data = b"" if place is None else device.read(place, min(cluster, MIB))
    for offset in range(0, len(data), 32):
        if data[offset] == 0:
            return
        yield data[offset : offset + 32]


def _bitmap_place(device: BlockDevice, boot: BootSector) -> int | None:
    """Return the byte at which the allocation bitmap lies, None where it is not where and as it should be."""
    entry = next((BitmapEntry.decode(data) for data in root_entries(device, boot) if data[0] == 0x81), None)
    shape = shape_of(boot)
    if entry is None or entry.data_length != shape.bitmap_size:
        return None
    return _place(shape, entry.first_cluster, entry.data_length)


def _bitmap(device: BlockDevice, shape: Shape, place: int) -> Iterator[tuple[int, NDArray[np.bool_]]]:
    """Yield the bits of the clusters that may be in use, in parts, with the index of their first."""
    for offset, data in common.pieces(device, place, shape.bitmap_size):
        bits = np.unpackbits(np.frombuffer(data, dtype=np.uint8), bitorder="little")
        yield 8 * offset, bits[: shape.clusters - 8 * offset].astype(np.bool_)


def _inside(
    device: BlockDevice, boot: BootSector, shape: Shape, where: Place, *, deep: bool
) -> tuple[str, int, list[Finding]]:
    """Return label, clusters in use, and what is wrong with bitmap, up-case table and chains."""
    label = ""
    upcase: UpcaseEntry | None = None
    for data in root_entries(device, boot):
        if data[0] == 0x83:
            entry = LabelEntry.decode(data)
            label = entry.volume_label[: entry.character_count]
        elif data[0] == 0x82:
            upcase = UpcaseEntry.decode(data)
    place = _bitmap_place(device, boot)
    if place is None:
        return (
            label,
            0,
            [rules.filesystem_damaged.error(where, "the root names no allocation bitmap that fits the volume")],
        )
    used = sum(int(bits.sum()) for _, bits in _bitmap(device, shape, place))
    if not deep:
        return label, used, []
    said = [rules.filesystem_damaged.error(where, fault) for fault in _upcase_faults(device, boot, upcase)]
    return label, used, [*said, *_tree_findings(device, boot, place, where)]


def _tree_findings(device: BlockDevice, boot: BootSector, bitmap: int, where: Place) -> Iterator[Finding]:
    """Yield what is wrong with the folders, and with what they claim; a note where there is too much to check."""
    start, count = boot.fat_offset << boot.bytes_per_sector_shift, boot.cluster_count + FIRST_CLUSTER
    table = common.whole_table(device, start, count, 0xFFFFFFFF)
    if not len(table):
        yield rules.filesystem_not_checked.note(where, f"it has {boot.cluster_count} clusters, more than are checked")
        return
    shape = shape_of(boot)

    def used(low: int, high: int) -> NDArray[np.bool_]:
        start, end = (low - FIRST_CLUSTER) // 8, -(-(high - FIRST_CLUSTER) // 8)
        bits = np.unpackbits(np.frombuffer(device.read(bitmap + start, end - start), np.uint8), bitorder="little")
        return bits[low - FIRST_CLUSTER - 8 * start :][: high - low].astype(np.bool_)

    def read(first: Cluster, length: int) -> bytes:
        return device.read(shape.start_of(first), length * shape.unit)

    chains, root = Chains(table, BAD), boot.first_cluster_of_root
    volume = Volume(chains, used, read, root, clean=not boot.volume_flags & _DIRTY)
    try:
        for fault in tree_faults(volume, items_of(chains, shape.unit, root), LARGEST_FOLDER):
            yield rules.filesystem_damaged.error(where, fault)
    except TooManyError:
        yield rules.filesystem_not_checked.note(where, "it has more files than are checked")


def _upcase_faults(device: BlockDevice, boot: BootSector, entry: UpcaseEntry | None) -> Iterator[str]:
    if entry is None:
        yield "the root names no up-case table"
        return
    place = (
        _place(shape_of(boot), entry.first_cluster, entry.data_length) if entry.data_length <= _LARGEST_UPCASE else None
    )
    if place is None:
        yield f"the up-case table of {entry.data_length} bytes does not lie in the volume"
    elif checksum(device.read(place, entry.data_length)) != entry.table_checksum:
        yield "the up-case table does not match its checksum"
