"""A file with the changes of a log laid over it in memory, for reading an image that is not to be written to."""

from __future__ import annotations

from collections.abc import Sequence

from narvet.block.contract import check_read
from narvet.block.file import FileDevice


class Replayed(FileDevice):
    """The file as it will be once its log is replayed; the file itself stays as it is."""

    def __init__(self, file: FileDevice, changes: Sequence[tuple[int, bytes]], length: int) -> None:
        self._below = file
        self._changes = changes
        self._size = max(file.size, length, *(offset + len(content) for offset, content in changes))
        self._sector = file.sector

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

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Opened for reading only."""
        raise NotImplementedError

    def flush(self) -> None:
        """Nothing is written."""
