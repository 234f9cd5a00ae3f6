"""A block device kept in one file, or a real device of the host, byte for byte."""

from __future__ import annotations

import os
from collections.abc import Iterator
from typing import BinaryIO

from narvet.block.contract import Extent, check_read, check_write, zero_by_writing
from narvet.errors import ImageError


class FileDevice:
    """The bytes of an open file; its size is fixed when it is opened."""

    def __init__(self, file: BinaryIO, sector: int = 512) -> None:
        self._file = file
        self._sector = sector
        self._size = file.seek(0, os.SEEK_END)

    @property
    def size(self) -> int:
        """Bytes of the file."""
        return self._size

    @property
    def sector(self) -> int:
        """Bytes of a logical sector."""
        return self._sector

    def read(self, offset: int, length: int) -> bytes:
        """Return exactly `length` bytes from `offset`."""
        check_read(self, offset, length)
        self._file.seek(offset)
        parts: list[bytes] = []
        left = length
        while left:
            part = self._file.read(left)
            if not part:
                raise ImageError(
                    f"the file ends at {offset + length - left}, shorter than the {self._size} bytes it had"
                )
            parts.append(part)
            left -= len(part)
        return parts[0] if len(parts) == 1 else b"".join(parts)

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Write all of `data` at `offset`."""
        check_write(self, offset, len(data))
        self._file.seek(offset)
        view = memoryview(data)
        while view:
            view = view[self._file.write(view) :]

    def zero(self, offset: int, length: int) -> None:
        """Make a range read as zeros, leaving the file's holes as they are."""
        check_write(self, offset, length)
        zero_by_writing(self, offset, length)

    def extents(self) -> Iterator[Extent]:
        """Yield the file's data runs, as its filesystem reports them; the whole file where it cannot."""
        if not hasattr(os, "SEEK_DATA"):
            yield Extent(0, self._size)
            return
        position, handle = 0, self._file.fileno()
        while position < self._size:
            try:
                start = os.lseek(handle, position, os.SEEK_DATA)
            except OSError:  # ENXIO: only a hole is left
                return
            position = os.lseek(handle, start, os.SEEK_HOLE)
            yield Extent(start, position - start)

    def flush(self) -> None:
        """Return when the file's content is on stable storage."""
        os.fsync(self._file.fileno())
