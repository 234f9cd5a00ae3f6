"""Free units of something, handed out in as few runs as there are."""

from __future__ import annotations

from typing import TYPE_CHECKING

from narvet.ground.extents import Extent

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray


class FreeRuns:
    """Free runs, as first and end, shape (n, 2), ascending; what was handed out is no longer among them."""

    def __init__(self, runs: NDArray[np.int64]) -> None:
        self._runs = runs.copy()
        self._left = int((runs[:, 1] - runs[:, 0]).sum())

    def take(self, count: int) -> list[Extent]:
        """Return runs of `count` units: the first that is long enough, else the longest; none without room."""
        if count > self._left:
            return []
        runs, self._left = [], self._left - count
        while count:
            lengths = self._runs[:, 1] - self._runs[:, 0]
            fitting = lengths >= count
            index = int(fitting.argmax()) if fitting.any() else int(lengths.argmax())
            length = min(count, int(lengths[index]))
            runs.append(Extent(int(self._runs[index, 0]), length))
            self._runs[index, 0] += length
            count -= length
        return runs
