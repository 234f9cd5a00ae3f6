"""What work is given to: an engine that has calls done, here or elsewhere, several at once.

A call is a function that `runs_elsewhere`, with its arguments. What knows nothing of engines has its calls done one
after another, in this process.
"""

from __future__ import annotations

import os
import queue
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any, Protocol, TypeVar

from narvet.ground.errors import NarvetError
from narvet.ground.values import Frozen

T = TypeVar("T")


class Outcome(Frozen, gc=True):
    """What a call came to: what it returned, or the error that it ended with, whose trace may lead back to it."""

    value: Any = None
    error: Exception | None = None

    @property
    def result(self) -> Any:
        """What the call returned.

        Raises:
            Exception: the one that it ended with.
        """
        if self.error is not None:
            raise self.error
        return self.value


Then = Callable[[Outcome], object]


class Engine(Protocol):
    """Has calls done."""

    def width(self, host: str) -> int:
        """Return how many calls are worth being under way at once on a host; at least 1."""

    def submit(self, host: str, call: Callable[..., Any], args: Sequence[Any], then: Then) -> None:
        """Have a call done on a host, empty for this machine, and `then` called once it is, perhaps in a thread."""

    def is_far(self, host: str) -> bool:
        """Return whether calls for a host are done by processes that were not started here."""

    def opens(self, host: str) -> bool:
        """Return whether what does the calls for a host has the passphrase of what is sealed there."""

    def meet(self, hosts: Iterable[str]) -> None:
        """Raise RefusedError where calls for these hosts cannot be done at all."""

    def begin(self) -> None:
        """Get ready for many calls."""

    def stop(self) -> None:
        """Drop the calls that were not begun, and wait for no others."""


class Here:
    """Does calls at once, in this process."""

    def width(self, host: str) -> int:  # noqa: ARG002 (all hosts are this one)
        """Return 1."""
        return 1

    def submit(self, host: str, call: Callable[..., Any], args: Sequence[Any], then: Then) -> None:  # noqa: ARG002
        """Do a call."""
        then(outcome_of(call, args))

    def is_far(self, host: str) -> bool:  # noqa: ARG002 (all hosts are this one)
        """Return that it is not."""
        return False

    def opens(self, host: str) -> bool:  # noqa: ARG002 (all hosts are this one)
        """Return that it has it: calls are done in this process."""
        return True

    def meet(self, hosts: Iterable[str]) -> None:
        """Do nothing: all hosts are this one."""

    def begin(self) -> None:
        """Do nothing: it always is ready."""

    def stop(self) -> None:
        """Do nothing: no call is under way."""


def processors() -> int:
    """Return how many processors this process may use."""
    own = getattr(os, "sched_getaffinity", None)
    return len(own(0)) if own is not None else os.cpu_count() or 1


def outcome_of(call: Callable[..., Any], args: Sequence[Any]) -> Outcome:
    """Return what a call comes to where the person asking, an image or the system may be to blame."""
    try:
        return Outcome(call(*args))
    except (NarvetError, OSError) as error:
        return Outcome(error=error)


HERE: Engine = Here()
_current: ContextVar[Engine] = ContextVar("engine", default=HERE)


@contextmanager
def working_with(engine: Engine) -> Iterator[None]:
    """Have calls done by an engine while the context lasts."""
    token = _current.set(engine)
    try:
        yield
    except BaseException:
        engine.stop()
        raise
    finally:
        _current.reset(token)


def engine() -> Engine:
    """Return the engine that has calls done now."""
    return _current.get()


def all_of(call: Callable[..., T], asked: Iterable[tuple[str, Sequence[Any]]]) -> list[T]:
    """Return what a call returns for several arguments, each with its host, in their order.

    Raises:
        Exception: the first one that one of them ended with; the others are finished then, or were dropped.
    """
    own, waiting = engine(), list(asked)
    results: list[Any] = [None] * len(waiting)
    came: queue.SimpleQueue[tuple[int, Outcome]] = queue.SimpleQueue()
    own.meet(dict.fromkeys(host for host, _ in waiting if host))
    if len(waiting) > 1:
        own.begin()
    for number, (host, args) in enumerate(waiting):
        own.submit(host, call, args, lambda outcome, number=number: came.put((number, outcome)))  # type: ignore[misc]
    for _ in waiting:
        number, outcome = came.get()
        results[number] = outcome.result
    return results
