"""What is lent: a disk that several clients may use at once, and what is known of each client.

A disk's own code is used by one thread at a time; nothing that a client sends is trusted.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, ExitStack, contextmanager
from dataclasses import dataclass, field
from typing import Literal, Protocol

from narvet.block.contract import BlockDevice, zero_by_writing
from narvet.ground.extents import Extent
from narvet.ground.values import Draft

MOST_RUNS = 4096
"""Runs of a disk that are told at once; a client asks again for the rest."""


class Lent:
    """A disk that is lent under a name; `about` says what it is, for people, `identity` tells it from all others.

    `is_shared` is whether all who take it have the same disk, so that one client may come by several connections.
    Offsets and lengths are bytes. The caller has checked that they lie on the disk.
    """

    def __init__(
        self,
        name: str,
        device: BlockDevice,
        about: str = "",
        *,
        read_only: bool = False,
        is_shared: bool = True,
        identity: str = "",
    ) -> None:
        self.name = name
        self.about = about
        self.identity = identity or name
        self.read_only = read_only
        self.is_shared = is_shared
        self._device = device
        self._lock = threading.RLock()
        self._changed = False

    @property
    def size(self) -> int:
        """Bytes of the disk."""
        return self._device.size

    @property
    def sector_size(self) -> int:
        """Bytes of a logical sector."""
        return self._device.sector_size

    def read(self, offset: int, length: int) -> bytes:
        """Return bytes of the disk."""
        with self._lock:
            return self._device.read(offset, length)

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Write bytes to the disk."""
        with self._lock:
            self._changed = True
            self._device.write(offset, data)

    def zero(self, offset: int, length: int, *, keep_stored: bool = False) -> None:
        """Make a range read as zeros, given up where it can be; with `keep_stored` it keeps, or gets, its room."""
        with self._lock:
            self._changed = True
            if not keep_stored:
                self._device.zero(offset, length)
                return
            zero_by_writing(self._device, offset, length)
            blank = memoryview(bytes(_PIECE))
            end = offset + length
            for gap in list(_gaps(self._device.extents(offset, end), offset, end)):
                for at in range(gap.start, gap.end, _PIECE):
                    self._device.write(at, blank[: min(_PIECE, gap.end - at)])

    def flush(self) -> None:
        """Return when everything written is on stable storage."""
        with self._lock:
            if self._changed:
                self._device.flush()
                self._changed = False

    def runs(self, offset: int, length: int) -> list[tuple[int, bool]]:
        """Return the runs of a range, at most `MOST_RUNS`: their bytes, and whether they may hold data.

        What is left out at the end is not told; the first is always there.
        """
        found: list[tuple[int, bool]] = []
        at, end = offset, offset + length
        with self._lock:
            for start, size in self._device.extents(offset, end):
                if len(found) >= MOST_RUNS - 1:
                    return found
                if start > at:
                    found.append((start - at, False))
                if found and found[-1][1] and start == at:
                    found[-1] = (found[-1][0] + size, True)
                else:
                    found.append((size, True))
                at = start + size
        return [*found, (end - at, False)] if at < end else found


_PIECE = 1 << 20


def _gaps(extents: Iterator[Extent], start: int, end: int) -> Iterator[Extent]:
    for run in extents:
        if run.start > start:
            yield Extent(start, run.start - start)
        start = run.start + run.length
    if start < end:
        yield Extent(start, end - start)


class Client(Draft):
    """A client as it is now: where it comes from, what it has, and what it did so far; counts are bytes.

    `fault` is what went wrong last on the disk that it has.
    """

    number: int
    address: str
    disk: str = ""
    read: int = 0
    written: int = 0
    requests: int = 0
    is_sealed: bool = False
    fault: str = ""


What = Literal["came", "took", "went", "refused"]
"""What a client does that is worth telling."""

OnClient = Callable[[What, Client, str], object]
"""Hears what a client did, and why where there is a reason."""


class Shelf(Protocol):
    """What can be lent, by names; each client that takes one has it until its context ends."""

    @property
    def names(self) -> tuple[str, ...]:
        """The names of what can be lent."""

    def about(self, name: str) -> Lent | None:
        """Return what a name stands for, to be looked at only; None where there is none."""

    def lend(self, name: str, client: Client) -> AbstractContextManager[Lent]:
        """Lend it to a client; KeyError where there is none."""


@dataclass
class OneForAll:
    """Disks of which every client has the same one."""

    disks: dict[str, Lent] = field(default_factory=dict)
    _stack: ExitStack = field(default_factory=ExitStack, repr=False)

    @property
    def names(self) -> tuple[str, ...]:
        """The names of what can be lent."""
        return tuple(self.disks)

    def about(self, name: str) -> Lent | None:
        """Return what a name stands for; without a name the only disk there is."""
        if not name and len(self.disks) == 1:
            return next(iter(self.disks.values()))
        return self.disks.get(name)

    @contextmanager
    def lend(self, name: str, client: Client) -> Iterator[Lent]:
        """Lend a disk, and have on stable storage what was written once the client has gone."""
        del client
        found = self.about(name)
        if found is None:
            raise KeyError(name)
        try:
            yield found
        finally:
            found.flush()
