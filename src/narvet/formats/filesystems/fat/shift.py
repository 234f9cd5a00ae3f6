"""The first clusters of a volume given to its table, which so can describe more: all others are numbered anew.

Where the clusters lie on the disk does not change but for those first ones, which move behind the old end. The table,
and every entry of a folder that names a cluster, get the new numbers.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import CannotChangeError
from narvet.formats.filesystems.fat.common import FIRST_CLUSTER
from narvet.ground.errors import ImageError
from narvet.ground.units import MIB, Cluster, align_up
from narvet.ground.values import Frozen

_STEP = 1 << 18  # entries of a table at once
MOST_CLUSTERS = 1 << 27  # of a volume that is made larger: its table is held in memory


class Shift(Frozen):
    """How clusters are numbered anew: the first `moved` of `before` clusters go to the end, the others come forward."""

    moved: int
    before: int

    @property
    def home(self) -> Cluster:
        """The new number of the first of those that move."""
        return Cluster(FIRST_CLUSTER + self.before - self.moved)

    def one(self, cluster: int) -> Cluster:
        """Return the new number of a cluster."""
        return Cluster(int(self.all(np.array([cluster], dtype=np.int64))[0]))

    def all(self, clusters: NDArray[Any]) -> NDArray[np.int64]:
        """Return the new numbers of clusters; what is none, and 0, stays."""
        old = clusters.astype(np.int64)
        exists = (old >= FIRST_CLUSTER) & (old < FIRST_CLUSTER + self.before)
        stays = old >= FIRST_CLUSTER + self.moved
        return np.where(exists, np.where(stays, old - self.moved, old + self.before - self.moved), old)

    def table(self, old: NDArray[np.uint32], count: int, mask: int = 0xFFFFFFFF) -> NDArray[np.uint32]:
        """Return the table of `count` clusters out of the old one: every entry at its new place, with its new value.

        Bits outside the `mask` are no part of a value, and stay. What is all zeros takes neither time nor memory.
        """
        new = np.zeros(count + FIRST_CLUSTER, dtype=np.uint32)
        new[:FIRST_CLUSTER] = old[:FIRST_CLUSTER]
        start, end = FIRST_CLUSTER, FIRST_CLUSTER + self.before
        for low, high in ((start, start + self.moved), (start + self.moved, end)):
            for first in range(low, high, _STEP):
                part = old[first : min(first + _STEP, high)]
                if part.any():
                    home = self.one(first)
                    other = part & np.uint32(~mask & 0xFFFFFFFF)
                    new[home : home + len(part)] = self.all(part & np.uint32(mask)).astype(np.uint32) | other
        return new

    def bits(self, old: NDArray[np.bool_], count: int) -> NDArray[np.bool_]:
        """Return which of `count` clusters are in use, out of which of the old ones were."""
        new = np.zeros(count, dtype=bool)
        new[: self.before - self.moved] = old[self.moved :]
        new[self.before - self.moved : self.before] = old[: self.moved]
        return new

    def crosses(self, first: int, length: int) -> bool:
        """Return whether clusters that lie in a row no longer do."""
        return first < FIRST_CLUSTER + self.moved < first + length

    def runs(self, first: int, length: int) -> list[tuple[Cluster, int]]:
        """Return where clusters that lie in a row lie now, as runs of new numbers."""
        kept = min(max(FIRST_CLUSTER + self.moved - first, 0), length)
        found = [(self.one(first), kept)] if kept else []
        return [*found, (self.one(first + kept), length - kept)] if kept < length else found


def moved_for(table_bytes: int, room: int, unit: int, *, aligned: bool) -> int:
    """Return how many clusters of `unit` bytes a table of so many bytes needs besides the `room` that it has.

    With `aligned` the clusters then still start on a multiple of 1 MiB.
    """
    more = max(table_bytes - room, 0)
    if aligned and unit < MIB:
        more = align_up(more, MIB)
    return -(-more // unit)


def copy_clusters(device: BlockDevice, source: int, target: int, length: int) -> None:
    """Copy `length` bytes on a device, where there are data; where there are none, the target reads as zeros."""
    step = 1 << 20
    done = source
    for start, run in list(device.extents(source, source + length)):
        if start > done:
            device.zero(target + done - source, start - done)
        for place in range(start, start + run, step):
            size = min(step, start + run - place)
            device.write(target + place - source, device.read(place, size))
        done = start + run
    if done < source + length:
        device.zero(target + done - source, source + length - done)


def write_back(
    device: BlockDevice,
    shift: Shift,
    runs: Iterable[tuple[int, int]],
    content: bytes,
    unit: int,
    start_of: Callable[[Cluster], int],
) -> None:
    """Write content anew to where `runs` of old clusters, of `unit` bytes each, lie now; `start_of` tells where."""
    done = 0
    for first, length in runs:
        for start, count in shift.runs(first, length):
            device.write(start_of(start), content[done : done + count * unit])
            done += count * unit


def write_table(device: BlockDevice, start: int, table: NDArray[np.uint32], length: int) -> None:
    """Write a table, and zeros behind it up to its `length` in bytes."""
    for first in range(0, len(table), _STEP):
        part = table[first : first + _STEP]
        if part.any():
            device.write(start + 4 * first, part.astype("<u4").tobytes())
        else:
            device.zero(start + 4 * first, 4 * len(part))
    if 4 * len(table) < length:
        device.zero(start + 4 * len(table), length - 4 * len(table))


def refuse_long(clusters: int) -> None:
    """Raise ImageError where a table is too long to be held in memory."""
    if clusters > MOST_CLUSTERS:
        raise ImageError(f"the volume has {clusters} clusters, more than can be numbered anew")


def refuse_crowded(kind: str, moved: int, clusters: int) -> None:
    """Raise CannotChangeError where more clusters than there are would have to give way to the table."""
    if moved >= clusters:
        raise CannotChangeError(
            f"the {kind} is too small for a table of so many clusters",
            "enlarge it in several steps, or make a new disk",
        )
