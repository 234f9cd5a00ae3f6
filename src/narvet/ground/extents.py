"""Arithmetic on runs, once: of bytes, sectors, clusters or blocks alike. Runs are ascending and do not overlap."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any, NamedTuple

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray


class Extent(NamedTuple):
    """A run of units in a row; of bytes unless something else is said."""

    start: int
    length: int

    @property
    def end(self) -> int:
        """The first unit after it."""
        return self.start + self.length


def cut(run: Extent, start: int, end: int) -> Iterator[Extent]:
    """Yield the part of a run that lies between `start` and `end`, if any does."""
    first, last = max(run.start, start), min(run.end, end)
    if first < last:
        yield Extent(first, last - first)


def joined(runs: Iterable[Extent]) -> Iterator[Extent]:
    """Yield runs with those that touch made one."""
    last: Extent | None = None
    for run in runs:
        if last is not None and last.end == run.start:
            last = Extent(last.start, last.length + run.length)
            continue
        if last is not None:
            yield last
        last = run
    if last is not None:
        yield last


def gaps(runs: Iterable[Extent], end: int) -> Iterator[Extent]:
    """Yield what lies between runs, from 0 to `end`; the runs may overlap."""
    reach = 0
    for run in runs:
        if run.start > reach:
            yield from cut(Extent(reach, run.start - reach), 0, end)
        reach = max(reach, run.end)
    if reach < end:
        yield Extent(reach, end - reach)


def without(runs: Iterable[Extent], holes: Iterable[Extent]) -> Iterator[Extent]:
    """Yield what is left of runs once holes are taken out of them."""
    rest = iter(holes)
    hole = next(rest, None)
    for run in runs:
        reach = run.start
        while hole is not None and hole.start < run.end:
            if reach < hole.start:
                yield Extent(reach, hole.start - reach)
            reach = max(reach, hole.end)
            if reach >= run.end:
                break
            hole = next(rest, None)
        if reach < run.end:
            yield Extent(reach, run.end - reach)


def runs_of_set(bits: NDArray[Any]) -> NDArray[np.int64]:
    """Return first and end of the runs of bits that are set, shape (n, 2)."""
    import numpy as np

    padded = np.zeros(len(bits) + 2, dtype=np.bool_)
    padded[1:-1] = bits
    return np.flatnonzero(padded[1:] != padded[:-1]).reshape(-1, 2).astype(np.int64)


def joined_runs(runs: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return runs, as first and end, shape (n, 2), with those that touch made one."""
    import numpy as np

    if not len(runs):
        return runs
    apart = np.flatnonzero(runs[1:, 0] > runs[:-1, 1])
    starts = runs[np.concatenate(([0], apart + 1)), 0]
    ends = runs[np.concatenate((apart, [len(runs) - 1])), 1]
    return np.stack((starts, ends), axis=1)
