"""A block device whose changes up to a border wait, while those behind it, and in runs that are free, are made at once.

A filesystem that gets another size fills what nobody looks at first: what lies behind its old end, and what is free in
it. What then turns the old filesystem into the new one is little, and is made all at once (see `staged`).
"""

from __future__ import annotations

from bisect import bisect_right, insort
from collections.abc import Iterator
from typing import Protocol, runtime_checkable

from narvet.block.contract import BlockDevice, check_read, check_write
from narvet.ground.extents import Extent

_PAGE = 4096


@runtime_checkable
class Delays(Protocol):
    """A device that makes changes later, but for those in runs that are free until then."""

    def is_free(self, run: Extent) -> None:
        """Take note that nobody looks at a run yet: what is written to it is written at once."""


class Delayed:
    """The device `below`, of which the first `border` bytes stay as they are until `replay`, but for what is free."""

    def __init__(self, below: BlockDevice, border: int) -> None:
        self._below = below
        self._border = border
        self._kept: dict[int, bytes] = {}
        self._contents: dict[bytes, bytes] = {}  # copies of the same page are kept once
        self._free: list[Extent] = []

    @property
    def size(self) -> int:
        """Bytes of the device."""
        return self._below.size

    @property
    def sector_size(self) -> int:
        """Bytes of a logical sector."""
        return self._below.sector_size

    def is_free(self, run: Extent) -> None:
        """Take note that nobody looks at a run yet: what is written to it is written at once."""
        insort(self._free, run)

    def read(self, offset: int, length: int) -> bytes:
        """Return exactly `length` bytes from `offset`, as they will be."""
        check_read(self, offset, length)
        data = self._below.read(offset, length)
        if offset >= self._border or not self._kept:
            return data
        pages = range(offset // _PAGE, -(-(offset + length) // _PAGE))
        wanted = pages if len(pages) < len(self._kept) else [one for one in self._kept if one in pages]
        result = bytearray(data)
        for number in wanted:
            page = self._kept.get(number)
            if page is not None:
                start = max(number * _PAGE, offset)
                end = min(number * _PAGE + len(page), offset + length)
                result[start - offset : end - offset] = page[start - number * _PAGE : end - number * _PAGE]
        return bytes(result)

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Write all of `data`, or keep it for later."""
        check_write(self, offset, len(data))
        for run, waits in self._parts(offset, len(data)):
            part = memoryview(data)[run.start - offset : run.end - offset]
            if waits:
                self._keep(run.start, part)
            else:
                self._below.write(run.start, part)
                self._pass_on(run, part)

    def zero(self, offset: int, length: int) -> None:
        """Make a range read as zeros, at once or later."""
        check_write(self, offset, length)
        for run, waits in self._parts(offset, length):
            if not waits:
                self._below.zero(*run)
                self._pass_on(run, None)
                continue
            kept = (Extent(n * _PAGE, len(page)) for n, page in self._kept.items() if run.start < (n + 1) * _PAGE)
            for start, size in (*self._below.extents(run.start, run.end), *kept):
                first, end = max(start, run.start), min(start + size, run.end)
                if first < end:
                    self._keep(first, memoryview(bytes(end - first)))

    def _parts(self, offset: int, length: int) -> Iterator[tuple[Extent, bool]]:
        """Yield the parts of a range, and whether what is written there has to wait."""
        end, border = offset + length, max(min(self._border, offset + length), offset)
        while offset < border:
            at = bisect_right(self._free, offset, key=lambda run: run.start)
            free = self._free[at - 1] if at else Extent(0, 0)
            if free.end > offset:
                part, waits = Extent(offset, min(free.end, border) - offset), False
            else:
                after = self._free[at].start if at < len(self._free) else border
                part, waits = Extent(offset, min(after, border) - offset), True
            yield part, waits
            offset = part.end
        if offset < end:
            yield Extent(offset, end - offset), False

    def _pass_on(self, run: Extent, data: memoryview | None) -> None:
        """Enter what was written at once, None for zeros, in pages that are kept for what lies beside it."""
        if run.start >= self._border or not self._kept:
            return
        for number in range(run.start // _PAGE, -(-run.end // _PAGE)):
            page = self._kept.get(number)
            if page is not None:
                first, last = max(number * _PAGE, run.start), min(number * _PAGE + len(page), run.end)
                part = bytes(last - first) if data is None else data[first - run.start : last - run.start]
                at = first - number * _PAGE
                self._kept[number] = page[:at] + bytes(part) + page[at + len(part) :]

    def _keep(self, offset: int, data: memoryview) -> None:
        """Keep what is to be written before the border, by whole pages, the last of which ends at the border."""
        end = offset + len(data)
        for number in range(offset // _PAGE, -(-end // _PAGE)):
            start = number * _PAGE
            length = min(_PAGE, self._border - start)
            page = self._kept.get(number)
            first, last = max(start, offset), min(start + length, end)
            if first == start and last == start + length:
                self._put(number, bytes(data[first - offset : last - offset]))
                continue
            whole = bytearray(self._below.read(start, length) if page is None else page)
            whole[first - start : last - start] = data[first - offset : last - offset]
            self._put(number, bytes(whole))

    def _put(self, number: int, page: bytes) -> None:
        self._kept[number] = self._contents.setdefault(page, page)

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """Yield the runs that may hold data of what is there now: what is kept may lie elsewhere."""
        return self._below.extents(start, end)

    def flush(self) -> None:
        """Return when what was written is on stable storage; what is kept is not."""
        self._below.flush()

    def replay(self, device: BlockDevice) -> None:
        """Make the changes that were kept, in order, to the same device or to one that is staged over it."""
        for number in sorted(self._kept):
            device.write(number * _PAGE, self._kept[number])
        self._kept.clear()
        self._contents.clear()
