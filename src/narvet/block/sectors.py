"""A block device seen with sectors of another size: only what reads tables can tell."""

from __future__ import annotations

from collections.abc import Iterator

from narvet.block.contract import BlockDevice
from narvet.ground.extents import Extent


class WithSectors:
    """The bytes of `device`, whose sectors are taken to be `sector_size` bytes."""

    def __init__(self, device: BlockDevice, sector_size: int) -> None:
        self._device = device
        self.sector_size = sector_size

    @property
    def size(self) -> int:
        """Bytes that can be read and written."""
        return self._device.size

    def read(self, offset: int, length: int) -> bytes:
        """Return exactly `length` bytes."""
        return self._device.read(offset, length)

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Write all of `data`."""
        self._device.write(offset, data)

    def zero(self, offset: int, length: int) -> None:
        """Make the range read as zeros."""
        self._device.zero(offset, length)

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """Yield the runs that may hold data."""
        return self._device.extents(start, end)

    def flush(self) -> None:
        """Flush the device."""
        self._device.flush()
