"""The records of FAT32 and its shape, planned or read."""

from __future__ import annotations

from narvet.formats.filesystems.fat import common
from narvet.formats.filesystems.fat.common import FIRST_CLUSTER, ClusterShape
from narvet.ground.records import Record, cluster32, raw, u8, u16, u32
from narvet.ground.units import Cluster

LEAST_CLUSTERS = 65525  # with fewer, guests take it for FAT16
MOST_CLUSTERS = 0x0FFFFFF4
MOST_SECTORS = (1 << 32) - 1
MASK, BAD, END = 0x0FFFFFFF, 0x0FFFFFF7, 0x0FFFFFFF
RESERVED = 32  # sectors at least
INFO, BACKUP = 1, 6  # sectors: FS information, copy of the boot sector
CLEAN = 0x08000000
NO_LABEL = b"NO NAME    "
VOLUME_LABEL = 0x08


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


class Shape(ClusterShape):
    """The sizes of one FAT32: in sectors, what is reserved and one table; and how many tables there are."""

    reserved: int
    table: int
    tables: int = 2

    @property
    def total(self) -> int:
        """Bytes of all clusters."""
        return self.clusters * self.unit

    @property
    def heap(self) -> int:
        """The sector of the first cluster."""
        return self.reserved + self.tables * self.table

    def start_of(self, cluster: Cluster) -> int:
        """Return the byte at which a cluster starts."""
        return common.start_of(cluster, self.heap * self.sector_size, self.unit)

    @property
    def held(self) -> int:
        """Clusters that the sectors hold."""
        return max(self.sectors - self.heap, 0) // self.per_cluster

    @property
    def clusters(self) -> int:
        """Clusters that the sectors hold and the table describes."""
        return max(min(self.held, self.table * self.sector_size // 4 - FIRST_CLUSTER, MOST_CLUSTERS), 0)


def shape_of(boot: BootSector) -> Shape:
    """Return the sizes of a boot sector whose numbers can be followed."""
    return Shape(boot.byts_per_sec, boot.tot_sec32, boot.sec_per_clus, boot.rsvd_sec_cnt, boot.fat_sz32, boot.num_fats)
