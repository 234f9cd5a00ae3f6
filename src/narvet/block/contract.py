"""What every block device can do, and the check of bounds they share."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol

from narvet.ground.errors import BugError, ImageError
from narvet.ground.extents import Extent

_BLANK = bytes(1 << 20)


class BlockDevice(Protocol):
    """Bytes addressed from 0 to `size`; offsets and lengths are bytes and need no alignment."""

    @property
    def size(self) -> int:
        """Bytes that can be read and written."""

    @property
    def sector_size(self) -> int:
        """Bytes of a logical sector, the unit of the tables on it."""

    def read(self, offset: int, length: int) -> bytes:
        """Return exactly `length` bytes; ImageError if they do not all lie on the device."""

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Write all of `data`; BugError if it does not all fit on the device."""

    def zero(self, offset: int, length: int) -> None:
        """Make the range read as zeros, writing only where it may hold something else."""

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """Yield the runs between `start` and `end` (the device's end) that may hold data, ascending, cut to them."""

    def flush(self) -> None:
        """Return when everything written is on stable storage."""


def check_read(device: BlockDevice, offset: int, length: int) -> None:
    """Raise ImageError unless the range lies on the device: offsets to read come from images, which are not trusted."""
    if offset < 0 or length < 0 or offset + length > device.size:
        raise ImageError(
            f"{length} bytes at {offset} are asked for, which the disk of {device.size} bytes does not have; "
            "it is cut short or its tables are damaged"
        )


def check_write(device: BlockDevice, offset: int, length: int) -> None:
    """Raise BugError unless the range lies on the device: offsets to write are Narvet's own."""
    if offset < 0 or length < 0 or offset + length > device.size:
        raise BugError(f"a write of {length} bytes at {offset} leaves the disk of {device.size} bytes")


def zero_by_writing(device: BlockDevice, offset: int, length: int) -> None:
    """Write zeros over the parts of a range that may hold data; holes stay holes."""
    for start, run in list(device.extents(offset, offset + length)):
        for position in range(start, start + run, len(_BLANK)):
            device.write(position, memoryview(_BLANK)[: min(len(_BLANK), start + run - position)])
