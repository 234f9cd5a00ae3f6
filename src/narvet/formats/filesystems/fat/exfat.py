"""exFAT, as its published specification (exFAT File System Specification, revision 1.00) describes it.

The cluster heap starts on a multiple of 1 MiB, or of the storage's chunk, where the volume is large enough for that.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import Capacity, FilesystemState, Loss, Resizing, UnfitError
from narvet.formats.filesystems.fat.common import FIRST_CLUSTER, Portable, PortableOptions, serial, serial_text
from narvet.formats.filesystems.fat.exfat_shape import (
    BOOT_SECTORS,
    END,
    MOST_CLUSTERS,
    UNSUMMED,
    BitmapEntry,
    BootSector,
    LabelEntry,
    Shape,
    UpcaseEntry,
    checksum,
    upcase_table,
)
from narvet.formats.filesystems.trees import FileTree
from narvet.ground.extents import Extent
from narvet.ground.findings import Place
from narvet.ground.units import GIB, KIB, MIB, TIB, align_up, outside, show_both
from narvet.ground.values import Frozen

LEAST = 2 * MIB
MOST = 64 * TIB
_UNITS = tuple(512 << shift for shift in range(17))
# Cluster by the size of the volume up to which it serves; four times that for few, large files.
_CLUSTERS = ((256 * MIB, 4 * KIB), (32 * GIB, 32 * KIB), (16 * TIB, 128 * KIB), (1 << 63, 512 * KIB))
_EXTENDED = 0xAA550000


class ExfatOptions(PortableOptions, kw_only=True):
    """Options of exFAT."""

    def plan(self, size: int) -> NewExfat:
        """Return an exFAT to be made in `size` bytes; UnfitError if it cannot be."""
        cluster = self.unit or _usual(size, self)
        if not LEAST <= size <= MOST or size // cluster > MOST_CLUSTERS:
            most = min(MOST, MOST_CLUSTERS * cluster)
            raise UnfitError(f"exfat is made {outside(size, LEAST, most)}", LEAST, most)
        shape = _shape(size, self, cluster // self.sector_size)
        if shape.clusters < shape.used + 1:
            raise UnfitError(f"{show_both(size)} do not hold the metadata of exfat", LEAST, MOST)
        return NewExfat(size, self, shape)

    def breakpoints(self) -> tuple[int, ...]:
        """Return the sizes at which clusters or alignment change."""
        return (LEAST, 64 * MIB, *(upto + 1 for upto, _ in _CLUSTERS[:-1]), MOST)


class NewExfat(Frozen):
    """An exFAT that is to be made in `size` bytes."""

    size: int
    options: ExfatOptions
    shape: Shape

    def capacity(self) -> Capacity:
        """Return what the guest will report."""
        shape, cluster = self.shape, self.shape.unit
        free = (shape.clusters - shape.used) * cluster
        losses = (
            ("boot regions, file allocation table", shape.heap_start),
            ("allocation bitmap", shape.bitmap_clusters * cluster),
            ("up-case table", shape.upcase_clusters * cluster),
            ("root folder", cluster),
            ("too short for a cluster", self.size - shape.heap_start - shape.total),
        )
        return Capacity(shape.total, free, free, tuple(Loss(what, size) for what, size in losses if size))

    def footprint(self) -> int:
        """Return boot regions, the starts of table and bitmap, the up-case table and the root."""
        shape = self.shape
        spread = 4 * (shape.used + FIRST_CLUSTER) + shape.used // 8 + len(upcase_table())
        return 2 * BOOT_SECTORS * shape.sector_size + spread + 6 * max(4 * KIB, shape.sector_size)

    def state(self) -> FilesystemState:
        """Return what a reader will find once it is written."""
        options = self.options
        free = (self.shape.clusters - self.shape.used) * self.shape.unit
        return FilesystemState("exfat", serial_text(serial(options.uuid)), options.label, self.shape, free)

    def write(self, device: BlockDevice) -> None:
        """Write root, up-case table, bitmap and table, then the boot regions, the first one last."""
        shape, table = self.shape, upcase_table()
        device.write(shape.start_of(shape.root), _root(shape, self.options.label, table))
        device.write(shape.start_of(shape.upcase), table)
        bits = np.ones(shape.used, dtype=np.uint8)
        device.write(shape.heap_start, np.packbits(bits, bitorder="little").tobytes())
        device.write(shape.fat_offset * shape.sector_size, _table(shape).tobytes())
        region = _boot_region(self)
        for start in (BOOT_SECTORS, 0):
            device.write(start * shape.sector_size, region)


class Exfat(Portable):
    """The filesystem behind `filesystem = "exfat"`."""

    name = "exfat"
    options = ExfatOptions
    mount_type = "exfat"
    least = LEAST
    most = MOST

    def units(self, sector_size: int) -> tuple[int, ...]:
        """Return the cluster sizes."""
        return tuple(unit for unit in _UNITS if unit >= sector_size)

    def label_length(self, label: str) -> int:
        """Return the UTF-16 units of a label."""
        return len(label.encode("utf-16-le")) // 2

    def read(self, device: BlockDevice, where: Place, *, deep: bool = True) -> FilesystemState | None:
        """Return what is found on a device that is not trusted."""
        from narvet.formats.filesystems.fat.exfat_read import read

        return read(device, where, deep=deep)

    def correct(self, device: BlockDevice, wanted: FilesystemState) -> None:
        """Write the label where it differs."""
        from narvet.formats.filesystems.fat.labels import exfat_label

        exfat_label(device, wanted.label)

    def grown(self, state: FilesystemState, size: int) -> Resizing:
        """Return it made larger; CannotChangeError where it cannot be."""
        from narvet.formats.filesystems.fat.exfat_grow import grown

        return grown(state, size)

    def tree(self, device: BlockDevice) -> FileTree:
        """Return its files."""
        from narvet.formats.filesystems.fat.files import exfat_files

        return exfat_files(device)

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield the runs of free clusters by the bitmap."""
        from narvet.formats.filesystems.fat.exfat_read import unused

        return unused(device)


FILESYSTEM = Exfat()


def _usual(size: int, options: ExfatOptions) -> int:
    unit = next(unit for upto, unit in _CLUSTERS if size <= upto)
    return max(unit * (4 if options.purpose == "media" and size > 256 * MIB else 1), options.sector_size)


def _shape(size: int, options: ExfatOptions, per_cluster: int) -> Shape:
    sector_size = options.sector_size
    total = size // sector_size
    unit = max((options.chunk or (MIB if size >= 64 * MIB else 4 * KIB)) // sector_size, 1)
    first = align_up(2 * BOOT_SECTORS, max(4 * KIB // sector_size, 1))
    length = -(-(((total - first) // per_cluster + FIRST_CLUSTER) * 4) // sector_size)
    heap = align_up(first + length, unit)
    return Shape(sector_size, total, per_cluster, first, length, heap, max(total - heap, 0) // per_cluster)


def _table(shape: Shape) -> NDArray[Any]:
    """Return the start of the file allocation table: bitmap, up-case table and root, each in a row."""
    table = np.arange(1, shape.root + 2, dtype="<u4")
    table[0], table[1] = 0xFFFFFFF8, END
    for last in (shape.upcase - 1, shape.root - 1, shape.root):
        table[last] = END
    return table


def _root(shape: Shape, label: str, table: bytes) -> bytes:
    length = len(label.encode("utf-16-le")) // 2
    entries = (
        LabelEntry(entry_type=0x83 if label else 0x03, character_count=length, volume_label=label),
        BitmapEntry(entry_type=0x81, first_cluster=FIRST_CLUSTER, data_length=shape.bitmap_size),
        UpcaseEntry(
            entry_type=0x82, table_checksum=checksum(table), first_cluster=shape.upcase, data_length=len(table)
        ),
    )
    return b"".join(entry.encode() for entry in entries)


def _boot_region(new: NewExfat) -> bytes:
    """Return the boot region: boot sector, extended ones, parameters, and their checksum over a whole sector."""
    shape, options, sector_size = new.shape, new.options, new.shape.sector_size
    boot = BootSector(
        jump_boot=b"\xeb\x76\x90",
        file_system_name=b"EXFAT   ",
        partition_offset=options.start // sector_size,
        volume_length=shape.sectors,
        fat_offset=shape.fat_offset,
        fat_length=shape.fat_length,
        cluster_heap_offset=shape.heap,
        cluster_count=shape.clusters,
        first_cluster_of_root=shape.root,
        volume_serial_number=serial(options.uuid),
        file_system_revision=0x0100,
        bytes_per_sector_shift=sector_size.bit_length() - 1,
        sectors_per_cluster_shift=shape.per_cluster.bit_length() - 1,
        number_of_fats=1,
        drive_select=0x80,
        percent_in_use=shape.used * 100 // shape.clusters,
        boot_code=b"\xf4" * 390,
        boot_signature=0xAA55,
    )
    extended = _EXTENDED.to_bytes(4, "little").rjust(sector_size, b"\0")
    region = boot.encode().ljust(sector_size, b"\0") + 8 * extended + 2 * bytes(sector_size)
    return region + checksum(region, UNSUMMED).to_bytes(4, "little") * (sector_size // 4)
