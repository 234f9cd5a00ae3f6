"""Locks by name: two Narvets never work on one name at once, even while the file under it is replaced."""

from __future__ import annotations

import errno
import os
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

from narvet.block.names import LOCK, lock_name, same_file
from narvet.ground.errors import RefusedError

_held_here: set[int] = set()
"""The files that are held open for the locks of this process."""
_MOMENT, _TRIES = 0.1, 20  # seconds in which a lock that is only being cleared is free again, and how often it is tried


@contextmanager
def exclusive_lock(*paths: Path) -> Iterator[None]:
    """Hold some names for this process alone, as long as the context lasts; the files need not exist.

    What is locked (flock(2)) is a file beside each, which is removed at the end. A process that is killed leaves that
    file, but not the lock; the next one takes it over.

    Raises:
        RefusedError: another Narvet holds one of the names.
    """
    with ExitStack() as stack:
        for path in sorted({path.parent.resolve() / path.name for path in paths}):
            stack.enter_context(_held(path))
        yield


@contextmanager
def _held(path: Path) -> Iterator[None]:
    lock = lock_name(path)
    while True:
        try:
            handle = os.open(lock, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
        except OSError as error:
            if error.errno in (errno.EACCES, errno.EROFS):
                raise RefusedError(f"{path.parent}: this user cannot write to this folder, which is needed") from None
            raise
        if not _hold_in_a_moment(handle):
            os.close(handle)
            raise RefusedError(f"{path}: another Narvet is at work on it; wait until it has finished")
        if same_file(lock, os.fstat(handle)):
            break
        os.close(handle)  # its holder removed it in this very moment
    _held_here.add(handle)
    try:
        yield
    except BaseException:
        with suppress(OSError):  # what went wrong before matters more
            lock.unlink()
        _let_go(handle)
        raise
    try:
        lock.unlink(missing_ok=True)
    finally:
        _let_go(handle)


def _let_go(handle: int) -> None:
    _held_here.discard(handle)
    os.close(handle)


def _forget() -> None:
    """In a process that was forked, close what only the other one holds."""
    for handle in _held_here:
        with suppress(OSError):
            os.close(handle)
    _held_here.clear()


if hasattr(os, "register_at_fork"):
    os.register_at_fork(after_in_child=_forget)


def _hold_in_a_moment(handle: int) -> bool:
    """Hold a lock file like `hold_file`; one that clears what is left behind holds it for a moment only."""
    for _ in range(_TRIES):
        if hold_file(handle):
            return True
        time.sleep(_MOMENT / _TRIES)
    return False


def hold_file(handle: int) -> bool:
    """Hold an open file for this process alone until it is closed; return whether nobody else does."""
    try:
        import fcntl
    except ImportError:
        return True
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        if error.errno in (errno.EAGAIN, errno.EACCES):
            return False
        raise
    return True


def clear_locks(folder: Path) -> None:
    """Remove the lock files that killed processes have left in a folder; those that are held stay."""
    for lock in folder.glob(f".*{LOCK}"):
        with suppress(OSError, RefusedError), exclusive_lock(lock.with_name(lock.name[1 : -len(LOCK)])):
            pass
