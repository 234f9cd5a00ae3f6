"""What making an NTFS larger and smaller share: the records that tell how large things are, names, and bad clusters."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import CannotChangeError
from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.attributes import mapping_pairs, protected
from narvet.formats.filesystems.ntfs.edit import BY_GUEST, FirstRecords, find, value_at
from narvet.formats.filesystems.ntfs.links import RECORD_BITS
from narvet.formats.filesystems.ntfs.parse import Found, Volume, content, one_of, system_file, unprotected
from narvet.formats.filesystems.ntfs.shape import Shape
from narvet.ground.errors import ImageError
from narvet.ground.units import Cluster
from narvet.ground.values import Frozen, replace

_LIST = 0x20  # an attribute that says which other records hold attributes
_CHUNK = 1 << 20

Runs = tuple[tuple[Cluster | None, int], ...]


class Sizes(Frozen):
    """What becomes of an attribute: its runs and its sizes, in bytes; None leaves what was initialised."""

    runs: Runs
    allocated: int
    size: int
    initialized: int | None = None


class Resizer:
    """An NTFS that gets another size: what larger and smaller ones have in common."""

    def __init__(self, volume: Volume, old: Shape, new: Shape) -> None:
        self._volume = volume
        self._device = volume.device
        self._old, self._new = old, new
        for number in (r.MAP, r.BAD):
            if any(one.type == _LIST for one in system_file(volume, number)):
                raise CannotChangeError(f"the ntfs keeps its file {number} in several records", BY_GUEST)
        self._records = FirstRecords(volume)

    def _map(self) -> Found:
        """Return the map of clusters as an attribute, which no part of is a hole."""
        attribute = one_of(system_file(self._volume, r.MAP), r.DATA, "", "$Bitmap")
        if attribute.value is not None or any(start is None for start, _ in attribute.runs):
            raise CannotChangeError("the ntfs keeps its map of clusters in an unusual form", BY_GUEST)
        if attribute.size < -(-self._old.clusters // 8):
            raise ImageError("the map of clusters is shorter than the volume")
        return attribute

    def _change_sizes(self, runs: Runs) -> None:
        """Tell the new size of the map of clusters, which lies at `runs`, and of the list of bad ones."""
        new = self._new
        allocated = sum(count for _, count in runs) * new.unit
        self._change(r.MAP, "", Sizes(runs, allocated, new.map_size, new.map_size))
        self._change_names(allocated)
        self._change_bad()

    def _write_boot(self) -> None:
        """Write both boot sectors, the first one last."""
        boot = replace(self._volume.boot, number_of_sectors=self._new.sectors).encode()
        self._device.write(self._new.sectors * self._new.sector_size, boot)
        self._device.write(0, boot)

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
        runs, left = list[tuple[Cluster | None, int]](), self._new.clusters
        for start, count in found.runs:
            if left:
                runs.append((start, min(count, left)))
                left -= runs[-1][1]
        if left and runs and runs[-1][0] is None:
            runs[-1] = (None, runs[-1][1] + left)
        elif left:
            runs.append((None, left))
        self._change(r.BAD, "$Bad", Sizes(tuple(runs), self._new.total, self._new.total))

    def _change(self, number: int, name: str, sizes: Sizes) -> None:
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
