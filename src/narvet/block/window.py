"""A part of a block device as a block device of its own: a partition."""

from __future__ import annotations

from collections.abc import Iterator

from narvet.block.contract import BlockDevice, check_read, check_write
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent


class Window:
    """The `size` bytes from `start` of `below`, addressed from 0."""

    def __init__(self, below: BlockDevice, start: int, size: int) -> None:
        if start < 0 or size < 0 or start + size > below.size:
            raise ImageError(f"a part of {size} bytes at {start} does not lie on the disk of {below.size} bytes")
        self._below = below
        self._start = start
        self._size = size

    @property
    def size(self) -> int:
        """Bytes of the part."""
        return self._size

    @property
    def sector_size(self) -> int:
        """Bytes of a logical sector, those of the device below."""
        return self._below.sector_size

    def read(self, offset: int, length: int) -> bytes:
        """Return exactly `length` bytes from `offset` of the part."""
        check_read(self, offset, length)
        return self._below.read(self._start + offset, length)

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Write all of `data` at `offset` of the part."""
        check_write(self, offset, len(data))
        self._below.write(self._start + offset, data)

    def zero(self, offset: int, length: int) -> None:
        """Make a range of the part read as zeros."""
        check_write(self, offset, length)
        self._below.zero(self._start + offset, length)

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """Yield the data runs of the device below that lie in the part."""
        last = self._size if end is None else min(end, self._size)
        for extent in self._below.extents(self._start + start, self._start + last):
            yield Extent(extent.start - self._start, extent.length)

    def flush(self) -> None:
        """Flush the device below."""
        self._below.flush()
