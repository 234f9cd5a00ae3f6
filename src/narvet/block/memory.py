"""A block device in memory that stores only the chunks written to, so that 64 TiB of it cost what is used."""

from __future__ import annotations

from collections.abc import Iterator

from narvet.block.contract import check_read, check_write, zero_by_writing
from narvet.ground.extents import Extent, cut

_CHUNK = 4096


class MemoryDevice:
    """A sparse disk in memory, for working a layout out and for tests."""

    def __init__(self, size: int, sector_size: int = 512) -> None:
        self._size = size
        self._sector = sector_size
        self._chunks: dict[int, bytearray] = {}

    @property
    def size(self) -> int:
        """Bytes of the disk."""
        return self._size

    @property
    def sector_size(self) -> int:
        """Bytes of a logical sector."""
        return self._sector

    def read(self, offset: int, length: int) -> bytes:
        """Return exactly `length` bytes from `offset`."""
        check_read(self, offset, length)
        result = bytearray(length)
        for number, inside, outside, run in _pieces(offset, length):
            chunk = self._chunks.get(number)
            if chunk is not None:
                result[outside : outside + run] = chunk[inside : inside + run]
        return bytes(result)

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Write all of `data` at `offset`."""
        check_write(self, offset, len(data))
        for number, inside, outside, run in _pieces(offset, len(data)):
            chunk = self._chunks.setdefault(number, bytearray(_CHUNK))
            chunk[inside : inside + run] = data[outside : outside + run]

    def zero(self, offset: int, length: int) -> None:
        """Make a range read as zeros."""
        check_write(self, offset, length)
        zero_by_writing(self, offset, length)

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """Yield the runs of chunks written to, ascending and merged."""
        limit = self._size if end is None else min(end, self._size)
        first = last = -1
        for number in sorted(self._chunks):
            if number * _CHUNK != last:
                yield from cut(Extent(first, last - first), start, limit)
                first = number * _CHUNK
            last = (number + 1) * _CHUNK
        yield from cut(Extent(first, last - first), start, limit)

    def resize(self, size: int) -> None:
        """Make the disk longer, by zeros, or shorter."""
        if size < self._size:
            whole, part = divmod(size, _CHUNK)
            self._chunks = {number: chunk for number, chunk in self._chunks.items() if number <= whole}
            if whole in self._chunks:
                self._chunks[whole][part:] = bytes(_CHUNK - part)
        self._size = size

    def flush(self) -> None:
        """Memory needs no flushing."""


def _pieces(offset: int, length: int) -> Iterator[tuple[int, int, int, int]]:
    """Yield chunk number, offset in the chunk, offset in the request and length of each piece of a range."""
    done = 0
    while done < length:
        number, inside = divmod(offset + done, _CHUNK)
        run = min(_CHUNK - inside, length - done)
        yield number, inside, done, run
        done += run
