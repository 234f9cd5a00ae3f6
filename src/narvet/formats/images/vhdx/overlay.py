"""A file with the changes of a log laid over it in memory, for reading an image that is not to be written to."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from narvet.block.contract import check_read
from narvet.block.files import File
from narvet.ground.errors import BugError
from narvet.ground.extents import Extent, cut


class Replayed:
    """The file as it will be once its log is replayed; the file itself stays as it is, and cannot be written to."""

    def __init__(self, file: File, changes: Sequence[tuple[int, bytes]], length: int) -> None:
        self._below = file
        self._changes = changes
        self.size = max(file.size, length, *(offset + len(content) for offset, content in changes))
        self.sector_size = file.sector_size

    @property
    def stored(self) -> int:
        """Bytes that the file takes of its filesystem."""
        return self._below.stored

    @property
    def changed(self) -> int:
        """When the file's content was changed last, in nanoseconds since 1970."""
        return self._below.changed

    def read(self, offset: int, length: int) -> bytes:
        """Return exactly `length` bytes from `offset`."""
        check_read(self, offset, length)
        there = min(length, max(self._below.size - offset, 0))
        data = bytearray(self._below.read(offset, there) if there else b"").ljust(length, b"\0")
        for start, content in self._changes:
            first, last = max(start, offset), min(start + len(content), offset + length)
            if first < last:
                data[first - offset : last - offset] = content[first - start : last - start]
        return bytes(data)

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """Yield everything."""
        return cut(Extent(0, self.size), start, self.size if end is None else end)

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Raise BugError."""
        raise BugError(f"a write of {len(data)} bytes at {offset} of an image that was opened to be read")

    def zero(self, offset: int, length: int) -> None:
        """Raise BugError."""
        raise BugError(f"zeroing {length} bytes at {offset} of an image that was opened to be read")

    def resize(self, size: int) -> None:
        """Raise BugError."""
        raise BugError(f"resizing to {size} bytes an image that was opened to be read")

    allocate = resize

    def flush(self) -> None:
        """Do nothing: nothing is written."""
