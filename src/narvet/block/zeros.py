"""A block device that holds nothing but zeros."""

from __future__ import annotations

from collections.abc import Iterator

from narvet.block.contract import check_read, check_write
from narvet.ground.errors import BugError
from narvet.ground.extents import Extent


class Zeros:
    """So many bytes of zeros, for reading only."""

    def __init__(self, size: int, sector_size: int = 512) -> None:
        self._size = size
        self._sector = sector_size

    @property
    def size(self) -> int:
        """Bytes."""
        return self._size

    @property
    def sector_size(self) -> int:
        """Bytes of a logical sector."""
        return self._sector

    def read(self, offset: int, length: int) -> bytes:
        """Return zeros."""
        check_read(self, offset, length)
        return bytes(length)

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Refuse: nothing can be kept here."""
        raise BugError(f"{len(data)} bytes at {offset} were to be written to a run of zeros")

    def zero(self, offset: int, length: int) -> None:
        """They are zero already."""
        check_write(self, offset, length)

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """Yield nothing."""
        del start, end
        return iter(())

    def flush(self) -> None:
        """Nothing to flush."""
