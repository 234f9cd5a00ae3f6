"""FAT32, as its published specification (FAT: General Overview of On-Disk Format, 1.03) describes it.

The data region starts on a multiple of 1 MiB, or of the storage's chunk, where the volume is large enough for that.
Long names and everything else in folders is the guest's; here are the boot sectors, the tables and the root.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import Capacity, FilesystemState, Loss, Resizing, UnfitError
from narvet.formats.filesystems.fat.common import FIRST_CLUSTER, Portable, PortableOptions, serial, serial_text
from narvet.formats.filesystems.fat.fat32_shape import (
    BACKUP,
    END,
    INFO,
    LEAST_CLUSTERS,
    MOST_CLUSTERS,
    MOST_SECTORS,
    NO_LABEL,
    RESERVED,
    VOLUME_LABEL,
    BootSector,
    DirEntry,
    FsInfo,
    Shape,
)
from narvet.formats.filesystems.trees import FileTree
from narvet.ground.extents import Extent
from narvet.ground.findings import Place
from narvet.ground.units import GIB, KIB, MIB, TIB, align_up, outside
from narvet.ground.values import Frozen

LEAST = 33 * MIB
LARGEST = 2 * TIB - 512
_FIRST_ENTRIES = (0x0FFFFFF8, END, END)  # media, clean shutdown, the root's end
_UNITS = tuple(512 << shift for shift in range(8))
# Cluster by the size of the volume up to which it serves, so that the table stays small beside the data.
_CLUSTERS = ((260 * MIB, 512), (8 * GIB, 4 * KIB), (16 * GIB, 8 * KIB), (32 * GIB, 16 * KIB), (7 * TIB, 32 * KIB))
_FORBIDDEN = frozenset('"*+,./:;<=>?[\\]|')


class Fat32Options(PortableOptions, kw_only=True):
    """Options of FAT32."""

    def plan(self, size: int) -> NewFat32:
        """Return a FAT32 to be made in `size` bytes: with the usual clusters, or smaller where they are too few.

        Raises:
            UnfitError: the size is outside what FAT32 can have, or has too few or too many clusters of those asked for.
        """
        sector_size = self.sector_size
        most = min(MOST_SECTORS * sector_size, MOST_CLUSTERS * (self.unit or _UNITS[-1]))
        usual = max(next((unit for upto, unit in _CLUSTERS if size <= upto), _UNITS[-1]), sector_size)
        units = (self.unit,) if self.unit else [unit for unit in _units(sector_size) if unit <= usual]
        shapes = [_shape(size, self, unit // sector_size) for unit in reversed(units)]
        fitting = [shape for shape in shapes if LEAST_CLUSTERS <= shape.held <= MOST_CLUSTERS]
        if size > most or not fitting:
            least = LEAST * (self.unit or sector_size) // 512
            with_block = f" in clusters of {self.unit} bytes" if self.unit else ""
            raise UnfitError(f"fat32{with_block} is made {outside(size, least, most)}", least, most)
        return NewFat32(size, self, fitting[0])

    def breakpoints(self) -> tuple[int, ...]:
        """Return the sizes at which clusters change."""
        return (LEAST, 2 * LEAST, *(upto + 1 for upto, _ in _CLUSTERS[:-1]), 512 * MIB, LARGEST)


class NewFat32(Frozen):
    """A FAT32 that is to be made in `size` bytes."""

    size: int
    options: Fat32Options
    shape: Shape

    def capacity(self) -> Capacity:
        """Return what the guest will report."""
        shape, cluster = self.shape, self.shape.unit
        free = (shape.clusters - 1) * cluster
        losses = (
            ("boot sectors, alignment", shape.reserved * shape.sector_size),
            ("file allocation tables", 2 * shape.table * shape.sector_size),
            ("root folder", cluster),
            ("too short for a cluster", self.size - shape.heap * shape.sector_size - shape.total),
        )
        return Capacity(shape.total, free, free, tuple(Loss(what, size) for what, size in losses if size))

    def footprint(self) -> int:
        """Return boot sectors, the tables' starts and the root."""
        return (BACKUP + 3 + 2 + 1) * max(self.shape.sector_size, 4 * KIB)

    def state(self) -> FilesystemState:
        """Return what a reader will find once it is written."""
        options = self.options
        free = (self.shape.clusters - 1) * self.shape.unit
        return FilesystemState("fat32", serial_text(serial(options.uuid)), options.label, self.shape, free)

    def write(self, device: BlockDevice) -> None:
        """Write the root, both tables, and the boot sectors, the first one last."""
        shape, sector_size = self.shape, self.shape.sector_size
        if self.options.label:
            device.write(shape.heap * sector_size, _label_entry(self.options).encode())
        start = b"".join(entry.to_bytes(4, "little") for entry in _FIRST_ENTRIES)
        for table in (shape.reserved + shape.table, shape.reserved):
            device.write(table * sector_size, start)
        info = FsInfo(
            lead_sig=0x41615252, struc_sig=0x61417272, free_count=shape.clusters - 1, nxt_free=FIRST_CLUSTER,
            trail_sig=0xAA550000,
        )  # fmt: skip
        boot = _boot(self).encode()
        for first in (BACKUP, 0):
            device.write((first + 2) * sector_size + 510, b"\x55\xaa")
            device.write((first + INFO) * sector_size, info.encode())
            device.write(first * sector_size, boot)


class Fat32(Portable):
    """The filesystem behind `filesystem = "fat32"`."""

    name = "fat32"
    options = Fat32Options
    mount_type = "vfat"
    least = LEAST
    most = LARGEST
    largest_file = 4 * GIB - 1

    def units(self, sector_size: int) -> tuple[int, ...]:
        """Return the cluster sizes."""
        return _units(sector_size)

    def stored_label(self, label: str) -> str | None:
        """Return the label in capitals; the table of characters that guests use differs beyond ASCII."""
        good = label.isascii() and label.isprintable() and not _FORBIDDEN & set(label)
        return label.upper() if good else None

    def read(self, device: BlockDevice, where: Place, *, deep: bool = True) -> FilesystemState | None:
        """Return what is found on a device that is not trusted."""
        from narvet.formats.filesystems.fat.fat32_read import read

        return read(device, where, deep=deep)

    def claims(self, device: BlockDevice) -> bool:
        """Return whether it says what it is: its two bytes of signature are many things' last ones."""
        return device.read(82, 8) == b"FAT32   "

    def correct(self, device: BlockDevice, wanted: FilesystemState) -> None:
        """Write the label where it differs."""
        from narvet.formats.filesystems.fat.labels import fat32_label

        fat32_label(device, wanted.label)

    def grown(self, state: FilesystemState, size: int) -> Resizing:
        """Return it made larger; CannotChangeError where it cannot be."""
        from narvet.formats.filesystems.fat.fat32_grow import grown

        return grown(state, size)

    def tree(self, device: BlockDevice) -> FileTree:
        """Return its files."""
        from narvet.formats.filesystems.fat.files import fat32_files

        return fat32_files(device)

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield the runs of free clusters."""
        from narvet.formats.filesystems.fat.fat32_read import unused

        return unused(device)


FILESYSTEM = Fat32()


def _units(sector_size: int) -> tuple[int, ...]:
    return tuple(unit for unit in _UNITS if unit >= sector_size)


def _shape(size: int, options: Fat32Options, per_cluster: int) -> Shape:
    sector_size = options.sector_size
    total = min(size // sector_size, MOST_SECTORS)
    table = -(-((total - RESERVED) // per_cluster + FIRST_CLUSTER) * 4 // sector_size)
    unit = max(per_cluster, (options.chunk or (MIB if size >= 512 * MIB else 4 * KIB)) // sector_size)
    heap = align_up(RESERVED + 2 * table, unit)
    # What alignment leaves over goes to the reserved sectors, as far as their 16 bits reach, else to the tables.
    reserved = min(heap - 2 * table, 0xFFFF - (heap & 1 ^ 1))
    if (heap - reserved) % 2:
        reserved -= 1
    return Shape(sector_size, size // sector_size, per_cluster, reserved, (heap - reserved) // 2)


def _boot(new: NewFat32) -> BootSector:
    shape, options = new.shape, new.options
    return BootSector(
        jmp_boot=b"\xeb\x58\x90",
        oem_name=b"NARVET  ",
        byts_per_sec=shape.sector_size,
        sec_per_clus=shape.per_cluster,
        rsvd_sec_cnt=shape.reserved,
        num_fats=2,
        media=0xF8,
        sec_per_trk=63,
        num_heads=255,
        hidd_sec=min(options.start // shape.sector_size, MOST_SECTORS),
        tot_sec32=shape.sectors,
        fat_sz32=shape.table,
        root_clus=FIRST_CLUSTER,
        fs_info=INFO,
        bk_boot_sec=BACKUP,
        drv_num=0x80,
        boot_sig=0x29,
        vol_id=serial(options.uuid),
        vol_lab=options.label.encode().ljust(11) if options.label else NO_LABEL,
        fil_sys_type=b"FAT32   ",
        boot_code=b"\xcd\x18",  # tells the firmware that there is nothing to start
        signature=0xAA55,
    )


def _label_entry(options: Fat32Options) -> DirEntry:
    moment = datetime.fromtimestamp(max(options.made, 315532800), UTC)  # FAT's years start with 1980
    return DirEntry(
        name=options.label.encode().ljust(11),
        attr=VOLUME_LABEL,
        wrt_time=moment.hour << 11 | moment.minute << 5 | moment.second // 2,
        wrt_date=min(moment.year - 1980, 127) << 9 | moment.month << 5 | moment.day,
    )
