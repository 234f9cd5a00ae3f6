"""What is written in long runs goes to the disk while more is being worked out, so that little is left at its end."""

from __future__ import annotations

import ctypes

from narvet.ground.libc import libc_call

_WRITE = 2  # SYNC_FILE_RANGE_WRITE (sync_file_range(2)): begin, and wait for nothing
_AT_ONCE = 8 << 20
_BETWEEN = 64 << 10  # of a format's own, written after what lies behind it


class Early:
    """The run that is being written to a file, of which what is long enough is sent."""

    def __init__(self) -> None:
        self._start = self._end = 0

    def wrote(self, handle: int, offset: int, length: int) -> None:
        """Note what was written, and begin to send it once it is much; nothing is promised by that."""
        if not self._end <= offset <= self._end + _BETWEEN:
            self._start = offset
        self._end = offset + length
        if self._end - self._start >= _AT_ONCE:
            _send(handle, self._start, self._end - self._start)
            self._start = self._end


def _send(handle: int, offset: int, length: int) -> None:
    call = libc_call("sync_file_range")
    if call is not None:  # where it is refused, the end of the work does it
        call(handle, ctypes.c_int64(offset), ctypes.c_int64(length), ctypes.c_uint(_WRITE))
