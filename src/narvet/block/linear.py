"""Block devices one after another as one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from narvet.block.contract import BlockDevice, check_read, check_write
from narvet.ground.extents import Extent


class Linear:
    """The bytes of several devices in a row."""

    def __init__(self, parts: Sequence[BlockDevice], sector_size: int) -> None:
        self._parts = [part for part in parts if part.size]
        self._size = sum(part.size for part in parts)
        self._sector = sector_size

    @property
    def size(self) -> int:
        """Bytes of all parts together."""
        return self._size

    @property
    def sector_size(self) -> int:
        """Bytes of a logical sector."""
        return self._sector

    def _pieces(self, offset: int, length: int) -> Iterator[tuple[BlockDevice, int, int, int]]:
        """Yield each part a range touches, with offset and length in it, and where the part starts."""
        start = 0
        for part in self._parts:
            first, last = max(offset, start), min(offset + length, start + part.size)
            if first < last:
                yield part, first - start, last - first, start
            start += part.size

    def read(self, offset: int, length: int) -> bytes:
        """Return exactly `length` bytes from `offset`."""
        check_read(self, offset, length)
        return b"".join(part.read(inside, held) for part, inside, held, _ in self._pieces(offset, length))

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Write all of `data` at `offset`."""
        check_write(self, offset, len(data))
        view = memoryview(data)
        for part, inside, held, start in self._pieces(offset, len(data)):
            done = start + inside - offset
            part.write(inside, view[done : done + held])

    def zero(self, offset: int, length: int) -> None:
        """Make a range read as zeros."""
        check_write(self, offset, length)
        for part, inside, held, _ in self._pieces(offset, length):
            part.zero(inside, held)

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """Yield the data runs of the parts."""
        end = self._size if end is None else min(end, self._size)
        for part, inside, held, origin in self._pieces(start, max(end - start, 0)):
            for extent in part.extents(inside, inside + held):
                yield Extent(origin + extent.start, extent.length)

    def flush(self) -> None:
        """Flush every part."""
        for part in self._parts:
            part.flush()
