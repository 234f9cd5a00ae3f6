"""A volume of a pool as a block device: its extents, wherever they lie on the members."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator, Mapping, Sequence

from narvet.block.contract import BlockDevice, check_read, check_write
from narvet.formats.pools.tree import Pool, PoolVolume, Segment
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent
from narvet.ground.values import Frozen


class Stretch(Frozen):
    """`size` bytes of a volume from its byte `start`, chunk by chunk on the devices in turn, each from a byte on."""

    start: int
    size: int
    parts: tuple[tuple[BlockDevice, int], ...]
    chunk: int


class VolumeDevice:
    """A volume over devices: each of its copies is a row of stretches. Reading is from the first copy."""

    def __init__(self, copies: Sequence[Sequence[Stretch]], sector_size: int) -> None:
        self._copies = copies
        self._starts = [[one.start for one in copy] for copy in copies]
        self._size = sum(one.size for one in copies[0])
        self._sector = sector_size

    @property
    def size(self) -> int:
        """Bytes of the volume."""
        return self._size

    @property
    def sector_size(self) -> int:
        """Bytes of a logical sector."""
        return self._sector

    def _pieces(self, copy: int, offset: int, length: int) -> Iterator[tuple[BlockDevice, int, int, int]]:
        """Yield device, byte there, byte of the volume and length of each run that lies in one piece."""
        stretches, end = self._copies[copy], offset + length
        at = max(bisect_right(self._starts[copy], offset) - 1, 0)
        while offset < end:
            one = stretches[at]
            last = min(end, one.start + one.size)
            while offset < last:
                inside = offset - one.start
                if len(one.parts) == 1:
                    device, start = one.parts[0]
                    yield device, start + inside, offset, last - offset
                    break
                row, rest = divmod(inside, one.chunk)
                turn, which = divmod(row, len(one.parts))
                device, start = one.parts[which]
                size = min(one.chunk - rest, last - offset)
                yield device, start + turn * one.chunk + rest, offset, size
                offset += size
            offset, at = last, at + 1

    def read(self, offset: int, length: int) -> bytes:
        """Return exactly `length` bytes from `offset`."""
        check_read(self, offset, length)
        return b"".join(device.read(start, size) for device, start, _, size in self._pieces(0, offset, length))

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Write all of `data` at `offset`, to every copy."""
        check_write(self, offset, len(data))
        view = memoryview(data)
        for copy in range(len(self._copies)):
            for device, start, place, size in self._pieces(copy, offset, len(data)):
                device.write(start, view[place - offset : place - offset + size])

    def zero(self, offset: int, length: int) -> None:
        """Make a range read as zeros, in every copy."""
        check_write(self, offset, length)
        for copy in range(len(self._copies)):
            for one in self._copies[copy]:
                first, last = max(offset, one.start), min(offset + length, one.start + one.size)
                if first < last and len(one.parts) > 1:
                    _zero_striped(one, first - one.start, last - one.start)
                elif first < last:
                    device, start = one.parts[0]
                    device.zero(start + first - one.start, last - first)

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """Yield the runs that may hold data, ascending."""
        last = self._size if end is None else min(end, self._size)
        pending: Extent | None = None
        for one in self._copies[0]:
            first, stop = max(start, one.start), min(last, one.start + one.size)
            if first >= stop:
                continue
            for run in _extents_of(one, first - one.start, stop - one.start):
                found = Extent(one.start + run.start, run.length)
                if pending is not None and pending.end >= found.start:
                    pending = Extent(pending.start, max(found.end, pending.end) - pending.start)
                    continue
                if pending is not None:
                    yield pending
                pending = found
        if pending is not None:
            yield pending

    def flush(self) -> None:
        """Flush every device below."""
        for device in {id(part[0]): part[0] for copy in self._copies for one in copy for part in one.parts}.values():
            device.flush()


def _spans(one: Stretch, first: int, last: int) -> Iterator[tuple[int, int, int]]:
    """Yield for each part of a striped stretch what bytes `first` to `last` of it take there: part, start, end."""
    width = len(one.parts) * one.chunk
    for at in range(len(one.parts)):

        def upto(byte: int, at: int = at) -> int:
            turn, inside = divmod(byte, width)
            return turn * one.chunk + min(max(inside - at * one.chunk, 0), one.chunk)

        start, end = upto(first), upto(last)
        if start < end:
            yield at, start, end


def _zero_striped(one: Stretch, first: int, last: int) -> None:
    for at, start, end in _spans(one, first, last):
        device, base = one.parts[at]
        device.zero(base + start, end - start)


def _extents_of(one: Stretch, first: int, last: int) -> Iterator[Extent]:
    """Yield the runs of a stretch that may hold data; of a striped one they may be longer than what is there."""
    if len(one.parts) == 1:
        device, base = one.parts[0]
        for run in device.extents(base + first, base + last):
            yield Extent(run.start - base, run.length)
        return
    width = len(one.parts) * one.chunk
    runs: list[Extent] = []
    for at, start, end in _spans(one, first, last):
        device, base = one.parts[at]
        for run in device.extents(base + start, base + end):
            turn, turns = (run.start - base) // one.chunk, -(-(run.end - base) // one.chunk)
            low, high = max(turn * width, first), min(turns * width, last)
            if low < high:
                runs.append(Extent(low, high - low))
    reach = first
    for run in sorted(runs):
        if run.end > reach:
            yield Extent(max(run.start, reach), run.end - max(run.start, reach))
            reach = run.end


def volume_device(pool: Pool, volume: PoolVolume, devices: Mapping[str, BlockDevice], sector_size: int) -> VolumeDevice:
    """Return a volume over the devices that are its pool's members, by their names in the text.

    A copy on a member that is missing is left out, as long as another one is whole.

    Raises:
        ImageError: a member is missing, or smaller than the text says, or the volume is of a kind not known here.
    """
    copies: list[list[Stretch]] = []
    missing: str | None = None
    for segments in pool.copies(volume):
        names = {name for one in segments for name, _ in one.parts}
        gone = sorted(names - devices.keys())
        if gone:
            missing = gone[0]
            continue
        copies.append([_stretch(pool, one, devices) for one in segments])
    if not copies:
        hint = f", which a guest had as {pool.member(missing).hint}" if missing and pool.member(missing).hint else ""
        raise ImageError(f"volume {volume.name} lies on member {missing} of pool {pool.name}, which is missing{hint}")
    return VolumeDevice(copies, sector_size)


def _stretch(pool: Pool, segment: Segment, devices: Mapping[str, BlockDevice]) -> Stretch:
    parts: list[tuple[BlockDevice, int]] = []
    each = segment.count // len(segment.parts) * pool.extent
    for name, first in segment.parts:
        start = pool.member(name).start + first * pool.extent
        if start + each > devices[name].size:
            raise ImageError(f"member {name} of pool {pool.name} is smaller than its volumes need")
        parts.append((devices[name], start))
    return Stretch(segment.start * pool.extent, segment.count * pool.extent, tuple(parts), segment.chunk)
