"""A disk seen at another size, and with changes that only who looks sees: what is beneath is not written to."""

from __future__ import annotations

from collections.abc import Iterator

from narvet.block.contract import BlockDevice, check_read
from narvet.block.memory import MemoryDevice
from narvet.ground.extents import Extent, cut


class ResizedDevice(MemoryDevice):
    """A disk of another as it would be with `size` bytes: zeros follow what is beneath; writes are kept in memory."""

    def __init__(self, beneath: BlockDevice, size: int) -> None:
        super().__init__(size, beneath.sector_size)
        self._beneath = beneath
        self._written: list[Extent] = []

    def read(self, offset: int, length: int) -> bytes:
        """Return exactly `length` bytes from `offset`."""
        check_read(self, offset, length)
        there = max(min(length, self._beneath.size - offset), 0)
        data = (self._beneath.read(offset, there) if there else b"").ljust(length, b"\0")
        for run in self._written:
            for start, size in cut(run, offset, offset + length):
                own = super().read(start, size)
                data = data[: start - offset] + own + data[start - offset + size :]
        return data

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Keep all of `data` as what is at `offset`."""
        super().write(offset, data)
        self._written.append(Extent(offset, len(data)))

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """Yield the runs that may hold data, of what is beneath and of what was written, ascending."""
        limit = self.size if end is None else min(end, self.size)
        beneath = self._beneath.extents(start, max(min(limit, self._beneath.size), start))
        own = [piece for run in self._written for piece in cut(run, start, limit)]
        last = start
        for run in sorted((*beneath, *own)):
            for piece in cut(run, last, limit):
                yield piece
                last = piece.end
