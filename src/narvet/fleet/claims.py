"""What a host keeps of who is writing a sheet: one write at a time, and none beside the steps of one that was cut off.

A claim is a file in the host's folder, named by the sheet's identity. A step holds it, shared, while it is done; a new
write takes it alone, so it waits for the steps of an earlier one. A write from elsewhere is refused as long as the
claim is fresh.
"""

from __future__ import annotations

import json
import os
import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from uuid import UUID, uuid4

from narvet.fleet.standing import standing
from narvet.fleet.wire import runs_elsewhere
from narvet.ground.errors import RefusedError, printable
from narvet.ground.values import Frozen

_FRESH = 20.0  # seconds after its last step in which a claim counts
_RENEWED = 5.0  # seconds between two signs of life while a step is done
_PATIENCE = 60.0  # seconds that a new write waits for the steps of one that was cut off
_MOST = 4096


class Run(Frozen):
    """One write of a sheet: the sheet's `identity`, who writes it from where, and a number of its own."""

    identity: UUID
    writer: str
    number: str

    @classmethod
    def of(cls, identity: UUID, sheet: Path) -> Run:
        """Return a new run over the sheet at a path, whose name this process holds."""
        return cls(identity, f"{socket.gethostname()}:{sheet.resolve()}", uuid4().hex)


@runs_elsewhere
def claim(run: Run) -> None:
    """Claim a sheet for a run, once no step of an earlier one is being done any more.

    Raises:
        RefusedError: somebody else is writing it, or steps of an earlier write go on for too long.
    """
    with _opened(run) as handle:
        other = _told(handle)
        age = time.time() - os.fstat(handle).st_mtime
        if other and other.get("writer") not in ("", run.writer) and age < _FRESH:
            raise RefusedError(
                f"{printable(str(other['writer']))[:200]} is writing this sheet; wait until it has ended"
            )
        ends = time.monotonic() + _PATIENCE
        while not _locked(handle, alone=True):
            if time.monotonic() > ends:
                raise RefusedError("a step of an earlier write of this sheet still goes on; wait until it has ended")
            time.sleep(0.1)
        os.ftruncate(handle, 0)
        os.pwrite(handle, json.dumps({"writer": run.writer, "number": run.number}).encode(), 0)


@runs_elsewhere
def unclaim(run: Run) -> None:
    """Give a claim up, if it is still the run's."""
    with _opened(run) as handle:
        if _told(handle).get("number") == run.number:
            _path(run).unlink(missing_ok=True)


@contextmanager
def claimed(run: Run | None) -> Iterator[None]:
    """Hold a run's claim while a step is done; without a run, or in a process that is no host's, do nothing.

    Raises:
        RefusedError: the sheet is another run's by now.
    """
    if run is None or standing().folder is None:
        yield
        return
    with _opened(run) as handle:
        if not _locked(handle, alone=False) or _told(handle).get("number") != run.number:
            raise RefusedError("another write of this sheet has begun since; this one is over")
        over = threading.Event()
        thread = threading.Thread(target=_renew, args=(handle, over), daemon=True)
        thread.start()
        try:
            yield
        finally:
            over.set()
            thread.join()


def _renew(handle: int, over: threading.Event) -> None:
    while True:
        os.utime(handle)
        if over.wait(_RENEWED):
            return


@contextmanager
def _opened(run: Run) -> Iterator[int]:
    handle = os.open(_path(run), os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
    try:
        yield handle
    finally:
        os.close(handle)


def _path(run: Run) -> Path:
    return (standing().folder or Path()) / f".{run.identity}.narvet-claim"


def _told(handle: int) -> dict[str, object]:
    with suppress(ValueError, RecursionError):
        told = json.loads(os.pread(handle, _MOST, 0))
        return told if isinstance(told, dict) else {}
    return {}


def _locked(handle: int, *, alone: bool) -> bool:
    import fcntl

    try:
        fcntl.flock(handle, (fcntl.LOCK_EX if alone else fcntl.LOCK_SH) | fcntl.LOCK_NB)
    except OSError:
        return False
    return True
