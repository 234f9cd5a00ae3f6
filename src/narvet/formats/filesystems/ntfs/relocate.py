"""What an NTFS keeps behind a border moved before it: clusters of files, of its own ones too; its size stays.

Content is copied to clusters that are free, which nobody looks at yet; the records of the files follow. Files keep
their numbers, so that nothing else leads elsewhere.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice
from narvet.block.delayed import Delays
from narvet.formats.filesystems.contract import CannotChangeError
from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.attributes import mapping_pairs, protected
from narvet.formats.filesystems.ntfs.edit import BY_GUEST, with_attribute
from narvet.formats.filesystems.ntfs.maps import used_runs
from narvet.formats.filesystems.ntfs.parse import (
    Found,
    Volume,
    content,
    one_of,
    placed_attributes,
    system_file,
    unprotected,
)
from narvet.ground.budget import budget, spend
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent
from narvet.ground.free_runs import FreeRuns
from narvet.ground.meter import copied
from narvet.ground.offers import offers
from narvet.ground.units import Cluster
from narvet.ground.values import replace

_LIST = 0x20  # an attribute that says which other records hold attributes
_FIRST_RECORDS = 32  # which every reader takes to lie in a row
_PIECE = 4 << 20  # bytes read or copied at once

Runs = tuple[tuple[Cluster | None, int], ...]


def relocate(volume: Volume, border: int) -> None:
    """Move everything from cluster `border` on before it.

    Raises:
        ImageError: the volume is not sound.
        CannotChangeError: there is no room for it, or something cannot be moved.
    """
    with budget(sum(length for _, length in volume.device.extents())):
        _Relocator(volume, border).run()


class _Relocator:
    def __init__(self, volume: Volume, border: int) -> None:
        self._volume = volume
        self._device = volume.device
        self._border = border
        self._size = volume.shape.record_size
        self._free = FreeRuns(_free_before(volume, border))
        self._moved: list[tuple[int, Extent]] = []

    def run(self) -> None:
        """Move all files, the table of their records last; then what tells where that is."""
        table = self._own(r.MFT)
        mirror, map_ = self._own(r.MIRROR), self._own(r.MAP)
        there = content(self._volume, table, table.size)
        mirror_runs, map_runs = mirror.runs, map_.runs
        for number, data in self._records(there):
            changed, runs = self._follow(number, data)
            mirror_runs = runs if number == r.MIRROR and runs else mirror_runs
            map_runs = runs if number == r.MAP and runs else map_runs
            if changed != data:
                self._put(there, number, changed)
        first, runs = self._follow(r.MFT, unprotected(there.read(0, self._size), b"FILE", "record 0"))
        table = replace(table, runs=runs or table.runs)
        if table.runs[0][1] * self._volume.shape.unit < min(_FIRST_RECORDS * self._size, table.size):
            raise CannotChangeError("too little is free in one piece before the new end", "ask for a larger size")
        moved = content(self._volume, table, table.size)
        self._put(moved, r.MFT, first)
        copy = content(self._volume, replace(mirror, runs=mirror_runs), mirror.size)
        copy.write(0, moved.read(0, copy.size))
        self._write_map(content(self._volume, replace(map_, runs=map_runs), map_.size))
        self._write_boot(table.runs, mirror_runs)

    def _own(self, number: int) -> Found:
        """Return the content of one of the first files, which no part of is a hole."""
        found = system_file(self._volume, number)
        data = one_of(found, r.DATA, "", f"record {number}")
        if any(one.type == _LIST for one in found) or data.value is not None or any(at is None for at, _ in data.runs):
            raise CannotChangeError(f"the ntfs keeps its file {number} in an unusual form", BY_GUEST)
        return data

    def _records(self, table: BlockDevice) -> Iterator[tuple[int, bytes]]:
        """Yield number and bytes of the records in use, but for the table's own."""
        size = self._size
        starts = {
            place
            for start, length in table.extents()
            for place in range(start // _PIECE * _PIECE, min(start + length, table.size), _PIECE)
        }
        for start in sorted(starts):
            data = table.read(start, min(_PIECE, table.size - start) // size * size)
            spend(len(data))
            for offset in range(0, len(data), size):
                number, one = (start + offset) // size, data[offset : offset + size]
                if number != r.MFT and one[:4] == b"FILE" and r.FileRecord.decode(one).flags & r.IN_USE:
                    yield number, unprotected(one, b"FILE", f"record {number}")

    def _put(self, table: BlockDevice, number: int, data: bytes) -> None:
        table.write(number * self._size, protected(data, r.FileRecord.decode(data).usa_ofs))

    def _follow(self, number: int, data: bytes) -> tuple[bytes, Runs]:
        """Return a record with its attributes before the border, and the runs of its unnamed content if those moved."""
        content_runs: Runs = ()
        late = [
            (place, one)
            for place, one in placed_attributes(self._volume, data, f"record {number}")
            if any(start is not None and start + count > self._border for start, count in one.runs)
        ]
        for place, one in reversed(late):  # those before an attribute stay where they are in the record
            if number == r.BAD:
                raise CannotChangeError("the ntfs has bad clusters behind the new end", BY_GUEST)
            runs = _joined(piece for start, count in one.runs for piece in self._moved_run(start, count))
            if one.type == r.DATA and not one.name:
                content_runs = runs
            head = data[place.start : place.end]
            pairs_at = r.RunsHead.decode(head[r.AttributeHead.size :]).mapping_pairs_offset
            data = with_attribute(data, number, place, head[:pairs_at] + mapping_pairs(runs))
        return data, content_runs

    def _moved_run(self, start: Cluster | None, count: int) -> Iterator[tuple[Cluster | None, int]]:
        """Yield where a run lies once what is behind the border was copied."""
        if start is None:
            yield None, count
            return
        stays = max(min(self._border - start, count), 0)
        if stays:
            yield start, stays
        done = stays
        runs = self._free.take(count - stays) if stays < count else []
        if stays < count and not runs:
            raise CannotChangeError("too little is free before the new end", "ask for a larger size")
        unit = self._volume.shape.unit
        for run in runs:
            if offers(self._device, Delays):
                self._device.is_free(Extent(run.start * unit, run.length * unit))
            self._copy(start + done, run)
            self._moved.append((start + done, run))
            yield Cluster(run.start), run.length
            done += run.length

    def _copy(self, old: int, new: Extent) -> None:
        unit = self._volume.shape.unit
        for done in range(0, new.length * unit, _PIECE):
            data = self._device.read(old * unit + done, min(_PIECE, new.length * unit - done))
            self._device.write(new.start * unit + done, data)
            copied(len(data))

    def _write_map(self, target: BlockDevice) -> None:
        """Mark what moved in the map of clusters."""
        for old, new in self._moved:
            _mark(target, Extent(old, new.length), used=False)
            _mark(target, new, used=True)

    def _write_boot(self, table: Runs, mirror: Runs) -> None:
        """Write both boot sectors, the first one last."""
        boot, shape = self._volume.boot, self._volume.shape
        changed = replace(boot, mft_lcn=table[0][0] or Cluster(0), mftmirr_lcn=mirror[0][0] or Cluster(0))
        if changed != boot:
            self._device.write(shape.sectors * shape.sector_size, changed.encode())
            self._device.write(0, changed.encode())


def _free_before(volume: Volume, border: int) -> NDArray[np.int64]:
    """Return first and end of the free runs of clusters before a border, shape (n, 2)."""
    used = used_runs(volume)
    starts = np.concatenate([[0], used[:, 1]])
    ends = np.minimum(np.concatenate([used[:, 0], [volume.shape.clusters]]), border)
    return np.asarray(np.stack([starts, ends], axis=1)[starts < ends])


def _joined(runs: Iterator[tuple[Cluster | None, int]]) -> Runs:
    """Return runs with those made one that go on where another ends."""
    result: list[tuple[Cluster | None, int]] = []
    for start, count in runs:
        before, length = result[-1] if result else (None, 0)
        if start is not None and before is not None and before + length == start:
            result[-1] = (before, length + count)
        else:
            result.append((start, count))
    return tuple(result)


def _mark(target: BlockDevice, run: Extent, *, used: bool) -> None:
    """Mark clusters in a map as used, or as free; ImageError where they are so already."""
    first, end = run.start // 8, -(-run.end // 8)
    for start in range(first, end, _PIECE):
        length = min(_PIECE, end - start)
        bits = np.unpackbits(np.frombuffer(target.read(start, length), dtype=np.uint8), bitorder="little")
        part = slice(max(run.start - 8 * start, 0), min(run.end - 8 * start, len(bits)))
        if (bits[part] == used).any():
            raise ImageError(f"clusters from {run.start} on are in use twice, or not at all")
        bits[part] = used
        target.write(start, np.packbits(bits, bitorder="little").tobytes())
