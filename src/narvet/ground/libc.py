"""Calls of the system's C library that Python's own does not have; each may be missing."""

from __future__ import annotations

import ctypes
from functools import cache
from typing import Any


@cache
def libc_call(name: str) -> Any:
    """Return a function of the C library, after which `ctypes.get_errno` tells its error; None where there is none."""
    try:
        return getattr(ctypes.CDLL(None, use_errno=True), name)
    except (OSError, TypeError, AttributeError):
        return None


def return_memory() -> None:
    """Return to the system the memory that is free: the library keeps what lies below anything in use.

    It is the memory of large values only; the interpreter returns that of small ones itself.
    """
    trim = libc_call("malloc_trim")
    if trim is not None:
        trim(0)
