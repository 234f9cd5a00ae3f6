"""Places in an image's file that blocks gave up: used again, so that an image does not grow with every trim.

A place may be used again only once nothing on stable storage points at it any more.
"""

from __future__ import annotations

from narvet.block.files import File
from narvet.ground.extents import Extent, joined

_MOST_RUNS = 1 << 16
"""Runs that are kept; what would be more is left in the file, as before."""


class SpareRuns:
    """The spare runs of a file, in bytes; those given up since the last `settle` are not among them yet."""

    def __init__(self) -> None:
        self._given_up: list[Extent] = []
        self._runs: list[Extent] = []

    def give_up(self, place: int, length: int) -> None:
        """Hear of bytes that nothing will point at after the next flush."""
        if len(self._given_up) < _MOST_RUNS:
            self._given_up.append(Extent(place, length))

    def settle(self) -> None:
        """Hear that nothing on stable storage points at them any more."""
        if self._given_up:
            self._runs = list(joined(sorted({*self._runs, *self._given_up})))[-_MOST_RUNS:]
            self._given_up = []

    def longest(self, unit: int, count: int) -> int:
        """Return how many of `count` units can be taken in a row from here; all of them if none are spare."""
        return min(count, self._runs[-1].length // unit) or count if self._runs else count

    def take(self, length: int, file: File) -> int | None:
        """Return a place of so many bytes, which read as zeros; None where there is none."""
        if not self._runs or self._runs[-1].length < length:
            return None
        start, whole = self._runs.pop()
        if whole > length:
            self._runs.append(Extent(start, whole - length))
        file.zero(start + whole - length, length)
        return start + whole - length
