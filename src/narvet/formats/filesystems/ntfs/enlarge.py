"""Writing a grown NTFS: its map of clusters, the records that tell how large things are, and both boot sectors."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

import numpy as np

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import CannotChangeError
from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.attributes import mapping_pairs, protected
from narvet.formats.filesystems.ntfs.edit import BY_GUEST, FirstRecords, find, value_at
from narvet.formats.filesystems.ntfs.grow import PlannedGrowth
from narvet.formats.filesystems.ntfs.links import RECORD_BITS
from narvet.formats.filesystems.ntfs.parse import Found, Volume, content, one_of, system_file, unprotected, volume_of
from narvet.ground.errors import ImageError
from narvet.ground.units import Cluster, align_up

_LIST = 0x20  # an attribute that says which other records hold attributes
_CHUNK = 1 << 20

Runs = tuple[tuple[Cluster | None, int], ...]


def enlarge(device: BlockDevice, grown: PlannedGrowth) -> None:
    """Write a grown NTFS to a device that still holds it as it was found.

    Raises:
        ImageError: it is not what was found, or not sound.
        CannotChangeError: its own files are in a form that is not written to here.
    """
    volume = volume_of(device)
    if volume is None or volume.shape != grown.old:
        raise ImageError("the filesystem was changed while it was being made larger")
    if grown.new != grown.old:
        _Enlarger(volume, grown).run()


@dataclass(frozen=True)
class _Sizes:
    """What becomes of an attribute: its runs and its sizes, in bytes; None leaves what was initialised."""

    runs: Runs
    allocated: int
    size: int
    initialized: int | None = None


class _Enlarger:
    def __init__(self, volume: Volume, grown: PlannedGrowth) -> None:
        self._volume = volume
        self._device = volume.device
        self._grown = grown
        self._old, self._new = grown.old, grown.new
        for number in (r.MAP, r.BAD):
            if any(one.type == _LIST for one in system_file(volume, number)):
                raise CannotChangeError(f"the ntfs keeps its file {number} in several records", BY_GUEST)
        self._records = FirstRecords(volume)

    def run(self) -> None:
        """Write everything, the first boot sector last."""
        new = self._new
        # The copy of the first sector may lie where the map goes to, so it goes first.
        self._device.zero(self._old.sectors * self._old.sector_size, self._old.sector_size)
        runs = self._write_map()
        allocated = sum(count for _, count in runs) * new.unit
        self._change(r.MAP, "", _Sizes(runs, allocated, new.map_size, new.map_size))
        self._change_names(allocated)
        self._change_bad()
        boot = replace(self._volume.boot, number_of_sectors=new.sectors).encode()
        self._device.write(new.sectors * new.sector_size, boot)
        self._device.write(0, boot)

    def _write_map(self) -> Runs:
        """Write the map of clusters for the larger volume; return its runs."""
        old, new = self._old, self._new
        attribute = one_of(system_file(self._volume, r.MAP), r.DATA, "", "$Bitmap")
        if attribute.value is not None or any(start is None for start, _ in attribute.runs):
            raise CannotChangeError("the ntfs keeps its map of clusters in an unusual form", BY_GUEST)
        there = content(self._volume, attribute, old.map_size)
        if there.size < -(-old.clusters // 8):
            raise ImageError("the map of clusters is shorter than the volume")
        runs: Runs = attribute.runs
        if self._grown.map_moves:
            runs = ((Cluster(old.clusters), -(-new.map_size // new.unit)),)
        target = content(self._volume_of_new, replace(attribute, runs=runs, size=new.map_size), new.map_size)
        if self._grown.map_moves:
            target.zero(0, target.size)
            for start, length in list(there.extents()):
                for offset in range(start, start + length, _CHUNK):
                    size = min(_CHUNK, start + length - offset)
                    target.write(offset, there.read(offset, size))
        elif target.size > old.map_size:
            target.zero(old.map_size, target.size - old.map_size)
        self._set(target, old.clusters, align_up(old.clusters, 64), used=False)
        self._set(target, new.clusters, 8 * new.map_size, used=True)
        if self._grown.map_moves:
            for cluster, count in attribute.runs:
                self._set(target, int(cluster or 0), int(cluster or 0) + count, used=False)
            self._set(target, old.clusters, old.clusters + runs[0][1], used=True)
        return runs

    @property
    def _volume_of_new(self) -> Volume:
        return replace(self._volume, shape=self._new)

    def _set(self, target: BlockDevice, first: int, end: int, *, used: bool) -> None:
        """Mark clusters from `first` to `end` as used or as free."""
        for low in range(first, end, 8 * _CHUNK):
            high = min(low + 8 * _CHUNK, end)
            start, length = low // 8, -(-high // 8) - low // 8
            bits = np.unpackbits(np.frombuffer(target.read(start, length), dtype=np.uint8), bitorder="little")
            bits[low - 8 * start : high - 8 * start] = used
            target.write(start, np.packbits(bits, bitorder="little").tobytes())

    def _change_bad(self) -> None:
        """Make the list of bad clusters, a hole but for those, as long as the volume."""
        found = next(
            (one for one in system_file(self._volume, r.BAD) if one.type == r.DATA and one.name == "$Bad"), None
        )
        if found is None or found.value is not None:
            return
        runs = list(found.runs)
        more = self._new.clusters - sum(count for _, count in runs)
        if runs and runs[-1][0] is None:
            runs[-1] = (None, runs[-1][1] + more)
        else:
            runs.append((None, more))
        self._change(r.BAD, "$Bad", _Sizes(tuple(runs), self._new.total, self._new.total))

    def _change(self, number: int, name: str, sizes: _Sizes) -> None:
        """Give the data attribute of one of the first files other runs and sizes."""
        data = self._records.get(number)
        place, length = find(data, r.DATA, name, number)
        head = r.RunsHead.decode(bytes(data[place + r.AttributeHead.size :]))
        changed = replace(
            head,
            highest_vcn=sum(count for _, count in sizes.runs) - 1,
            allocated_size=sizes.allocated,
            data_size=sizes.size,
            initialized_size=head.initialized_size if sizes.initialized is None else sizes.initialized,
        )
        first = data[place : place + r.AttributeHead.size] + changed.encode()
        rest = data[place + len(first) : place + head.mapping_pairs_offset]
        self._records.replace(number, place, length, bytes(first + rest) + mapping_pairs(sizes.runs))

    def _change_names(self, allocated: int) -> None:
        """Tell the new sizes of the map in its name, in its record and in the root's index."""

        def change(name: bytes) -> bytes:
            one = r.FileName.decode(name)
            return (
                replace(one, allocated_size=allocated, data_size=self._new.map_size).encode() + name[r.FileName.size :]
            )

        data = self._records.get(r.MAP)
        start = value_at(data, find(data, r.FILE_NAME, "", r.MAP)[0])
        data[start : start + r.FileName.size] = change(bytes(data[start : start + r.FileName.size]))
        self._records.put(r.MAP, data)
        self._change_in_root(change)

    def _change_in_root(self, change: Callable[[bytes], bytes]) -> None:
        """Change the map's name in the index of the root, wherever it stands."""
        root = self._records.get(r.ROOT)
        start = value_at(root, find(root, r.INDEX_ROOT, "$I30", r.ROOT)[0])
        if _change_entry(root, start + r.IndexRoot.size, change):
            self._records.put(r.ROOT, root)
            return
        found = system_file(self._volume, r.ROOT)
        blocks = next((one for one in found if one.type == r.INDEX_ALLOCATION and one.name == "$I30"), None)
        for there, offset, data in self._index_blocks(blocks):
            if _change_entry(data, r.IndexBlock.size, change):
                there.write(offset, protected(bytes(data), int.from_bytes(data[4:6], "little")))
                return

    def _index_blocks(self, blocks: Found | None) -> Iterator[tuple[BlockDevice, int, bytearray]]:
        if blocks is None:
            return
        size = self._old.index_size
        there = content(self._volume, blocks, _CHUNK)
        for offset in range(0, there.size - size + 1, size):
            data = there.read(offset, size)
            if data[:4] == b"INDX":
                yield there, offset, bytearray(unprotected(data, b"INDX", "an index block of the root"))


def _change_entry(data: bytearray, header_at: int, change: Callable[[bytes], bytes]) -> bool:
    """Change the name of the map of clusters among the entries of a node; return whether it is there."""
    header = r.IndexHeader.decode(bytes(data[header_at:]))
    place, end = header_at + header.entries_offset, header_at + header.index_length
    while place + r.IndexEntry.size <= min(end, len(data)):
        one = r.IndexEntry.decode(bytes(data[place:]))
        if one.flags & r.ENTRY_IS_LAST or one.length < r.IndexEntry.size:
            return False
        if one.reference & RECORD_BITS == r.MAP and one.key_length >= r.FileName.size:
            start = place + r.IndexEntry.size
            data[start : start + r.FileName.size] = change(bytes(data[start : start + r.FileName.size]))
            return True
        place += one.length
    return False
