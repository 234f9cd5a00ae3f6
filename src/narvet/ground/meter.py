"""Who wants to know how many bytes are copied, however deep below that is done.

Most of what takes long is copying, under steps and filesystems that know nothing of one another, nor of a terminal.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

OnCopied = Callable[[int], object]

_current: ContextVar[OnCopied | None] = ContextVar("meter", default=None)


@contextmanager
def metered(on_copied: OnCopied) -> Iterator[None]:
    """Have `on_copied` called with numbers of bytes that are copied or compared while the context lasts."""
    token = _current.set(on_copied)
    try:
        yield
    finally:
        _current.reset(token)


def copied(size: int) -> None:
    """Tell that so many bytes were copied or compared."""
    on_copied = _current.get()
    if on_copied is not None:
        on_copied(size)
