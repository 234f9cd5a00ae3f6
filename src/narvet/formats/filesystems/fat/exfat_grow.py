"""An exFAT made larger: its table describes more clusters, its bitmap moves to where it has room, as one run.

exFAT File System Specification, revision 1.00, sections 3 (boot region), 4 (table), 6 and 7 (entries).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import CannotChangeError, FilesystemState, refuse_unknown
from narvet.formats.filesystems.fat import common
from narvet.formats.filesystems.fat.clusters import Chains
from narvet.formats.filesystems.fat.common import FIRST_CLUSTER
from narvet.formats.filesystems.fat.exfat_read import BITMAP_ENTRY, UPCASE_ENTRY, boot_of, read, root_entries
from narvet.formats.filesystems.fat.exfat_shape import (
    BAD,
    BOOT_SECTORS,
    END,
    MOST_CLUSTERS,
    UNSUMMED,
    BitmapEntry,
    BootSector,
    Shape,
    UpcaseEntry,
    checksum,
    shape_of,
)
from narvet.formats.filesystems.fat.exfat_tree import (
    ENTRY,
    LARGEST_FOLDER,
    WITHOUT_SETS,
    allocation,
    set_checksum,
    sets_of,
    streams_in,
)
from narvet.formats.filesystems.fat.shift import (
    Shift,
    copy_clusters,
    moved_for,
    refuse_crowded,
    refuse_long,
    write_back,
    write_table,
)
from narvet.formats.filesystems.upcase import UNITS
from narvet.ground.errors import ImageError
from narvet.ground.findings import image_place
from narvet.ground.units import MIB, Cluster, show_both
from narvet.ground.values import Frozen, replace

_IN_A_ROW = 2  # of a stream's flags


class GrownExfat(Frozen):
    """An exFAT before and after; the clusters in `shift` give way to the table."""

    before: FilesystemState
    state: FilesystemState
    old: Shape
    new: Shape
    shift: Shift

    def footprint(self) -> int:
        """Return the most bytes that it stores: what moves, and table, bitmap and folders anew."""
        moved = self.shift.moved * self.old.unit
        used = self.before.total - self.before.free
        return moved + 4 * self.old.clusters + self.new.bitmap_size + min(used, 256 * MIB) + 16 * self.new.unit

    def write(self, device: BlockDevice) -> None:
        """Write it to a device that keeps back what lies before its old end."""
        boot = boot_of(device)
        if boot is None or shape_of(boot) != self.old:
            raise ImageError("the filesystem was changed while it was being made larger")
        if self.new != self.old:
            refuse_long(self.new.clusters)
            _Grower(device, boot, self).run()


def grown(state: FilesystemState, size: int) -> GrownExfat:
    """Return an exFAT made as large as `size` bytes allow; as it is where nothing is gained.

    Raises:
        CannotChangeError: it cannot be made so large, or may not be changed.
    """
    refuse_unknown(state, frozenset())
    old = state.shape
    if not isinstance(old, Shape):
        raise CannotChangeError("the exfat is damaged", "repair it in its guest")
    same = GrownExfat(state, state, old, old, Shift(0, old.clusters))
    sectors = size // old.sector_size
    if sectors <= old.sectors:
        return same
    clusters = (sectors - old.heap) // old.per_cluster
    if clusters > MOST_CLUSTERS:
        most = (MOST_CLUSTERS * old.per_cluster + old.heap) * old.sector_size
        told = f"the exfat has clusters of {show_both(old.unit)}, so it can have at most {show_both(most)}"
        raise CannotChangeError(told, "choose a smaller size, or make a new disk and copy the files", 0, most)
    room = (old.heap - old.fat_offset) * old.sector_size
    moved = moved_for(4 * (clusters + FIRST_CLUSTER), room, old.unit, aligned=not old.heap_start % MIB)
    heap = old.heap + moved * old.per_cluster
    clusters = (sectors - heap) // old.per_cluster
    enough = old.fat_length * old.sector_size >= 4 * (clusters + FIRST_CLUSTER)
    length = old.fat_length if enough else heap - old.fat_offset
    new = replace(old, sectors=sectors, fat_length=length, heap=heap, clusters=clusters)
    kept = new.bitmap_clusters + 2 * UNITS // old.unit + 1  # the bitmap, and the up-case table if it was cut in two
    if clusters - old.clusters <= kept:
        return same
    refuse_crowded("exfat", moved, old.clusters)
    gained = clusters - old.clusters + old.bitmap_clusters - new.bitmap_clusters
    becomes = replace(state, shape=new, free=state.free + gained * old.unit)
    return GrownExfat(state, becomes, old, new, Shift(moved, old.clusters))


class _Grower:
    def __init__(self, device: BlockDevice, boot: BootSector, plan: GrownExfat) -> None:
        self._device = device
        self._boot = boot
        self._old, self._new, self._shift = plan.old, plan.new, plan.shift
        _refuse_unsound(device)
        start, count = self._old.fat_offset * self._old.sector_size, self._old.clusters + FIRST_CLUSTER
        table = common.whole_table(device, start, count, 0xFFFFFFFF)
        self._chains = Chains(table, BAD)
        self._table = self._shift.table(table, self._new.clusters)
        self._free_from = Cluster(FIRST_CLUSTER + self._old.clusters)  # new clusters, behind those that moved

    def run(self) -> None:
        """Write everything, the first boot region last."""
        old, new, shift = self._old, self._new, self._shift
        copy_clusters(self._device, old.heap_start, new.start_of(shift.home), shift.moved * old.unit)
        bits = self._bits()
        self._walk(bits)
        packed = np.packbits(bits, bitorder="little").tobytes()
        self._device.write(new.start_of(self._bitmap_at), packed.ljust(-(-len(packed) // old.unit) * old.unit, b"\0"))
        write_table(self._device, new.fat_offset * new.sector_size, self._table, new.fat_length * new.sector_size)
        self._write_boot(int(bits.sum()))

    def _bits(self) -> NDArray[np.bool_]:
        """Return which of the new clusters are in use, with the bitmap at its new place."""
        old, new = self._old, self._new
        entry = next(
            BitmapEntry.decode(one) for one in root_entries(self._device, self._boot) if one[0] == BITMAP_ENTRY
        )
        data = self._device.read(old.start_of(entry.first_cluster), old.bitmap_size)
        was = np.unpackbits(np.frombuffer(data, dtype=np.uint8), bitorder="little")[: old.clusters].astype(bool)
        bits = self._shift.bits(was, new.clusters)
        for first, length in self._chains.runs(entry.first_cluster):
            if length != old.bitmap_clusters:
                raise CannotChangeError(
                    "the exfat has its bitmap in pieces", "let its guest copy the files to a new disk"
                )
            self._release(bits, first, length)
        self._bitmap_at = self._take(bits, new.bitmap_clusters)
        return bits

    def _release(self, bits: NDArray[np.bool_], first: int, length: int) -> None:
        """Give up clusters in a row, by their old numbers."""
        for start, count in self._shift.runs(first, length):
            bits[start - FIRST_CLUSTER : start - FIRST_CLUSTER + count] = False
            self._table[start : start + count] = 0

    def _take(self, bits: NDArray[np.bool_], length: int) -> Cluster:
        """Return the first of so many new clusters in a row, which are now in use, as a chain."""
        first = self._free_from
        self._free_from = Cluster(first + length)
        bits[first - FIRST_CLUSTER : first - FIRST_CLUSTER + length] = True
        self._chain([(first, length)])
        return first

    def _chain(self, runs: list[tuple[Cluster, int]]) -> None:
        """Make new clusters a chain in the table."""
        numbers = np.concatenate([np.arange(first, first + length) for first, length in runs])
        self._table[numbers[:-1]] = numbers[1:]
        self._table[numbers[-1]] = END

    def _walk(self, bits: NDArray[np.bool_]) -> None:
        """Give every entry of every folder the new numbers."""
        root = self._boot.first_cluster_of_root
        todo = [(tuple(self._chains.runs(root)), True)]
        while todo:
            runs, in_root = todo.pop()
            content = bytearray(b"".join(self._read(*run) for run in runs))
            if len(content) > LARGEST_FOLDER:
                raise ImageError("a folder is larger than any can be")
            todo += self._change_folder(content, bits, in_root=in_root)
            write_back(self._device, self._shift, runs, bytes(content), self._old.unit, self._new.start_of)

    def _read(self, first: int, length: int) -> bytes:
        return self._device.read(self._old.start_of(Cluster(first)), length * self._old.unit)

    def _change_folder(
        self, content: bytearray, bits: NDArray[np.bool_], *, in_root: bool
    ) -> list[tuple[tuple[tuple[Cluster, int], ...], bool]]:
        """Change a folder's entries; return the folders in it, by their old clusters."""
        inside = []
        for place, count in list(sets_of(content)):
            if content[place] in (BITMAP_ENTRY, UPCASE_ENTRY) and in_root:
                self._change_system(content, place, bits)
            if content[place] in WITHOUT_SETS:
                continue
            for at, stream, is_folder in streams_in(content, place, count):
                runs, fault = allocation(stream, self._chains, self._old.unit)
                if fault:
                    raise ImageError(f"a file {fault}")
                if not runs:
                    continue
                if is_folder:
                    inside.append((tuple(runs), False))
                self._change_stream(content, at, stream.first_cluster, runs, bool(stream.secondary_flags & _IN_A_ROW))
            content[place + 2 : place + 4] = set_checksum(bytes(content[place : place + count * ENTRY])).to_bytes(
                2, "little"
            )
        return inside

    def _change_stream(
        self, content: bytearray, at: int, first: Cluster, runs: list[tuple[Cluster, int]], in_a_row: bool
    ) -> None:
        content[at + 20 : at + 24] = self._shift.one(first).to_bytes(4, "little")
        if in_a_row and self._shift.crosses(*runs[0]):
            content[at + 1] &= ~_IN_A_ROW
            self._chain(self._shift.runs(*runs[0]))

    def _change_system(self, content: bytearray, place: int, bits: NDArray[np.bool_]) -> None:
        """Change the root's entry for the bitmap or the up-case table; both must lie in a row."""
        data = bytes(content[place : place + ENTRY])
        if data[0] == BITMAP_ENTRY:
            entry = BitmapEntry.decode(data)
            changed = replace(entry, first_cluster=self._bitmap_at, data_length=self._new.bitmap_size)
            content[place : place + ENTRY] = changed.encode()
            return
        upcase = UpcaseEntry.decode(data)
        length = -(-upcase.data_length // self._old.unit)
        first = self._shift.one(upcase.first_cluster)
        if self._shift.crosses(upcase.first_cluster, length):
            table = self._read(upcase.first_cluster, length)
            self._release(bits, upcase.first_cluster, length)
            first = self._take(bits, length)
            self._device.write(self._new.start_of(first), table)
        content[place : place + ENTRY] = replace(upcase, first_cluster=first).encode()

    def _write_boot(self, used: int) -> None:
        """Write both boot regions, with all that others have put into them."""
        new, size = self._new, self._new.sector_size
        boot = replace(
            self._boot,
            volume_length=new.sectors,
            fat_length=new.fat_length,
            cluster_heap_offset=new.heap,
            cluster_count=new.clusters,
            first_cluster_of_root=self._shift.one(self._boot.first_cluster_of_root),
            percent_in_use=used * 100 // new.clusters
            if self._boot.percent_in_use <= 100
            else self._boot.percent_in_use,
        )
        region = self._device.read(0, (BOOT_SECTORS - 1) * size)
        region = boot.encode() + region[BootSector.size :]
        region += checksum(region, UNSUMMED).to_bytes(4, "little") * (size // 4)
        for start in (BOOT_SECTORS, 0):
            self._device.write(start * size, region)


def _refuse_unsound(device: BlockDevice) -> None:
    """Raise ImageError if anything is wrong with a volume: numbers that lead astray would be made new ones."""
    found = read(device, image_place("the exfat"))
    for finding in found.findings if found else ():
        raise ImageError(f"the exfat cannot be made larger: {finding.message}")
