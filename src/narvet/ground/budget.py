"""A budget for what is not trusted: how much work and time reading an image, a table or a sheet may cost.

The code that starts to read something says how large it is, and each read spends. What a sound image of that size could
never need ends in an error, so that a hostile one costs seconds, not hours.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from narvet.ground.errors import ImageError
from narvet.ground.values import Draft

_READS = 1_000_000  # of an image of whatever size; a further one for every so many bytes that it stores
_BYTES_A_READ = 128
_BYTES = 1 << 30  # likewise
_TIMES = 64  # everything stored may be read so often: structures are checked from several sides
_SECONDS = 60
_BYTES_A_SECOND = 1 << 20  # the slowest of stores and machines
_TIME_EVERY = 256  # reads between two looks at the clock


class Budget(Draft):
    """What is left to be spent: reads, bytes, and the clock's reading at which it ends."""

    reads: int
    bytes: int
    until: float


_current: ContextVar[Budget | None] = ContextVar("budget", default=None)


@contextmanager
def budget(stored: int) -> Iterator[None]:
    """Limit what is read while the context lasts, for something that stores that many bytes.

    A budget within another one is a part of it: the outer one goes on being spent.
    """
    if _current.get() is not None:
        yield
        return
    seconds = _SECONDS + stored / _BYTES_A_SECOND
    token = _current.set(Budget(_READS + stored // _BYTES_A_READ, _BYTES + _TIMES * stored, time.monotonic() + seconds))
    try:
        yield
    finally:
        _current.reset(token)


def spend(length: int = 0, reads: int = 1) -> None:
    """Spend from the budget that is set, if any is.

    Raises:
        ImageError: nothing is left.
    """
    left = _current.get()
    if left is None:
        return
    left.reads -= reads
    left.bytes -= length
    late = left.reads % _TIME_EVERY == 0 and time.monotonic() > left.until
    if left.reads < 0 or left.bytes < 0 or late:
        raise ImageError(
            "reading it takes more work than any sound image of its size; its tables are damaged or made to mislead"
        )
