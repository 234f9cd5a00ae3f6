"""What is inside a sealed volume as a block device: what is read is opened, what is written is sealed.

A sector that was never written is stored as zeros, which no sealed one is, and reads as zeros here. A guest reads such
a sector as noise, so that what it relies on as zeros has to be written: see `made_real`.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from narvet.block.contract import BlockDevice, check_read, check_write
from narvet.formats.seals.keys import sector_key
from narvet.ground.extents import Extent
from narvet.ground.units import MIB, align_down, align_up

_SECTOR = 512
_PIECE = MIB


class SealedDevice:
    """The bytes inside a sealed volume: those of `below` from a byte on, opened by a key."""

    def __init__(self, below: BlockDevice, offset: int, key: bytes, sector_size: int, tweak: int = 0) -> None:
        self._below = below
        self._offset = offset
        self._key = key
        self._sector = sector_size
        self._tweak = tweak
        self._size = align_down(max(below.size - offset, 0), sector_size)
        self._blank = bytes(sector_size)

    @property
    def size(self) -> int:
        """Bytes inside."""
        return self._size

    @property
    def sector_size(self) -> int:
        """Bytes of a logical sector."""
        return max(self._below.sector_size, self._sector)

    def _number(self, sector: int) -> int:
        """Return the number that a sector is sealed with: counted in 512 bytes, whatever it has."""
        return self._tweak + sector * (self._sector // _SECTOR)

    def _opened(self, first: int, count: int) -> bytearray:
        data = self._below.read(self._offset + first * self._sector, count * self._sector)
        result = bytearray(len(data))
        for at in range(count):
            part = data[at * self._sector : (at + 1) * self._sector]
            if part != self._blank:
                opened = sector_key(part, self._key, self._number(first + at), seal=False)
                result[at * self._sector : (at + 1) * self._sector] = opened
        return result

    def read(self, offset: int, length: int) -> bytes:
        """Return exactly `length` bytes from `offset`."""
        check_read(self, offset, length)
        if not length:
            return b""
        first, end = offset // self._sector, -(-(offset + length) // self._sector)
        inside = offset - first * self._sector
        return bytes(self._opened(first, end - first)[inside : inside + length])

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Write all of `data` at `offset`."""
        check_write(self, offset, len(data))
        view = memoryview(data).cast("B")
        for at in range(0, len(view), _PIECE):
            self._write(offset + at, view[at : at + _PIECE])

    def _write(self, offset: int, data: memoryview) -> None:
        if not len(data):
            return
        first, end = offset // self._sector, -(-(offset + len(data)) // self._sector)
        inside = offset - first * self._sector
        whole = bytearray((end - first) * self._sector)
        if inside or (offset + len(data)) % self._sector:
            whole[: self._sector] = self._opened(first, 1)
            whole[-self._sector :] = self._opened(end - 1, 1)
        whole[inside : inside + len(data)] = data
        self._seal(first, whole)

    def _seal(self, first: int, data: bytearray) -> None:
        sealed = b"".join(
            sector_key(
                bytes(data[at : at + self._sector]), self._key, self._number(first + at // self._sector), seal=True
            )
            for at in range(0, len(data), self._sector)
        )
        self._below.write(self._offset + first * self._sector, sealed)

    def zero(self, offset: int, length: int) -> None:
        """Make a range read as zeros here: whole sectors as if they were never written."""
        check_write(self, offset, length)
        end = offset + length
        first, last = align_up(offset, self._sector), align_down(end, self._sector)
        if first >= last:
            self._write(offset, memoryview(bytes(length)))
            return
        self._write(offset, memoryview(bytes(first - offset)))
        self._below.zero(self._offset + first, last - first)
        self._write(last, memoryview(bytes(end - last)))

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """Yield the runs that may hold data."""
        last = self._size if end is None else min(end, self._size)
        for run in self._below.extents(self._offset + start, self._offset + last):
            yield Extent(run.start - self._offset, run.length)

    def flush(self) -> None:
        """Flush the device below."""
        self._below.flush()

    def made_real(self, runs: Iterable[Extent]) -> int:
        """Write zeros, sealed, where sectors of some runs were never written, so that a guest too reads them so.

        Returns:
            the bytes that were written.
        """
        written = 0
        for run in runs:
            first, end = run.start // self._sector, -(-min(run.end, self._size) // self._sector)
            for at in range(first, end, _PIECE // self._sector):
                written += self._made_real(at, min(at + _PIECE // self._sector, end))
        return written

    def _made_real(self, first: int, end: int) -> int:
        data = self._below.read(self._offset + first * self._sector, (end - first) * self._sector)
        blank = [at for at in range(end - first) if data[at * self._sector : (at + 1) * self._sector] == self._blank]
        start = 0
        while start < len(blank):
            stop = start
            while stop + 1 < len(blank) and blank[stop + 1] == blank[stop] + 1:
                stop += 1
            self._seal(first + blank[start], bytearray((stop - start + 1) * self._sector))
            start = stop + 1
        return len(blank) * self._sector
