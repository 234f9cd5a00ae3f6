"""Processes that do calls, as many at once as there are; where one of them dies, others take their place."""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import BrokenExecutor, Executor, Future, ProcessPoolExecutor
from multiprocessing import get_context
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from multiprocessing.context import BaseContext


class Crew(Executor):
    """So many processes, which start as `context` has it and call `begin` with `args` first.

    When one dies, so do all that were at work beside it, and their calls end with BrokenExecutor. The next call has new
    ones, started afresh: by then this process has threads, and can be copied no more.
    """

    def __init__(
        self, count: int, context: BaseContext, begin: Callable[..., object], args: tuple[Any, ...] = ()
    ) -> None:
        self._guard = threading.Lock()
        self._pool = ProcessPoolExecutor(count, context, begin, args)
        self._others = (count, get_context("spawn"), begin, args)

    def submit(self, call: Callable[..., Any], /, *args: Any, **named: Any) -> Future[Any]:
        """Have a call done by one of the processes."""
        with self._guard:
            try:
                return self._pool.submit(call, *args, **named)
            except BrokenExecutor:
                self._pool.shutdown(wait=False, cancel_futures=True)
                self._pool = ProcessPoolExecutor(*self._others)
                return self._pool.submit(call, *args, **named)

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        """End the processes once they have done what they are at."""
        with self._guard:
            self._pool.shutdown(wait=wait, cancel_futures=cancel_futures)
