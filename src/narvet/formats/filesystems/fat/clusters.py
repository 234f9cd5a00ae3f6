"""Clusters compared with their use: every folder is walked through, and what files claim is looked up in the map.

What is claimed is kept as runs, so that a volume costs what its files are in pieces, not what it is in clusters.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from narvet.formats.filesystems.fat.common import FIRST_CLUSTER
from narvet.ground.budget import spend
from narvet.ground.units import Cluster, counted
from narvet.ground.values import Frozen

MOST_FILES = 4_000_000  # of a volume that is checked in full; each takes some hundred bytes of memory

_FIRST_LOOK = 256  # entries; most runs end within them
_MOST_FAULTS = 20  # that are listed for one volume
_AT_ONCE = 1 << 22  # clusters that are compared at a time

Used = Callable[[int, int], NDArray[np.bool_]]


class TooManyError(Exception):
    """A volume has more files than are checked."""


class Table(Protocol):
    """The entries of a table of clusters: all of them at hand, or read as they are needed."""

    def __len__(self) -> int:
        """Return how many entries it has."""

    def __getitem__(self, key: Any, /) -> Any:
        """Return an entry, or some of those between two numbers, the first of them at least."""


class Chains:
    """The table of a volume: entry i tells which cluster follows i; entries above `bad` end a chain."""

    def __init__(self, table: Table, bad: int) -> None:
        self.table = table
        self.bad = bad

    def _last(self, first: int) -> int:
        """Return the last cluster of the run from `first` on: the first one that the next does not follow."""
        step = _FIRST_LOOK
        while first < len(self.table):
            window = self.table[first : first + step]
            goes_on = window == np.arange(first + 1, first + 1 + len(window), dtype=np.uint32)
            if not goes_on.all():
                return first + int(goes_on.argmin())
            first, step = first + len(window), 4 * step
        return len(self.table) - 1

    def runs(self, first: int) -> Iterator[tuple[Cluster, int]]:
        """Yield first cluster and length of the runs of a chain; it ends where the table does not lead on."""
        steps = 0
        while FIRST_CLUSTER <= first < len(self.table) and steps <= len(self.table):
            spend()
            last = self._last(first)
            yield Cluster(first), last - first + 1
            steps += last - first + 1
            first = int(self.table[last])

    def ends(self, first: int, most: int) -> tuple[list[tuple[Cluster, int]], str]:
        """Return the runs of a chain of at most `most` clusters, and what is wrong with it."""
        runs, total = list[tuple[Cluster, int]](), 0
        for start, length in self.runs(first):
            runs.append((start, length))
            total += length
            if total > most:
                return runs, "is longer than the volume, so it goes in circles"
        if not runs:
            return runs, f"starts at cluster {first}, which does not exist"
        following = int(self.table[runs[-1][0] + runs[-1][1] - 1])
        return runs, "" if following > self.bad else f"goes on at {following}, which is not a cluster in use"


class Claims:
    """The clusters that the files and folders of a volume claim, as runs."""

    def __init__(self) -> None:
        self._firsts: list[int] = []
        self._lengths: list[int] = []

    def add(self, first: int, length: int) -> None:
        """Claim `length` clusters from `first` on.

        Raises:
            TooManyError: there are more runs than are checked.
        """
        self._firsts.append(first)
        self._lengths.append(length)
        if len(self._firsts) > MOST_FILES:
            raise TooManyError

    def merged(self) -> tuple[NDArray[np.int64], NDArray[np.int64], int]:
        """Return first and end of the claimed runs, ascending, and how many of them begin inside another one."""
        firsts = np.array(self._firsts, dtype=np.int64)
        order = np.argsort(firsts, kind="stable")
        firsts = firsts[order]
        ends = firsts + np.array(self._lengths, dtype=np.int64)[order]
        reach = np.maximum.accumulate(ends) if len(ends) else ends
        return firsts, ends, int((firsts[1:] < reach[:-1]).sum())

    def faults(self, used: Used, count: int, *, clean: bool) -> Iterator[str]:
        """Yield what does not agree: `used` tells which of the clusters between two numbers are marked as in use.

        Clusters in use that nothing claims are left by a guest that was cut off; on a `clean` volume they are damage.
        `count` is the number behind the last cluster's.
        """
        firsts, ends, shared = self.merged()
        if shared:
            yield f"{counted(shared, 'run of clusters belongs', 'runs of clusters belong')} to more than one file"
            return
        lost = over = 0
        for low in range(FIRST_CLUSTER, count, _AT_ONCE):
            high = min(low + _AT_ONCE, count)
            marked, claimed = used(low, high), _covered(firsts, ends, low, high)
            lost += int((claimed & ~marked).sum())
            over += int((marked & ~claimed).sum())
        if lost:
            yield f"{counted(lost, 'cluster of a file is', 'clusters of files are')} marked as free"
        if over and clean:
            yield f"{counted(over, 'cluster is', 'clusters are')} marked as in use, but of no file"


def _covered(firsts: NDArray[np.int64], ends: NDArray[np.int64], low: int, high: int) -> NDArray[np.bool_]:
    """Return which of the clusters from `low` to `high` lie in one of some ascending runs that share none."""
    begin, end = np.searchsorted(ends, low, side="right"), np.searchsorted(firsts, high, side="left")
    change = np.zeros(high - low + 1, dtype=np.int8)
    np.add.at(change, np.maximum(firsts[begin:end] - low, 0), 1)
    np.add.at(change, np.minimum(ends[begin:end] - low, high - low), -1)
    return np.cumsum(change[:-1], dtype=np.int8) > 0


class Folder(Frozen):
    """A folder to be walked through: its first cluster, that of the one above it, and its clusters as runs."""

    first: int
    parent: int
    runs: tuple[tuple[Cluster, int], ...]


class Item(NamedTuple):
    """What an entry of a folder claims: first cluster and runs, whether it is a folder; or what is wrong with it."""

    first: int = 0
    runs: tuple[tuple[Cluster, int], ...] = ()
    is_folder: bool = False
    fault: str = ""


class Volume(Frozen):
    """What a walk needs of a volume: its table, what is marked as in use, how clusters are read.

    `root` is the root's first cluster, and `clean` whether the volume was unmounted cleanly.
    """

    chains: Chains
    used: Used
    read: Callable[[Cluster, int], bytes]
    root: Cluster
    clean: bool


def tree_faults(volume: Volume, items: Callable[[bytes, Folder], Iterator[Item]], largest_folder: int) -> Iterator[str]:
    """Yield what is wrong with the folders of a volume, and with what they claim.

    Args:
        volume: the volume.
        items: yields what the entries of a folder's content claim, by the format's own rules.
        largest_folder: bytes of a folder that are looked at; by the specification none is larger.

    Raises:
        TooManyError: there are more files than are checked.
    """
    claims, faults = Claims(), list[str]()
    runs, fault = volume.chains.ends(volume.root, len(volume.chains.table))
    if fault:
        yield f"the root {fault}"
        return
    for run in runs:
        claims.add(*run)
    todo = [Folder(volume.root, volume.root, tuple(runs))]
    while todo and len(faults) < _MOST_FAULTS:
        folder = todo.pop()
        for item in items(_content(volume, folder, largest_folder), folder):
            spend()
            faults += [item.fault] if item.fault else []
            for run in item.runs:
                claims.add(*run)
            if item.is_folder and item.runs and not item.fault:
                todo.append(Folder(item.first, folder.first, item.runs))
    yield from faults[:_MOST_FAULTS]
    if not faults:
        yield from claims.faults(volume.used, len(volume.chains.table), clean=volume.clean)


def _content(volume: Volume, folder: Folder, most: int) -> bytes:
    parts: list[bytes] = []
    left = most
    for first, length in folder.runs:
        data = volume.read(first, length) if left > 0 else b""
        parts.append(data[: max(left, 0)])
        left -= len(data)
    return b"".join(parts)
