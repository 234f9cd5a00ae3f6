"""A FAT32 read from a device that is not trusted."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import FilesystemState
from narvet.formats.filesystems.fat import common
from narvet.formats.filesystems.fat.clusters import Chains, TooManyError, Volume, tree_faults
from narvet.formats.filesystems.fat.common import FIRST_CLUSTER, serial_text
from narvet.formats.filesystems.fat.fat32_shape import (
    BAD,
    CLEAN,
    LEAST_CLUSTERS,
    MASK,
    NO_LABEL,
    VOLUME_LABEL,
    BootSector,
    DirEntry,
    FsInfo,
    Shape,
    shape_of,
)
from narvet.formats.filesystems.fat.fat32_tree import LARGEST_FOLDER, items_of
from narvet.ground.extents import Extent
from narvet.ground.findings import Finding, Place
from narvet.ground.rules import filesystems as rules
from narvet.ground.units import Cluster
from narvet.ground.values import replace

_NOT_ALIKE = 0x80  # ext_flags: only one of the tables is kept


def read(device: BlockDevice, where: Place, *, deep: bool = True) -> FilesystemState | None:
    """Return what is found on a device that is not trusted."""
    boot = boot_of(device)
    if boot is None:
        return None
    shape = shape_of(boot)
    native_id, label = serial_text(boot.vol_id), boot.vol_lab.decode("latin-1").rstrip()
    needed = max(shape.size, shape.heap * shape.sector_size)
    if needed > min(device.size, shape.size):
        found = (rules.filesystem_past_end.error(where, needed, device.size),)
        return FilesystemState("fat32", native_id, label, shape, findings=found)
    findings = list(_findings(device, boot, shape, where, deep=deep))
    label = _root_label(device, boot, shape) or ("" if boot.vol_lab == NO_LABEL else label)
    used = sum(int((values != 0).sum()) for _, values in _entries(device, shape))
    free = (shape.clusters - used) * shape.unit
    open_still = any(rules.filesystem_needs_recovery.made(one) for one in findings)
    return FilesystemState(
        "fat32", native_id, label, shape, free,
        features=("one table in use",) if boot.ext_flags & _NOT_ALIKE else (),
        findings=tuple(findings),
        unclean="its guest did not unmount it" if open_still else "",
    )  # fmt: skip


def unused(device: BlockDevice) -> Iterator[Extent]:
    """Yield the runs of free clusters."""
    boot = boot_of(device)
    if boot is None:
        return
    shape = shape_of(boot)
    heap, cluster = shape.heap * shape.sector_size, shape.unit
    taken = ((first - FIRST_CLUSTER, values != 0) for first, values in _entries(device, shape))
    for first, count in common.free_between(taken, shape.clusters):
        yield Extent(heap + first * cluster, count * cluster)


def boot_of(device: BlockDevice) -> BootSector | None:
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
    data = device.read(shape.start_of(boot.root_clus), shape.unit)
    for offset in range(0, len(data), DirEntry.size):
        entry = DirEntry.decode(data[offset : offset + DirEntry.size])
        if entry.name[0] == 0:
            break
        if entry.attr & 0x3F == VOLUME_LABEL and entry.name[0] != 0xE5:
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
    if boot.reserved1 & 1 or not state & CLEAN:
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

    def used(low: int, high: int) -> NDArray[np.bool_]:
        return np.asarray((table[low:high] != 0) & (table[low:high] != BAD))

    def read(first: Cluster, length: int) -> bytes:
        return device.read(shape.start_of(first), length * shape.unit)

    chains = Chains(table, BAD)
    volume = Volume(chains, used, read, boot.root_clus, clean=not boot.reserved1 & 1 and bool(table[1] & CLEAN))
    try:
        for fault in tree_faults(volume, items_of(chains, shape.unit, boot.root_clus), LARGEST_FOLDER):
            yield rules.filesystem_damaged.error(where, fault)
    except TooManyError:
        yield rules.filesystem_not_checked.note(where, "it has more files than are checked")


def _tables_differ(device: BlockDevice, start: int, length: int) -> bool:
    for first, second in ((start, start + length), (start + length, start)):
        for offset, data in common.pieces(device, first, length):
            if device.read(second + offset, len(data)) != data:
                return True
    return False
