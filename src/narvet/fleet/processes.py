"""Calls done by several processes of this machine.

They are started here and are nobody else's, so their calls and answers go between them as the interpreter itself
passes values on, which takes a third of the time that `fleet.wire` takes.
"""

from __future__ import annotations

import copyreg
import os
import signal
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from types import MappingProxyType
from typing import TYPE_CHECKING, Any

from narvet.block.leases import works_for
from narvet.fleet.engine import Outcome, Then, outcome_of, processors
from narvet.fleet.wire import answered, packed
from narvet.ground.errors import BugError, NarvetError, RefusedError

if TYPE_CHECKING:
    from concurrent.futures import Future
    from multiprocessing.context import BaseContext

    from narvet.fleet.crew import Crew


copyreg.pickle(MappingProxyType, lambda one: (MappingProxyType, (dict(one),)))  # which values have as defaults


class Processes:
    """Has calls done by as many processes as the machine has processors, or by `jobs` of them.

    They start with the first call after `begin`; before that, calls are done in this process.
    """

    def __init__(self, jobs: int | None = None) -> None:
        self._jobs = jobs or processors()
        self._pool: Crew | None = None
        self._under_way = 0
        self._guard = threading.Lock()

    def width(self, host: str) -> int:  # noqa: ARG002 (all hosts are this one)
        """Return how many processes there are, and some more, so that none has to wait for its next call."""
        return 1 if self._pool is None else self._jobs + 2

    def is_far(self, host: str) -> bool:  # noqa: ARG002 (all hosts are this one)
        """Return that it is not."""
        return False

    def opens(self, host: str) -> bool:  # noqa: ARG002 (all hosts are this one)
        """Return that they have none: passphrases stay with the process that was given them."""
        return False

    def meet(self, hosts: Iterable[str]) -> None:
        """Do nothing: all hosts are this one."""

    def begin(self) -> None:
        """Start the processes."""
        from narvet.fleet.crew import Crew

        if self._pool is None and self._jobs > 1:
            self._pool = Crew(self._jobs, _context(), end_with_parent)
            works_for(os.getpid())
            self._pool.submit(os.getpid).result()  # those that are forked are forked now

    def submit(self, host: str, call: Callable[..., Any], args: Sequence[Any], then: Then) -> None:  # noqa: ARG002
        """Have a call done by one of the processes."""
        if self._pool is None:
            then(outcome_of(call, args))
            return
        future = self._pool.submit(come_to, call, tuple(args))
        with self._guard:
            self._under_way += 1
        future.add_done_callback(lambda done: self._hand_on(done, then))

    def _hand_on(self, done: Future[Outcome], then: Then) -> None:
        with self._guard:
            self._under_way -= 1
        then(outcome_from(done))

    def stop(self) -> None:
        """Drop what was not begun, stop what was, and end the processes."""
        if self._pool is None:
            return
        if self._under_way:
            import multiprocessing

            for child in multiprocessing.active_children():
                if child.pid is not None:
                    os.kill(child.pid, signal.SIGINT)  # so that each step undoes what it has begun
        self._pool.shutdown(wait=True, cancel_futures=True)
        self._pool = None
        works_for(None)


PROCESS_GONE = "a process that was at work ended before its work did, perhaps for lack of memory"
_GONE = f"{PROCESS_GONE}; write again to go on"


def _context() -> BaseContext:
    """Return how processes start: as copies of this one where the system can do that, which takes no time."""
    import multiprocessing

    return multiprocessing.get_context("fork" if "fork" in multiprocessing.get_all_start_methods() else "spawn")


def end_with_parent() -> None:
    """End this process at once when the one that it works for ends, also where that was killed."""
    import multiprocessing
    from multiprocessing.connection import wait

    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # but while something is done
    parent = multiprocessing.parent_process()
    works_for(os.getppid())

    def watch() -> None:
        if parent is not None:
            wait([parent.sentinel])
            os._exit(1)

    threading.Thread(target=watch, daemon=True).start()


def come_to(call: Callable[..., Any], args: tuple[Any, ...]) -> Outcome:
    """Carry a call out in this process, which does so for another one, and return what it came to.

    What goes wrong is an answer too; so is that it was stopped.
    """
    try:
        with _can_be_stopped():
            return Outcome(call(*args))
    except KeyboardInterrupt:
        return Outcome(error=RefusedError("it was stopped"))
    except Exception as error:
        return Outcome(error=sent(error))


def carried_out(data: bytes) -> bytes:
    """Carry a call out that came over the wire, and return what is to be sent back of it."""
    outcome = come_to(answered, (data,))
    try:
        return packed(outcome)
    except TypeError as error:  # what it returned is none of Narvet's values
        return packed(Outcome(error=sent(error)))


@contextmanager
def _can_be_stopped() -> Iterator[None]:
    """Have Ctrl-C stop what is done while the context lasts, so that it undoes what it has begun."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    before = signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)


def sent(error: Exception) -> Exception:
    """Return an error as it goes over the wire: Narvet's own as they are, others as what the system refused."""
    if isinstance(error, NarvetError):
        return error
    if isinstance(error, OSError):
        what = f"{error.filename}: " if error.filename else ""
        return RefusedError(f"{what}{error.strerror or error}")
    return BugError(f"{type(error).__name__}: {error}")


def outcome_from(done: Future[Outcome]) -> Outcome:
    """Return what a call came to that was done by another process of this machine."""
    from concurrent.futures import BrokenExecutor

    try:
        return done.result()
    except BrokenExecutor:
        return Outcome(error=RefusedError(_GONE))
    except Exception as error:  # whatever carried it
        return Outcome(error=RefusedError(f"it was not done: {type(error).__name__}: {str(error)[:200]}"))
