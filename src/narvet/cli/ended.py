"""Commands that go on until they are ended."""

from __future__ import annotations

import signal
import threading
from collections.abc import Callable
from types import FrameType
from typing import Any


def ended_by_signals() -> threading.Event:
    """Return what is set by the first Ctrl-C or end signal; a second Ctrl-C ends at once."""
    ended = threading.Event()

    def end(number: int, frame: FrameType | None) -> None:
        del frame
        ended.set()
        signal.signal(number, before[number])

    before: dict[int, Callable[..., Any] | int | None] = {
        one: signal.signal(one, end) for one in (signal.SIGINT, signal.SIGTERM)
    }
    return ended
