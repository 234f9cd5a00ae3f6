"""A block device whose changes up to a border wait, while those behind it are made at once.

A filesystem that is made larger fills what lies behind its old end first, where nobody looks yet. What then turns the
old filesystem into the new one is little, and is made all at once (see `staged`).
"""

from __future__ import annotations

from collections.abc import Iterator

from narvet.block.contract import BlockDevice, check_read, check_write, zero_by_writing
from narvet.ground.extents import Extent, cut


class Delayed:
    """The device `below`, of which the first `border` bytes stay as they are until `replay`."""

    def __init__(self, below: BlockDevice, border: int) -> None:
        self._below = below
        self._border = border
        self._kept: list[tuple[int, int, bytes | None]] = []

    @property
    def size(self) -> int:
        """Bytes of the device."""
        return self._below.size

    @property
    def sector_size(self) -> int:
        """Bytes of a logical sector."""
        return self._below.sector_size

    def read(self, offset: int, length: int) -> bytes:
        """Return exactly `length` bytes from `offset`, as they will be."""
        check_read(self, offset, length)
        data = self._below.read(offset, length)
        if offset >= self._border:
            return data
        result = bytearray(data)
        for start, size, content in self._kept:
            for first, run in cut(Extent(start, size), offset, offset + length):
                part = bytes(run) if content is None else content[first - start : first - start + run]
                result[first - offset : first - offset + run] = part
        return bytes(result)

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Write all of `data`, or keep it for later."""
        check_write(self, offset, len(data))
        kept = min(max(self._border - offset, 0), len(data))
        if kept:
            self._kept.append((offset, kept, bytes(data[:kept])))
        if kept < len(data):
            self._below.write(offset + kept, data[kept:])

    def zero(self, offset: int, length: int) -> None:
        """Make a range read as zeros, at once or later."""
        check_write(self, offset, length)
        kept = min(max(self._border - offset, 0), length)
        if kept:
            self._kept.append((offset, kept, None))
        if kept < length:
            self._below.zero(offset + kept, length - kept)

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """Yield the runs that may hold data of what is there now: what is kept may lie elsewhere."""
        return self._below.extents(start, end)

    def flush(self) -> None:
        """Return when what was written is on stable storage; what is kept is not."""
        self._below.flush()

    def replay(self, device: BlockDevice) -> None:
        """Make the changes that were kept, in order, to the same device or to one that is staged over it."""
        for offset, length, content in self._kept:
            if content is None:
                zero_by_writing(device, offset, length)
            else:
                device.write(offset, content)
        self._kept.clear()
