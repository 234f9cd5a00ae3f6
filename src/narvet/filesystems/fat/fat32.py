"""FAT32, as its published specification (FAT: General Overview of On-Disk Format, 1.03) describes it.

The data region starts on a multiple of 1 MiB, or of the storage's chunk, wherever the volume is large enough for that.
Long names and everything else in folders is the guest's; here are the boot sectors, the tables and the root.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice, Extent
from narvet.filesystems import told
from narvet.filesystems.contract import Capacity, FilesystemFacts, Loss, Options, UnfitError
from narvet.filesystems.fat import common
from narvet.filesystems.fat.clusters import Chains, TooManyError, Volume, tree_faults
from narvet.filesystems.fat.common import FIRST_CLUSTER, Portable, serial, serial_text
from narvet.filesystems.fat.fat32_tree import LARGEST_FOLDER, items_of
from narvet.findings import Finding
from narvet.records import Record, at
from narvet.units import GIB, KIB, MIB, TIB, align_up, show_both

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

    jmp_boot: bytes = at(0, "3s", "", "jump over the fields")
    oem_name: bytes = at(3, "8s", "", "who made it")
    byts_per_sec: int = at(11, "u16", "bytes", "512 to 4096")
    sec_per_clus: int = at(13, "u8", "sectors", "a power of two")
    rsvd_sec_cnt: int = at(14, "u16", "sectors", "before the first table")
    num_fats: int = at(16, "u8", "", "2")
    root_ent_cnt: int = at(17, "u16", "", "0")
    tot_sec16: int = at(19, "u16", "", "0")
    media: int = at(21, "u8", "", "0xF8 fixed")
    fat_sz16: int = at(22, "u16", "", "0")
    sec_per_trk: int = at(24, "u16", "", "63")
    num_heads: int = at(26, "u16", "", "255")
    hidd_sec: int = at(28, "u32", "sectors", "before the volume")
    tot_sec32: int = at(32, "u32", "sectors", "of the volume")
    fat_sz32: int = at(36, "u32", "sectors", "of one table")
    ext_flags: int = at(40, "u16", "", "0: all tables are kept alike")
    fs_ver: int = at(42, "u16", "", "0")
    root_clus: int = at(44, "u32", "cluster", "first of the root")
    fs_info: int = at(48, "u16", "sector", "FS information")
    bk_boot_sec: int = at(50, "u16", "sector", "copy of this one")
    reserved: bytes = at(52, "12s", "", "zero")
    drv_num: int = at(64, "u8", "", "0x80")
    reserved1: int = at(65, "u8", "", "bit 0: in use")
    boot_sig: int = at(66, "u8", "", "0x29: the next three are there")
    vol_id: int = at(67, "u32", "", "serial number")
    vol_lab: bytes = at(71, "11s", "", "label, padded with blanks")
    fil_sys_type: bytes = at(82, "8s", "", "for people")
    boot_code: bytes = at(90, "420s", "", "")
    signature: int = at(510, "u16", "", "0xAA55")


class FsInfo(Record, title="fat32 fs information", size=512):
    """Section "FAT32 FSInfo Sector Structure"."""

    lead_sig: int = at(0, "u32", "", "0x41615252")
    reserved1: bytes = at(4, "480s", "", "zero")
    struc_sig: int = at(484, "u32", "", "0x61417272")
    free_count: int = at(488, "u32", "clusters", "free; all bits set if unknown")
    nxt_free: int = at(492, "u32", "cluster", "where to look first")
    reserved2: bytes = at(496, "12s", "", "zero")
    trail_sig: int = at(508, "u32", "", "0xAA550000")


class DirEntry(Record, title="fat32 directory entry", size=32):
    """Section "FAT Directory Structure"."""

    name: bytes = at(0, "11s", "", "padded with blanks")
    attr: int = at(11, "u8", "", "8 volume label")
    nt_res: int = at(12, "u8", "", "0")
    crt_time_tenth: int = at(13, "u8", "", "")
    crt_time: int = at(14, "u16", "", "")
    crt_date: int = at(16, "u16", "", "")
    lst_acc_date: int = at(18, "u16", "", "")
    fst_clus_hi: int = at(20, "u16", "", "")
    wrt_time: int = at(22, "u16", "", "hours, minutes, seconds / 2")
    wrt_date: int = at(24, "u16", "", "years since 1980, month, day")
    fst_clus_lo: int = at(26, "u16", "", "")
    file_size: int = at(28, "u32", "bytes", "")


@dataclass(frozen=True)
class Geometry:
    """Where everything lies, in sectors of the disk but for `size`, which is bytes."""

    size: int
    options: Options
    per_cluster: int
    reserved: int
    table: int
    clusters: int

    @property
    def sector(self) -> int:
        """Bytes of a sector."""
        return self.options.sector

    @property
    def cluster(self) -> int:
        """Bytes of a cluster."""
        return self.per_cluster * self.sector

    @property
    def heap(self) -> int:
        """The sector of the first cluster."""
        return self.reserved + 2 * self.table


class Fat32(Portable):
    """The filesystem behind `filesystem = "fat32"`."""

    name = "fat32"
    mount_type = "vfat"
    least = 33 * MIB
    most = 2 * TIB - 512

    def units(self, sector: int) -> tuple[int, ...]:
        """Return the cluster sizes."""
        return tuple(unit for unit in _UNITS if unit >= sector)

    def stored_label(self, label: str) -> str | None:
        """Return the label in capitals; the table of characters that guests use differs beyond ASCII."""
        good = label.isascii() and label.isprintable() and not _FORBIDDEN & set(label)
        return label.upper() if good else None

    def geometry(self, size: int, options: Options) -> Geometry:
        """Work out clusters, tables and reserved sectors: the usual clusters, or smaller where they are too few."""
        most = min(MOST_SECTORS * options.sector, MOST_CLUSTERS * (options.block or _UNITS[-1]))
        usual = max(next((unit for upto, unit in _CLUSTERS if size <= upto), _UNITS[-1]), options.sector)
        units = (options.block,) if options.block else [unit for unit in self.units(options.sector) if unit <= usual]
        shapes = [_shape(size, options, unit // options.sector) for unit in reversed(units)]
        fitting = [shape for shape in shapes if LEAST_CLUSTERS <= shape.clusters <= MOST_CLUSTERS]
        if size > most or not fitting:
            least = self.least * (options.block or options.sector) // 512
            with_block = f" in clusters of {options.block} bytes" if options.block else ""
            bounds = f"from {show_both(least)} to {show_both(most)}"
            raise UnfitError(f"fat32 is made {bounds}{with_block}, not at {show_both(size)}", least, most)
        return fitting[0]

    def capacity(self, geometry: Geometry) -> Capacity:
        """Return what the guest will report."""
        sector, cluster = geometry.sector, geometry.cluster
        free = (geometry.clusters - 1) * cluster
        used = geometry.heap * sector + geometry.clusters * cluster
        losses = (
            ("boot sectors, alignment", geometry.reserved * sector),
            ("file allocation tables", 2 * geometry.table * sector),
            ("root folder", cluster),
            ("too short for a cluster", geometry.size - used),
        )
        return Capacity(free + cluster, free, free, tuple(Loss(what, size) for what, size in losses if size))

    def footprint(self, geometry: Geometry) -> int:
        """Return boot sectors, the tables' starts and the root."""
        return (BACKUP + 3 + 2 + 1) * max(geometry.sector, 4 * KIB)

    def breakpoints(self, options: Options) -> tuple[int, ...]:
        """Return the sizes at which clusters change."""
        del options
        return (self.least, 2 * self.least, *(upto + 1 for upto, _ in _CLUSTERS[:-1]), 512 * MIB, self.most)

    def write(self, device: BlockDevice, geometry: Geometry) -> None:
        """Write the root, both tables, and the boot sectors, the first one last."""
        sector, options = geometry.sector, geometry.options
        if options.label:
            device.write(geometry.heap * sector, _label_entry(options).encode())
        start = b"".join(entry.to_bytes(4, "little") for entry in _FIRST_ENTRIES)
        for table in (geometry.reserved + geometry.table, geometry.reserved):
            device.write(table * sector, start)
        info = FsInfo.of(
            lead_sig=0x41615252, struc_sig=0x61417272, free_count=geometry.clusters - 1, nxt_free=FIRST_CLUSTER,
            trail_sig=0xAA550000,
        )  # fmt: skip
        boot = _boot(geometry).encode()
        for first in (BACKUP, 0):
            device.write((first + 2) * sector + 510, b"\x55\xaa")
            device.write((first + INFO) * sector, info.encode())
            device.write(first * sector, boot)

    def read(self, device: BlockDevice, where: str, *, deep: bool = True) -> FilesystemFacts | None:
        """Return what is found on a device that is not trusted."""
        boot = _boot_of(device)
        if boot is None:
            return None
        sector, cluster = boot.byts_per_sec, boot.byts_per_sec * boot.sec_per_clus
        size, heap = boot.tot_sec32 * sector, _heap(boot)
        known_as, label = serial_text(boot.vol_id), boot.vol_lab.decode("latin-1").rstrip()
        if size > device.size or heap > size:
            found = (told.past_end(where, max(size, heap), device.size),)
            return FilesystemFacts("fat32", known_as, label, size, 0, 0, cluster, findings=found)
        clusters = _clusters(boot)
        findings = list(_findings(device, boot, where, deep=deep))
        label = _root_label(device, boot) or ("" if boot.vol_lab == _NO_LABEL else label)
        used = sum(int((values != 0).sum()) for _, values in _entries(device, boot))
        return FilesystemFacts(
            "fat32", known_as, label, size, clusters * cluster, (clusters - used) * cluster, cluster,
            findings=tuple(findings),
        )  # fmt: skip

    def claims(self, device: BlockDevice) -> bool:
        """Return whether it says what it is: its two bytes of signature are many things' last ones."""
        return device.read(82, 8) == b"FAT32   "

    def unused(self, device: BlockDevice) -> Iterator[Extent]:
        """Yield the runs of free clusters."""
        boot = _boot_of(device)
        if boot is None:
            return
        cluster = boot.sec_per_clus * boot.byts_per_sec
        taken = ((first - FIRST_CLUSTER, values != 0) for first, values in _entries(device, boot))
        for first, end in common.free_between(taken, _clusters(boot)):
            yield Extent(_heap(boot) + first * cluster, (end - first) * cluster)


FILESYSTEM = Fat32()


def _shape(size: int, options: Options, per_cluster: int) -> Geometry:
    sector = options.sector
    total = min(size // sector, MOST_SECTORS)
    table = -(-((total - RESERVED) // per_cluster + FIRST_CLUSTER) * 4 // sector)
    unit = max(per_cluster, (options.chunk or (MIB if size >= 512 * MIB else 4 * KIB)) // sector)
    heap = align_up(RESERVED + 2 * table, unit)
    clusters = max(total - heap, 0) // per_cluster
    # What alignment leaves over goes to the reserved sectors, as far as their 16 bits reach, else to the tables.
    reserved = min(heap - 2 * table, 0xFFFF - (heap & 1 ^ 1))
    if (heap - reserved) % 2:
        reserved -= 1
    return Geometry(size, options, per_cluster, reserved, (heap - reserved) // 2, clusters)


def _boot(geometry: Geometry) -> BootSector:
    options = geometry.options
    return BootSector.of(
        jmp_boot=b"\xeb\x58\x90",
        oem_name=b"NARVET  ",
        byts_per_sec=geometry.sector,
        sec_per_clus=geometry.per_cluster,
        rsvd_sec_cnt=geometry.reserved,
        num_fats=2,
        media=0xF8,
        sec_per_trk=63,
        num_heads=255,
        hidd_sec=min(options.start // geometry.sector, MOST_SECTORS),
        tot_sec32=geometry.size // geometry.sector,
        fat_sz32=geometry.table,
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


def _label_entry(options: Options) -> DirEntry:
    moment = datetime.fromtimestamp(max(options.made, 315532800), UTC)  # FAT's years start with 1980
    return DirEntry.of(
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


def _heap(boot: BootSector) -> int:
    """Return the byte at which the first cluster lies."""
    return (boot.rsvd_sec_cnt + boot.num_fats * boot.fat_sz32) * boot.byts_per_sec


def _clusters(boot: BootSector) -> int:
    held = (boot.tot_sec32 * boot.byts_per_sec - _heap(boot)) // (boot.sec_per_clus * boot.byts_per_sec)
    return max(min(held, boot.fat_sz32 * boot.byts_per_sec // 4 - FIRST_CLUSTER, MOST_CLUSTERS), 0)


def _entries(device: BlockDevice, boot: BootSector) -> Iterator[tuple[int, NDArray[np.uint32]]]:
    """Yield number and values of the table's entries of clusters, but for long runs of free ones."""
    start, count = boot.rsvd_sec_cnt * boot.byts_per_sec, _clusters(boot) + FIRST_CLUSTER
    for first, values in common.table_entries(device, start, count, MASK):
        left_out = max(FIRST_CLUSTER - first, 0)
        yield first + left_out, values[left_out:]


def _root_label(device: BlockDevice, boot: BootSector) -> str:
    """Return the label kept in the root's first cluster."""
    cluster = boot.sec_per_clus * boot.byts_per_sec
    start = _heap(boot) + (boot.root_clus - FIRST_CLUSTER) * cluster
    if boot.root_clus - FIRST_CLUSTER >= _clusters(boot):
        return ""
    data = device.read(start, cluster)
    for offset in range(0, len(data), DirEntry.size):
        entry = DirEntry.decode(data[offset : offset + DirEntry.size])
        if entry.name[0] == 0:
            break
        if entry.attr & 0x3F == _VOLUME_LABEL and entry.name[0] != 0xE5:
            return entry.name.decode("latin-1").rstrip()
    return ""


def _findings(device: BlockDevice, boot: BootSector, where: str, *, deep: bool) -> Iterator[Finding]:
    """Compare the copies, the FS information and the chains."""
    sector, count = boot.byts_per_sec, _clusters(boot) + FIRST_CLUSTER
    if count < LEAST_CLUSTERS + FIRST_CLUSTER:
        yield told.damaged(where, f"it has {count - FIRST_CLUSTER} clusters, too few for FAT32")
        return
    start = boot.rsvd_sec_cnt * sector
    state = int.from_bytes(device.read(start + 4, 4), "little")
    if boot.reserved1 & 1 or not state & _CLEAN:
        yield told.in_use(where)
    if boot.bk_boot_sec >= boot.rsvd_sec_cnt or boot.fs_info >= boot.rsvd_sec_cnt:
        yield told.damaged(where, "its copy of the boot sector or its FS information leaves the reserved sectors")
    elif boot.bk_boot_sec:
        copy = BootSector.decode(device.read(boot.bk_boot_sec * sector, BootSector.size))
        if copy.but(reserved1=boot.reserved1) != boot:
            yield told.damaged(where, "the boot sector and its copy differ")
    if boot.fs_info and boot.fs_info < boot.rsvd_sec_cnt:
        info = FsInfo.decode(device.read(boot.fs_info * sector, FsInfo.size))
        if (info.lead_sig, info.struc_sig, info.trail_sig) != (0x41615252, 0x61417272, 0xAA550000):
            yield told.damaged(where, "the FS information sector is not sound")
    if deep:
        yield from _table_findings(device, boot, count, where)


def _table_findings(device: BlockDevice, boot: BootSector, count: int, where: str) -> Iterator[Finding]:
    start = boot.rsvd_sec_cnt * boot.byts_per_sec
    if boot.num_fats == 2 and _tables_differ(device, start, boot.fat_sz32 * boot.byts_per_sec):
        yield told.damaged(where, "the two file allocation tables differ")
    table = common.whole_table(device, start, count, MASK)
    if not len(table):
        yield told.not_checked(where, f"it has {count - FIRST_CLUSTER} clusters, more than are checked")
        return
    if table[0] & 0xFF != boot.media:
        yield told.damaged(where, "the file allocation table does not start as one")
    for fault in common.chain_faults(table, count - 1, BAD):
        yield told.damaged(where, fault)
    heap, cluster = _heap(boot), boot.sec_per_clus * boot.byts_per_sec

    def used(low: int, high: int) -> NDArray[np.bool_]:
        return np.asarray((table[low:high] != 0) & (table[low:high] != BAD))

    def read(first: int, length: int) -> bytes:
        return device.read(heap + (first - FIRST_CLUSTER) * cluster, length * cluster)

    chains = Chains(table, BAD)
    volume = Volume(chains, used, read, boot.root_clus, clean=not boot.reserved1 & 1 and bool(table[1] & _CLEAN))
    try:
        for fault in tree_faults(volume, items_of(chains, cluster, boot.root_clus), LARGEST_FOLDER):
            yield told.damaged(where, fault)
    except TooManyError:
        yield told.not_checked(where, "it has more files than are checked")


def _tables_differ(device: BlockDevice, start: int, length: int) -> bool:
    for first, second in ((start, start + length), (start + length, start)):
        for offset, data in common.pieces(device, first, length):
            if device.read(second + offset, len(data)) != data:
                return True
    return False
