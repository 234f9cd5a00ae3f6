"""Who wants to know how many bytes are copied, of how many, however deep below that is done.

Most of what takes long is copying, under steps and filesystems that know nothing of one another, nor of a terminal.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

OnCopied = Callable[[int], object]
"""Called with numbers of bytes that were copied or compared.

If it has a method `expect`, that is called beforehand with how many more there will be, at most; if it has one `wait`,
that is called with what is being waited for.
"""

_current: ContextVar[OnCopied | None] = ContextVar("meter", default=None)


@contextmanager
def metered(on_copied: OnCopied | None) -> Iterator[None]:
    """Have `on_copied` called with numbers of bytes that are copied or compared while the context lasts.

    None leaves the one that is called already.
    """
    if on_copied is None:
        yield
        return
    token = _current.set(on_copied)
    try:
        yield
    finally:
        _current.reset(token)


def waiting(for_what: str) -> None:
    """Tell what is being waited for, in a few words, that others do; nothing once they have done it."""
    wait = getattr(_current.get(), "wait", None)
    if wait is not None:
        wait(for_what)


def copied(size: int) -> None:
    """Tell that so many bytes were copied or compared."""
    on_copied = _current.get()
    if on_copied is not None:
        on_copied(size)


def expected(size: int) -> None:
    """Tell that so many bytes, at most, are going to be copied or compared."""
    expect = getattr(_current.get(), "expect", None)
    if expect is not None:
        expect(size)
