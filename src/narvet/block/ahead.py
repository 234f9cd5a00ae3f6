"""What is worked out ahead of its use, in a thread of its own: reading goes on while what was read is written."""

from __future__ import annotations

import contextvars
import queue
import threading
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from typing import Generic, TypeVar

T = TypeVar("T")
_AHEAD = 4


class _End:
    """Comes last: why there is no more, None where that was all."""

    def __init__(self, error: BaseException | None = None) -> None:
        self.error = error


@contextmanager
def ahead(values: Iterable[T]) -> Iterator[Iterator[T]]:
    """Yield values that a thread takes from `values`, a few of them before they are asked for.

    An error there is raised where the value would have come. Once the context is left, the thread has ended.
    """
    work = _Work(values)
    try:
        yield work.taken()
    finally:
        work.stop()


class _Work(Generic[T]):
    def __init__(self, values: Iterable[T]) -> None:
        self._values = values
        self._ready: queue.Queue[tuple[T] | _End] = queue.Queue(_AHEAD)
        self._stopped = threading.Event()
        run = contextvars.copy_context().run
        self._thread = threading.Thread(target=run, args=(self._go,), daemon=True)
        self._thread.start()

    def _go(self) -> None:
        try:
            for value in self._values:
                self._put((value,))
                if self._stopped.is_set():
                    return
        except BaseException as error:  # it is raised again where the value is waited for
            self._put(_End(error))
        else:
            self._put(_End())

    def _put(self, what: tuple[T] | _End) -> None:
        while not self._stopped.is_set():
            try:
                self._ready.put(what, timeout=0.1)
            except queue.Full:
                continue
            return

    def taken(self) -> Iterator[T]:
        while not isinstance(found := self._ready.get(), _End):
            yield found[0]
        if found.error is not None:
            raise found.error

    def stop(self) -> None:
        self._stopped.set()
        self._thread.join()
