"""A volume's bytes as a block device: what is read comes, and what is written goes, in larger pieces."""

from __future__ import annotations

from collections.abc import Iterator

from narvet.block.contract import check_read, check_write
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent
from narvet.services.client import MOST_AT_ONCE, Service

_AHEAD = 1 << 18  # bytes that are fetched where fewer are asked for
_MOST_RUNS = 1 << 22


class VolumeDevice:
    """The volume of a service, `size` bytes large."""

    def __init__(self, service: Service, number: str, size: int, sector_size: int = 512) -> None:
        self._service = service
        self._number = number
        self._size = size
        self._sector_size = sector_size
        self._ahead: tuple[int, bytes] = (0, b"")
        self._behind: tuple[int, bytearray] = (0, bytearray())

    @property
    def size(self) -> int:
        """Bytes of the volume."""
        return self._size

    @property
    def sector_size(self) -> int:
        """Bytes of a logical sector."""
        return self._sector_size

    def read(self, offset: int, length: int) -> bytes:
        """Return bytes of the volume."""
        check_read(self, offset, length)
        self.flush()
        start, data = self._ahead
        if start <= offset and offset + length <= start + len(data):
            return data[offset - start : offset - start + length]
        if length < _AHEAD:
            data = self._service.read(self._number, offset, min(_AHEAD, self._size - offset))
            self._ahead = (offset, data)
            return data[:length]
        ends = offset + length
        return b"".join(
            self._service.read(self._number, at, min(MOST_AT_ONCE, ends - at))
            for at in range(offset, ends, MOST_AT_ONCE)
        )

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Write bytes to the volume; those that follow one another go together, at the latest with `flush`."""
        check_write(self, offset, len(data))
        self._ahead = (0, b"")
        start, behind = self._behind
        if behind and (start + len(behind) != offset or len(behind) + len(data) > MOST_AT_ONCE):
            self.flush()
            start, behind = self._behind
        if len(data) < MOST_AT_ONCE:
            self._behind = (start if behind else offset, behind)
            behind += data
            return
        view = memoryview(data)
        for at in range(0, len(view), MOST_AT_ONCE):
            self._service.write(self._number, offset + at, bytes(view[at : at + MOST_AT_ONCE]))

    def zero(self, offset: int, length: int) -> None:
        """Make a range read as zeros."""
        check_write(self, offset, length)
        self.flush()
        self._ahead = (0, b"")
        if length:
            self._service.zero(self._number, offset, length)

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """Yield the runs that may hold data."""
        self.flush()
        at, ends, count = start, self._size if end is None else end, 0
        while at < ends:
            told = self._service.stored(self._number, at, ends - at)
            for offset, length in told.runs:
                count += 1
                if offset < at or offset + length > ends or count > _MOST_RUNS:
                    raise ImageError(f"{self._service.url}: the service tells of runs that cannot be")
                yield Extent(offset, length)
                at = offset + length
            if not told.more or not told.runs:
                return

    def flush(self) -> None:
        """Send what was written and not sent yet; what a service has taken is on stable storage."""
        start, behind = self._behind
        if behind:
            self._service.write(self._number, start, bytes(behind))
            self._behind = (0, bytearray())
