"""A FAT32 made larger: its tables describe more clusters, and start where there is room for them.

FAT: General Overview of On-Disk Format, 1.03. What the tables need beyond the room ahead of the first cluster comes
from the first clusters, which move; what is left over of them goes to the reserved sectors.
"""

from __future__ import annotations

import numpy as np

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import CannotChangeError, FilesystemState, refuse_unknown
from narvet.formats.filesystems.fat import common
from narvet.formats.filesystems.fat.clusters import Chains
from narvet.formats.filesystems.fat.common import FIRST_CLUSTER
from narvet.formats.filesystems.fat.fat32_read import boot_of, read
from narvet.formats.filesystems.fat.fat32_shape import (
    BAD,
    MASK,
    MOST_CLUSTERS,
    MOST_SECTORS,
    BootSector,
    FsInfo,
    Shape,
    shape_of,
)
from narvet.formats.filesystems.fat.fat32_tree import ENTRY, LARGEST_FOLDER
from narvet.formats.filesystems.fat.shift import (
    Shift,
    copy_clusters,
    moved_for,
    refuse_crowded,
    refuse_long,
    write_back,
    write_table,
)
from narvet.ground.errors import ImageError
from narvet.ground.findings import image_place
from narvet.ground.units import MIB, Cluster, show_both
from narvet.ground.values import Frozen, replace

_MOST_RESERVED = 0xFFFF
_UNKNOWN = 0xFFFFFFFF
_LONG_NAME, _FOLDER, _DELETED, _DOT = 0x0F, 0x10, 0xE5, 0x2E


class GrownFat32(Frozen):
    """A FAT32 before and after; the clusters in `shift` give way to the tables."""

    before: FilesystemState
    state: FilesystemState
    old: Shape
    new: Shape
    shift: Shift

    def footprint(self) -> int:
        """Return the most bytes that it stores: what moves, and tables and folders anew."""
        used = self.before.total - self.before.free
        return self.shift.moved * self.old.unit + 8 * self.old.clusters + min(used, 256 * MIB) + 8 * self.new.unit

    def write(self, device: BlockDevice) -> None:
        """Write it to a device that keeps back what lies before its old end."""
        boot = boot_of(device)
        if boot is None or shape_of(boot) != self.old:
            raise ImageError("the filesystem was changed while it was being made larger")
        if self.new != self.old:
            refuse_long(self.new.clusters)
            _Grower(device, boot, self).run()


def grown(state: FilesystemState, size: int) -> GrownFat32:
    """Return a FAT32 made as large as `size` bytes allow; as it is where nothing is gained.

    Raises:
        CannotChangeError: it cannot be made so large, or may not be changed.
    """
    refuse_unknown(state, frozenset())
    old = state.shape
    if not isinstance(old, Shape):
        raise CannotChangeError("the fat32 is damaged", "repair it in its guest")
    most = min(MOST_SECTORS, old.heap + (MOST_CLUSTERS + 1) * old.per_cluster) * old.sector_size
    if size > most:
        told = f"the fat32 has clusters of {show_both(old.unit)}, so it can have at most {show_both(most)}"
        raise CannotChangeError(told, "choose a smaller size, or make a new disk and copy the files", 0, most)
    same = GrownFat32(state, state, old, old, Shift(0, old.clusters))
    sectors = size // old.sector_size
    new, moved = _fitted(old, sectors)
    if sectors <= old.sectors or new.clusters <= old.clusters:
        return same
    refuse_crowded("fat32", moved, old.clusters)
    becomes = replace(state, shape=new, free=state.free + (new.clusters - old.clusters) * old.unit)
    return GrownFat32(state, becomes, old, new, Shift(moved, old.clusters))


def _fitted(old: Shape, sectors: int) -> tuple[Shape, int]:
    """Return the shape of so many sectors, and how many clusters give way to its tables."""
    size = old.sector_size
    clusters = (sectors - old.heap) // old.per_cluster
    table = max(-(-4 * (clusters + FIRST_CLUSTER) // size), old.table)
    aligned = not old.heap * size % MIB
    moved = moved_for((old.reserved + old.tables * table) * size, old.heap * size, old.unit, aligned=aligned)
    heap = old.heap + moved * old.per_cluster
    table = max(table, -(-(heap - _MOST_RESERVED) // old.tables))
    if not moved:
        table = old.table
    return replace(old, sectors=sectors, table=table, reserved=heap - old.tables * table), moved


class _Grower:
    def __init__(self, device: BlockDevice, boot: BootSector, plan: GrownFat32) -> None:
        self._device = device
        self._boot = boot
        self._old, self._new, self._shift = plan.old, plan.new, plan.shift
        self._free = plan.state.free // plan.new.unit
        found = read(device, image_place("the fat32"))
        for finding in found.findings if found else ():
            raise ImageError(f"the fat32 cannot be made larger: {finding.message}")
        start, count = self._old.reserved * self._old.sector_size, self._old.clusters + FIRST_CLUSTER
        self._table = common.whole_table(device, start, count, 0xFFFFFFFF)
        self._chains = Chains(common.whole_table(device, start, count, MASK), BAD)

    def run(self) -> None:
        """Write everything, the first boot sector last."""
        old, new, shift = self._old, self._new, self._shift
        copy_clusters(self._device, old.start_of(FIRST_CLUSTER), new.start_of(shift.home), shift.moved * old.unit)
        self._walk()
        table = shift.table(self._table, new.clusters, MASK)
        for number in range(new.tables):
            start = (new.reserved + number * new.table) * new.sector_size
            write_table(self._device, start, table, new.table * new.sector_size)
        self._write_boot()

    def _walk(self) -> None:
        """Give every entry of every folder the new numbers."""
        todo = [tuple(self._chains.runs(self._boot.root_clus))]
        while todo:
            runs = todo.pop()
            if sum(length for _, length in runs) * self._old.unit > LARGEST_FOLDER + self._old.unit:
                raise ImageError("a folder is larger than any can be")
            content = b"".join(
                self._device.read(self._old.start_of(first), length * self._old.unit) for first, length in runs
            )
            rows = np.frombuffer(content, dtype=np.uint8).reshape(-1, ENTRY).copy()
            todo += self._change_folder(rows)
            write_back(self._device, self._shift, runs, rows.tobytes(), self._old.unit, self._new.start_of)

    def _change_folder(self, rows: np.ndarray) -> list[tuple[tuple[Cluster, int], ...]]:
        """Change a folder's entries; return the folders in it, by their old clusters."""
        ends = np.flatnonzero(rows[:, 0] == 0)
        used = rows[: int(ends[0]) if len(ends) else len(rows)]
        plain = (used[:, 0] != _DELETED) & (used[:, 11] & 0x3F != _LONG_NAME)
        words = used.view("<u2")
        clusters = words[:, 10].astype(np.int64) << 16 | words[:, 13]
        chosen = plain & (clusters >= FIRST_CLUSTER)
        numbers = self._shift.all(clusters)
        words[chosen, 10], words[chosen, 13] = (numbers >> 16)[chosen], (numbers & 0xFFFF)[chosen]
        folders = chosen & (used[:, 11] & _FOLDER != 0) & (used[:, 0] != _DOT)
        return [tuple(self._chains.runs(first)) for first in clusters[folders].tolist()]

    def _write_boot(self) -> None:
        """Write both boot sectors and what stands beside them; all else in the reserved sectors stays."""
        new, size = self._new, self._new.sector_size
        backup = self._boot.bk_boot_sec
        for first in (backup, 0) if backup else (0,):
            place = (first + self._boot.fs_info) * size
            info = FsInfo.decode(self._device.read(place, FsInfo.size))
            if info.lead_sig == 0x41615252:
                known = self._free if info.free_count != _UNKNOWN else _UNKNOWN
                self._device.write(place, replace(info, free_count=known, nxt_free=_UNKNOWN).encode())
            boot = BootSector.decode(self._device.read(first * size, BootSector.size))
            changed = replace(
                boot,
                tot_sec32=new.sectors,
                fat_sz32=new.table,
                rsvd_sec_cnt=new.reserved,
                root_clus=self._shift.one(self._boot.root_clus),
            )
            self._device.write(first * size, changed.encode())
