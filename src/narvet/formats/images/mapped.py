"""A disk kept block by block in a file: the part that all thin formats share.

A format says where its blocks lie (`BlockMap`); reading, writing, zeroing and falling through to a base are done here,
run by run: one request of the disk is as few requests of the file as the map allows, and no byte is copied twice.
"""

from __future__ import annotations

import enum
from collections.abc import Iterator
from functools import lru_cache
from typing import Any, NamedTuple, Protocol, runtime_checkable

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice, check_read, check_write
from narvet.block.files import File
from narvet.ground.budget import spend
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent
from narvet.ground.units import align_up

MOST_UNPACKED = 8  # times that what a file holds packed may be unpacked: by now and then reading a block again
_LONGEST_KEPT = 4 << 20  # bytes
_MOST_PLACES = 1 << 16
_LOOKED_UP = 64  # blocks, of which one is asked for
_HOLE, _ZERO = -1, -2
_LEAST_PACKED = 16  # bytes: no packed block takes fewer


class Kind(enum.Enum):
    """What is known of a run of blocks."""

    HOLE = "hole"
    """Not stored: the base's content, or zeros without one."""
    ZERO = "zero"
    """Reads as zeros, whatever the base holds."""
    DATA = "data"
    """Stored at the run's offset, one block after another."""
    PARTIAL = "partial"
    """One block, stored at the offset: some of its sectors count, the others are the base's."""
    PACKED = "packed"
    """One block, stored compressed."""


class Run(NamedTuple):
    """So many `blocks` of one kind; `offset` is where they lie in the file."""

    kind: Kind
    offset: int
    blocks: int


class BlockMap(Protocol):
    """Where a format keeps the blocks of a disk. Changes may stay in memory until `flush`.

    `places` is what `MappedDevice`, which may have several of one map, has found of blocks: where they are stored,
    `_HOLE` or `_ZERO`.
    """

    block: int
    places: dict[int, int]

    def run(self, index: int, most: int) -> Run:
        """Return the run of at most `most` blocks that starts at block `index`; ImageError if the map is damaged."""

    def allocate(self, index: int, count: int) -> int:
        """Give `count` blocks from `index` on a place in the file that reads as zeros; return its offset.

        None of them is stored as DATA yet. Where the format cannot lay them in a row, fewer may be given: see `most`.
        """

    def most(self, index: int, count: int) -> int:
        """Return how many of `count` blocks from `index` can be allocated in a row."""

    def zero(self, index: int, count: int) -> None:
        """Make blocks read as zeros without storing them, if the format can; else return with them as they are."""

    def present(self, index: int) -> bytes:
        """Return the bits, most significant first, of the sectors that count in the PARTIAL block `index`."""

    def unpack(self, index: int) -> bytes:
        """Return the content of a PACKED block."""

    def touch(self) -> None:
        """Called before every change of the disk's content, also of blocks that are stored already."""

    def flush(self) -> None:
        """Put everything on stable storage, data before what points at it."""


@runtime_checkable
class Layered(Protocol):
    """A device that tells what it decides itself from what its base does."""

    def own_extents(self) -> Iterator[tuple[Extent, bool]]:
        """Yield the runs that the image itself decides, and whether they read as zeros: what a base lacks."""


class MappedDevice:
    """The disk of `size` bytes that `blocks` describes in `file`, over an optional base, which may be shorter."""

    def __init__(
        self, file: File, blocks: BlockMap, size: int, sector_size: int, base: BlockDevice | None = None
    ) -> None:
        self._file = file
        self._map = blocks
        self._block = blocks.block
        self._places = blocks.places
        self._size = size
        self._sector = sector_size
        self._base = base

    @property
    def size(self) -> int:
        """Bytes of the disk."""
        return self._size

    @property
    def sector_size(self) -> int:
        """Bytes of a logical sector."""
        return self._sector

    def _runs(self, offset: int, length: int) -> Iterator[tuple[Run, int, int]]:
        """Yield the runs of a range, each with the offset into it and the bytes of the range it holds."""
        block = self._block
        end = offset + length
        while offset < end:
            index, inside = divmod(offset, block)
            run = self._map.run(index, -(-(end - index * block) // block))
            held = min(run.blocks * block - inside, end - offset)
            yield run, inside, held
            offset += held

    def read(self, offset: int, length: int) -> bytes:
        """Return exactly `length` bytes from `offset`."""
        if offset < 0 or length < 0 or offset + length > self._size:
            check_read(self, offset, length)
        index, inside = divmod(offset, self._block)
        if inside + length <= self._block:
            place = self._places.get(index)
            if place is None:
                place = self._look_up(index)
            if place is not None:
                if place >= 0:
                    return self._file.read(place + inside, length)
                return _blank(length) if place == _ZERO else self._below(offset, length)
        return self._read_runs(offset, length)

    def _read_runs(self, offset: int, length: int) -> bytes:
        """Return what lies in several blocks, or in one that is mixed or packed."""
        parts = []
        for run, inside, held in self._runs(offset, length):
            if run.kind is Kind.DATA:
                parts.append(self._file.read(run.offset + inside, held))
            elif run.kind is Kind.ZERO:
                parts.append(_blank(held))
            elif run.kind is Kind.HOLE:
                parts.append(self._below(offset, held))
            elif run.kind is Kind.PACKED:
                parts.append(self._map.unpack(offset // self._block)[inside : inside + held])
            else:
                parts.append(self._mixed(run, offset - inside)[inside : inside + held])
            offset += held
        return parts[0] if len(parts) == 1 else b"".join(parts)

    def _look_up(self, index: int) -> int | None:
        """Return where a block is stored, `_HOLE` or `_ZERO`, and remember that of it and of some that follow it.

        None is returned for a block that is mixed or packed.
        """
        most = min(_LOOKED_UP, -(-self._size // self._block) - index)
        try:
            run = self._map.run(index, most)
        except ImageError:  # perhaps only what follows is damaged
            run = self._map.run(index, 1)
        first = {Kind.DATA: run.offset, Kind.HOLE: _HOLE, Kind.ZERO: _ZERO}.get(run.kind)
        if first is None:
            return None
        self._remember(index, first, min(run.blocks, most))
        return first

    def _remember(self, index: int, place: int, count: int) -> None:
        """Remember where `count` blocks in a row are stored, or that they are not."""
        if len(self._places) + count > _MOST_PLACES:
            self._places.clear()
        step = self._block if place >= 0 else 0
        for number in range(count):
            self._places[index + number] = place + number * step

    def _below(self, offset: int, length: int) -> bytes:
        """Return what the base holds, zeros behind its end or without one."""
        if self._base is None or offset >= self._base.size:
            return _blank(length)
        return self._base.read(offset, min(length, self._base.size - offset)).ljust(length, b"\0")

    def _mixed(self, run: Run, start: int) -> bytes:
        """Return a whole PARTIAL block that starts at `start` on the disk."""
        block = self._block
        own = np.frombuffer(self._file.read(run.offset, block), dtype=f"V{self._sector}")
        below = np.frombuffer(self._below(start, min(block, self._size - start)).ljust(block, b"\0"), dtype=own.dtype)
        bits = np.unpackbits(np.frombuffer(self._map.present(start // block), dtype=np.uint8))[: len(own)].astype(bool)
        mixed = below.copy()
        mixed[bits] = own[bits]
        return mixed.tobytes()

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Write all of `data` at `offset`."""
        check_write(self, offset, len(data))
        self._map.touch()
        view = memoryview(data)
        index, inside = divmod(offset, self._block)
        place = self._places.get(index, _HOLE)
        if place >= 0 and inside + len(view) <= self._block:
            self._file.write(place + inside, view)
            return
        while view:
            run, inside, held = next(self._runs(offset, len(view)))
            if run.kind is Kind.DATA:
                self._remember(offset // self._block, run.offset, 1)
                self._file.write(run.offset + inside, view[:held])
            else:
                held = self._store(run, offset, view[:held])
            offset += held
            view = view[held:]

    def _store(self, run: Run, offset: int, view: memoryview) -> int:
        """Write to blocks that have no place of their own yet; return how many bytes were taken."""
        block = self._block
        index, inside = divmod(offset, block)
        count = self._map.most(index, -(-(inside + len(view)) // block))
        view = view[: count * block - inside]
        start, end = index * block, (index + count) * block
        keeps = run.kind in (Kind.PACKED, Kind.PARTIAL) or (run.kind is Kind.HOLE and self._base is not None)
        before = self.read(start, inside) if keeps else b""
        last = min(end, self._size) - offset - len(view)
        after = self.read(offset + len(view), last) if keeps and last > 0 else b""
        place = self._map.allocate(index, count)
        for number in range(index, index + count):
            self._places.pop(number, None)
        if before or after:
            self._file.write(place, b"".join((before, view, after)))
        else:
            self._file.write(place + inside, view)
        return len(view)

    def zero(self, offset: int, length: int) -> None:
        """Make a range read as zeros; whole blocks are given up where the format can say so."""
        check_write(self, offset, length)
        self._map.touch()
        self._places.clear()
        block, end = self._block, offset + length
        first, last = align_up(offset, block), end if end == self._size else end // block * block
        if first < last:
            self._map.zero(first // block, -(-(last - first) // block))
        for run, _, held in list(self._runs(offset, length)):
            covered = run.kind is Kind.ZERO or (run.kind is Kind.HOLE and self._base is None)
            if not covered:
                self._write_zeros(offset, held)
            offset += held

    def _write_zeros(self, offset: int, length: int) -> None:
        blank = memoryview(bytes(min(length, 1 << 20)))
        for done in range(0, length, len(blank)):
            self.write(offset + done, blank[: length - done])

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """Yield the runs that may hold data, in this image or in its base."""
        end = self._size if end is None else min(end, self._size)
        offset = start
        for run, _, held in self._bounded(self._runs(start, max(end - start, 0))):
            if run.kind is Kind.HOLE:
                if self._base is not None:
                    yield from self._base.extents(offset, offset + held)
            elif run.kind is not Kind.ZERO:
                yield Extent(offset, held)
            offset += held

    def own_extents(self) -> Iterator[tuple[Extent, bool]]:
        """Yield the runs that this image itself decides, and whether they read as zeros: what a base lacks."""
        offset = 0
        for run, _, held in self._bounded(self._runs(0, self._size)):
            if run.kind is not Kind.HOLE:
                yield Extent(offset, held), run.kind is Kind.ZERO
            offset += held

    def _bounded(self, runs: Iterator[tuple[Run, int, int]]) -> Iterator[tuple[Run, int, int]]:
        """Yield runs in order; what they store cannot be more than the file has.

        Raises:
            ImageError: it is, so blocks of a damaged or hostile image share places.
        """
        stored, packed = 0, 0
        for run, inside, held in runs:
            spend()
            stored += held if run.kind in (Kind.DATA, Kind.PARTIAL) else 0
            packed += run.kind is Kind.PACKED
            if stored > align_up(self._file.size, self._block) or packed * _LEAST_PACKED > self._file.size:
                raise ImageError(f"blocks of the image share places in its file of {self._file.size} bytes")
            yield run, inside, held

    def flush(self) -> None:
        """Return when everything written is on stable storage."""
        self._map.flush()


def _blank(length: int) -> bytes:
    """Return zeros; runs of usual lengths are made once, as terabytes of them are read when disks are compared."""
    return _kept_blank(length) if length <= _LONGEST_KEPT else bytes(length)


@lru_cache(maxsize=4)
def _kept_blank(length: int) -> bytes:
    return bytes(length)


def distinct_places(places: NDArray[Any], what: str) -> None:
    """Check that no two of some tables lie at one place, zeros meaning that there is none.

    A walk through all tables of a sound image then reads each once, so that the file bounds the work.

    Raises:
        ImageError: two do.
    """
    used = np.sort(places[places != 0])
    twice = np.flatnonzero(used[1:] == used[:-1])
    if len(twice):
        raise ImageError(f"two {what} of the image lie at one place, {int(used[twice[0]])}")


def all_stored(blocks: BlockMap, size: int) -> bool:
    """Return whether every block of a disk of `size` bytes has its place: it is full. Stops at the first without."""
    index, count = 0, -(-size // blocks.block)
    while index < count:
        spend()
        run = blocks.run(index, count - index)
        if run.kind is not Kind.DATA:
            return False
        index += run.blocks
    return bool(count)


def allocate_all(blocks: BlockMap, file: File, size: int, first: int = 0) -> None:
    """Give every block of an image from block `first` on, none of which has one, its place, and the file its bytes."""
    index, count = first, -(-size // blocks.block)
    while index < count:
        part = blocks.most(index, count - index)
        blocks.allocate(index, part)
        index += part
    blocks.flush()
    file.allocate(file.size)


def stored_run(places: np.ndarray, block: int) -> int:
    """Return how many of the leading file offsets follow one another block by block."""
    if len(places) < 2:
        return len(places)
    breaks = np.flatnonzero(np.diff(places.astype(np.int64)) != block)
    return int(breaks[0]) + 1 if len(breaks) else len(places)


def same_run(values: np.ndarray) -> int:
    """Return how many of the leading booleans are as the first."""
    breaks = np.flatnonzero(values != values[0])
    return int(breaks[0]) if len(breaks) else len(values)
