"""FAT32, as its published specification (FAT: General Overview of On-Disk Format, 1.03) describes it.

The data region starts on a multiple of 1 MiB, or of the storage's chunk, where the volume is large enough for that.
Long names and everything else in folders is the guest's; here are the boot sectors, the tables and the root.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import Capacity, FilesystemState, Loss, UnfitError
from narvet.formats.filesystems.fat import common
from narvet.formats.filesystems.fat.clusters import Chains, TooManyError, Volume, tree_faults
from narvet.formats.filesystems.fat.common import FIRST_CLUSTER, Portable, PortableOptions, serial, serial_text
from narvet.formats.filesystems.fat.fat32_tree import LARGEST_FOLDER, items_of
from narvet.ground.extents import Extent
from narvet.ground.findings import Finding, Place
from narvet.ground.records import Record, cluster32, raw, u8, u16, u32
from narvet.ground.rules import filesystems as rules
from narvet.ground.units import GIB, KIB, MIB, TIB, Cluster, align_up, outside

LEAST = 33 * MIB
LARGEST = 2 * TIB - 512
LEAST_CLUSTERS = 65525  # with fewer, guests take it for FAT16
MOST_CLUSTERS = 0x0FFFFFF4
MOST_SECTORS = (1 << 32) - 1
MASK, BAD, END = 0x0FFFFFFF, 0x0FFFFFF7, 0x0FFFFFFF
RESERVED = 32  # sectors at least
INFO, BACKUP = 1, 6  # sectors: FS information, copy of the boot sector
_FIRST_ENTRIES = (0x0FFFFFF8, END, END)  # media, clean shutdown, the root's end
_CLEAN = 0x08000000
_UNITS = tuple(512 << shift for shift in range(8))
# Cluster by the size of the volume up to which it serves, so that the table stays small beside the data.
_CLUSTERS = ((260 * MIB, 512), (8 * GIB, 4 * KIB), (16 * GIB, 8 * KIB), (32 * GIB, 16 * KIB), (7 * TIB, 32 * KIB))
_NO_LABEL = b"NO NAME    "
_FORBIDDEN = frozenset('"*+,./:;<=>?[\\]|')
_VOLUME_LABEL = 0x08


class BootSector(Record, title="fat32 boot sector", size=512):
    """Sections "Boot Sector and BPB" and "FAT32 BPB"."""

    jmp_boot: bytes = raw(0, 3, "", "jump over the fields")
    oem_name: bytes = raw(3, 8, "", "who made it")
    byts_per_sec: int = u16(11, "bytes", "512 to 4096")
    sec_per_clus: int = u8(13, "sectors", "a power of two")
    rsvd_sec_cnt: int = u16(14, "sectors", "before the first table")
    num_fats: int = u8(16, "", "2")
    root_ent_cnt: int = u16(17, "", "0")
    tot_sec16: int = u16(19, "", "0")
    media: int = u8(21, "", "0xF8 fixed")
    fat_sz16: int = u16(22, "", "0")
    sec_per_trk: int = u16(24, "", "63")
    num_heads: int = u16(26, "", "255")
    hidd_sec: int = u32(28, "sectors", "before the volume")
    tot_sec32: int = u32(32, "sectors", "of the volume")
    fat_sz32: int = u32(36, "sectors", "of one table")
    ext_flags: int = u16(40, "", "0: all tables are kept alike")
    fs_ver: int = u16(42, "", "0")
    root_clus: Cluster = cluster32(44, "cluster", "first of the root")
    fs_info: int = u16(48, "sector", "FS information")
    bk_boot_sec: int = u16(50, "sector", "copy of this one")
    reserved: bytes = raw(52, 12, "", "zero")
    drv_num: int = u8(64, "", "0x80")
    reserved1: int = u8(65, "", "bit 0: in use")
    boot_sig: int = u8(66, "", "0x29: the next three are there")
    vol_id: int = u32(67, "", "serial number")
    vol_lab: bytes = raw(71, 11, "", "label, padded with blanks")
    fil_sys_type: bytes = raw(82, 8, "", "for people")
    boot_code: bytes = raw(90, 420, "", "")
    signature: int = u16(510, "", "0xAA55")


class FsInfo(Record, title="fat32 fs information", size=512):
    """Section "FAT32 FSInfo Sector Structure"."""

    lead_sig: int = u32(0, "", "0x41615252")
    reserved1: bytes = raw(4, 480, "", "zero")
    struc_sig: int = u32(484, "", "0x61417272")
    free_count: int = u32(488, "clusters", "free; all bits set if unknown")
    nxt_free: int = u32(492, "cluster", "where to look first")
    reserved2: bytes = raw(496, 12, "", "zero")
    trail_sig: int = u32(508, "", "0xAA550000")


class DirEntry(Record, title="fat32 directory entry", size=32):
    """Section "FAT Directory Structure"."""

    name: bytes = raw(0, 11, "", "padded with blanks")
    attr: int = u8(11, "", "8 volume label")
    nt_res: int = u8(12, "", "0")
    crt_time_tenth: int = u8(13, "", "")
    crt_time: int = u16(14, "", "")
    crt_date: int = u16(16, "", "")
    lst_acc_date: int = u16(18, "", "")
    fst_clus_hi: int = u16(20, "", "")
    wrt_time: int = u16(22, "", "hours, minutes, seconds / 2")
    wrt_date: int = u16(24, "", "years since 1980, month, day")
    fst_clus_lo: int = u16(26, "", "")
    file_size: int = u32(28, "bytes", "")


@dataclass(frozen=True)
class Shape:
    """The sizes of one FAT32: bytes of a sector, and in sectors the whole, a cluster, what is reserved, one table."""

    sector_size: int
    sectors: int
    per_cluster: int
    reserved: int
    table: int
    tables: int = 2

    @property
    def size(self) -> int:
        """Bytes of all sectors."""
        return self.sectors * self.sector_size

    @property
    def total(self) -> int:
        """Bytes of all clusters."""
        return self.clusters * self.unit

    @property
    def unit(self) -> int:
        """Bytes of a cluster."""
        return self.per_cluster * self.sector_size

    @property
    def heap(self) -> int:
        """The sector of the first cluster."""
        return self.reserved + self.tables * self.table

    @property
    def held(self) -> int:
        """Clusters that the sectors hold."""
        return max(self.sectors - self.heap, 0) // self.per_cluster

    @property
    def clusters(self) -> int:
        """Clusters that the sectors hold and the table describes."""
        return max(min(self.held, self.table * self.sector_size // 4 - FIRST_CLUSTER, MOST_CLUSTERS), 0)


@dataclass(frozen=True, kw_only=True)
class Fat32Options(PortableOptions):
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


@dataclass(frozen=True)
class NewFat32:
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
        boot = _boot_of(device)
        if boot is None:
            return None
        shape = _shape_of(boot)
        native_id, label = serial_text(boot.vol_id), boot.vol_lab.decode("latin-1").rstrip()
        needed = max(shape.size, shape.heap * shape.sector_size)
        if needed > min(device.size, shape.size):
            found = (rules.filesystem_past_end.error(where, needed, device.size),)
            return FilesystemState("fat32", native_id, label, shape, findings=found)
        findings = list(_findings(device, boot, shape, where, deep=deep))
        label = _root_label(device, boot, shape) or ("" if boot.vol_lab == _NO_LABEL else label)
        used = sum(int((values != 0).sum()) for _, values in _entries(device, shape))
        free = (shape.clusters - used) * shape.unit
        return FilesystemState("fat32", native_id, label, shape, free, findings=tuple(findings))

    def claims(self, device: BlockDevice) -> bool:
        """Return whether it says what it is: its two bytes of signature are many things' last ones."""
        return device.read(82, 8) == b"FAT32   "

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield the runs of free clusters."""
        boot = _boot_of(device)
        if boot is None:
            return
        shape = _shape_of(boot)
        heap, cluster = shape.heap * shape.sector_size, shape.unit
        taken = ((first - FIRST_CLUSTER, values != 0) for first, values in _entries(device, shape))
        for first, count in common.free_between(taken, shape.clusters):
            yield Extent(heap + first * cluster, count * cluster)


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


def _shape_of(boot: BootSector) -> Shape:
    """Return the sizes of a boot sector whose numbers can be followed."""
    return Shape(boot.byts_per_sec, boot.tot_sec32, boot.sec_per_clus, boot.rsvd_sec_cnt, boot.fat_sz32, boot.num_fats)


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
        vol_lab=options.label.encode().ljust(11) if options.label else _NO_LABEL,
        fil_sys_type=b"FAT32   ",
        boot_code=b"\xcd\x18",  # tells the firmware that there is nothing to start
        signature=0xAA55,
    )


def _label_entry(options: Fat32Options) -> DirEntry:
    moment = datetime.fromtimestamp(max(options.made, 315532800), UTC)  # FAT's years start with 1980
    return DirEntry(
        name=options.label.encode().ljust(11),
        attr=_VOLUME_LABEL,
        wrt_time=moment.hour << 11 | moment.minute << 5 | moment.second // 2,
        wrt_date=min(moment.year - 1980, 127) << 9 | moment.month << 5 | moment.day,
    )


def _boot_of(device: BlockDevice) -> BootSector | None:
    """Return the boot sector of a FAT32, None where there is none whose numbers can be followed."""
    if device.size < BootSector.size:
        return None
    boot = BootSector.decode(device.read(0, BootSector.size))
    sane = (
        boot.signature == 0xAA55
        and boot.byts_per_sec in (512, 1024, 2048, 4096)
        and boot.sec_per_clus
        and not boot.sec_per_clus & (boot.sec_per_clus - 1)
        and boot.rsvd_sec_cnt
        and boot.num_fats in (1, 2)
        and not (boot.root_ent_cnt or boot.fat_sz16 or boot.tot_sec16)
        and boot.fat_sz32
        and boot.root_clus >= FIRST_CLUSTER
    )
    return boot if sane else None


def _entries(device: BlockDevice, shape: Shape) -> Iterator[tuple[int, NDArray[np.uint32]]]:
    """Yield number and values of the table's entries of clusters, but for long runs of free ones."""
    start, count = shape.reserved * shape.sector_size, shape.clusters + FIRST_CLUSTER
    for first, values in common.table_entries(device, start, count, MASK):
        left_out = max(FIRST_CLUSTER - first, 0)
        yield first + left_out, values[left_out:]


def _root_label(device: BlockDevice, boot: BootSector, shape: Shape) -> str:
    """Return the label kept in the root's first cluster."""
    if boot.root_clus - FIRST_CLUSTER >= shape.clusters:
        return ""
    data = device.read(common.start_of(boot.root_clus, shape.heap * shape.sector_size, shape.unit), shape.unit)
    for offset in range(0, len(data), DirEntry.size):
        entry = DirEntry.decode(data[offset : offset + DirEntry.size])
        if entry.name[0] == 0:
            break
        if entry.attr & 0x3F == _VOLUME_LABEL and entry.name[0] != 0xE5:
            return entry.name.decode("latin-1").rstrip()
    return ""


def _findings(device: BlockDevice, boot: BootSector, shape: Shape, where: Place, *, deep: bool) -> Iterator[Finding]:
    """Compare the copies, the FS information and the chains."""
    sector_size, count = shape.sector_size, shape.clusters + FIRST_CLUSTER
    if count < LEAST_CLUSTERS + FIRST_CLUSTER:
        yield rules.filesystem_damaged.error(where, f"it has {count - FIRST_CLUSTER} clusters, too few for FAT32")
        return
    start = boot.rsvd_sec_cnt * sector_size
    state = int.from_bytes(device.read(start + 4, 4), "little")
    if boot.reserved1 & 1 or not state & _CLEAN:
        yield rules.filesystem_needs_recovery.warning(where)
    if boot.bk_boot_sec >= boot.rsvd_sec_cnt or boot.fs_info >= boot.rsvd_sec_cnt:
        yield rules.filesystem_damaged.error(
            where, "its copy of the boot sector or its FS information leaves the reserved sectors"
        )
    elif boot.bk_boot_sec:
        copy = BootSector.decode(device.read(boot.bk_boot_sec * sector_size, BootSector.size))
        if replace(copy, reserved1=boot.reserved1) != boot:
            yield rules.filesystem_damaged.error(where, "the boot sector and its copy differ")
    if boot.fs_info and boot.fs_info < boot.rsvd_sec_cnt:
        info = FsInfo.decode(device.read(boot.fs_info * sector_size, FsInfo.size))
        if (info.lead_sig, info.struc_sig, info.trail_sig) != (0x41615252, 0x61417272, 0xAA550000):
            yield rules.filesystem_damaged.error(where, "the FS information sector is not sound")
    if deep:
        yield from _table_findings(device, boot, shape, where)


def _table_findings(device: BlockDevice, boot: BootSector, shape: Shape, where: Place) -> Iterator[Finding]:
    count = shape.clusters + FIRST_CLUSTER
    start = boot.rsvd_sec_cnt * boot.byts_per_sec
    if boot.num_fats == 2 and _tables_differ(device, start, boot.fat_sz32 * boot.byts_per_sec):
        yield rules.filesystem_damaged.error(where, "the two file allocation tables differ")
    table = common.whole_table(device, start, count, MASK)
    if not len(table):
        yield rules.filesystem_not_checked.note(
            where, f"it has {count - FIRST_CLUSTER} clusters, more than are checked"
        )
        return
    if table[0] & 0xFF != boot.media:
        yield rules.filesystem_damaged.error(where, "the file allocation table does not start as one")
    for fault in common.chain_faults(table, count - 1, BAD):
        yield rules.filesystem_damaged.error(where, fault)
    heap, cluster = shape.heap * shape.sector_size, shape.unit

    def used(low: int, high: int) -> NDArray[np.bool_]:
        return np.asarray((table[low:high] != 0) & (table[low:high] != BAD))

    def read(first: Cluster, length: int) -> bytes:
        return device.read(common.start_of(first, heap, cluster), length * cluster)

    chains = Chains(table, BAD)
    volume = Volume(chains, used, read, boot.root_clus, clean=not boot.reserved1 & 1 and bool(table[1] & _CLEAN))
    try:
        for fault in tree_faults(volume, items_of(chains, cluster, boot.root_clus), LARGEST_FOLDER):
            yield rules.filesystem_damaged.error(where, fault)
    except TooManyError:
        yield rules.filesystem_not_checked.note(where, "it has more files than are checked")


def _tables_differ(device: BlockDevice, start: int, length: int) -> bool:
    for first, second in ((start, start + length), (start + length, start)):
        for offset, data in common.pieces(device, first, length):
            if device.read(second + offset, len(data)) != data:
                return True
    return False
