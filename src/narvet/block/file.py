"""A block device kept in one file, or a real device of the host, byte for byte."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator
from io import FileIO
from typing import BinaryIO

from narvet.block.contract import check_read, check_write, zero_by_writing
from narvet.block.early import Early
from narvet.ground.budget import spend
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent, cut

_LONG = 256 << 10
_STORED_UNIT = 512  # POSIX: st_blocks counts units of 512 bytes


class FileDevice:
    """The bytes of an open file, or block device."""

    def __init__(self, file: BinaryIO, sector_size: int = 512) -> None:
        self._file = file
        self._sector = sector_size
        self._size = file.seek(0, os.SEEK_END)
        self._early = Early()
        self._run, self._run_since = Extent(0, 0), -1
        self._takes_places = isinstance(file, FileIO) and hasattr(os, "pread")  # with the call itself

    @property
    def size(self) -> int:
        """Bytes of the file."""
        return self._size

    @property
    def sector_size(self) -> int:
        """Bytes of a logical sector."""
        return self._sector

    @property
    def handle(self) -> int:
        """The file's number, for the system's own calls."""
        return self._file.fileno()

    def read(self, offset: int, length: int) -> bytes:
        """Return exactly `length` bytes from `offset`."""
        check_read(self, offset, length)
        spend(length)
        part = self._part(offset, length)
        if len(part) == length:
            return part
        parts, left = [part], length - len(part)
        while left:
            part = self._part(offset + length - left, left)
            if not part:
                raise ImageError(
                    f"the file ends at {offset + length - left}, shorter than the {self._size} bytes it had"
                )
            parts.append(part)
            left -= len(part)
        return b"".join(parts)

    def _part(self, offset: int, length: int) -> bytes:
        """Return what one call of the system gives from `offset` on, up to `length` bytes."""
        if self._takes_places:
            return os.pread(self._file.fileno(), length, offset)
        self._file.seek(offset)
        return self._file.read(length)

    def _put(self, offset: int, data: bytes | memoryview) -> int:
        """Return how many bytes of `data` one call of the system has written from `offset` on."""
        if self._takes_places:
            return os.pwrite(self._file.fileno(), data, offset)
        self._file.seek(offset)
        return self._file.write(data)

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Write all of `data` at `offset`."""
        check_write(self, offset, len(data))
        length, done = len(data), self._put(offset, data) if data else 0
        while done < length:
            done += self._put(offset + done, memoryview(data)[done:])
        if length >= _LONG:
            self._early.wrote(self.handle, offset, length)

    def zero(self, offset: int, length: int) -> None:
        """Make a range read as zeros, leaving the file's holes as they are."""
        check_write(self, offset, length)
        zero_by_writing(self, offset, length)

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """Yield the file's data runs, as its filesystem reports them; everything where it does not tell.

        Raises:
            OSError: the system could not say; a hole is never taken for granted.
        """
        end = self._size if end is None else min(end, self._size)
        about = os.fstat(self.handle)
        if not hasattr(os, "SEEK_DATA") or not stat.S_ISREG(about.st_mode):
            yield from cut(Extent(0, self._size), start, end)
            return
        if about.st_ctime_ns != self._run_since:
            self._run, self._run_since = Extent(0, 0), about.st_ctime_ns
        position = start
        while position < end:
            try:
                first, after = self._run_from(position)
            except OSError as error:
                if error.errno == errno.ENXIO:  # only a hole is left (lseek(2))
                    return
                if error.errno not in (errno.EINVAL, errno.ENOTSUP):
                    raise
                yield from cut(Extent(position, self._size - position), start, end)
                return
            spend()
            yield from cut(Extent(first, after - first), start, end)
            position = after

    def _run_from(self, position: int) -> tuple[int, int]:
        """Return where the first data from a position on begins, and where its run ends.

        The last run is kept in mind: a filesystem in memory goes through all of a file's pages to tell where data ends.
        """
        known = self._run
        if known.start <= position < known.end:
            return position, known.end
        first = os.lseek(self.handle, position, os.SEEK_DATA)
        after = os.lseek(self.handle, first, os.SEEK_HOLE)
        self._run = Extent(first, after - first)
        return first, after

    @property
    def stored(self) -> int:
        """Bytes that the file takes of its filesystem; all of a device."""
        about = os.fstat(self.handle)
        if not stat.S_ISREG(about.st_mode):
            return self._size
        return getattr(about, "st_blocks", -(-about.st_size // _STORED_UNIT)) * _STORED_UNIT

    @property
    def changed(self) -> int:
        """When the file's content was changed last, in nanoseconds since 1970."""
        return os.fstat(self.handle).st_mtime_ns

    @property
    def device_number(self) -> int | None:
        """The number of a block device, None for a file."""
        about = os.fstat(self.handle)
        return None if stat.S_ISREG(about.st_mode) else about.st_rdev

    def allocate(self, size: int) -> None:
        """Make the file `size` bytes long and give it all of them: by the system's own call, else by writing zeros."""
        self.resize(size)
        if hasattr(os, "posix_fallocate"):
            os.posix_fallocate(self.handle, 0, size)
            return
        blank = memoryview(bytes(1 << 20))
        for done in range(0, size, len(blank)):
            self.write(done, blank[: size - done])

    def resize(self, size: int) -> None:
        """Make the file longer, by a hole, or shorter."""
        self._file.truncate(size)
        self._size = size

    def flush(self) -> None:
        """Return when the file's content is on stable storage."""
        os.fsync(self._file.fileno())
