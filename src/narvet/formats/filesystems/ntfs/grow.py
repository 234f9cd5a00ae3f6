"""An NTFS that exists made larger: from its state, however it was made, to the one it becomes. Pure.

The map of clusters grows in the clusters that it has, or moves behind the old end, where it lies in one run.
"""

from __future__ import annotations

from typing import TypeVar

from narvet.formats.filesystems.contract import CannotChangeError, FilesystemState, refuse_unknown
from narvet.formats.filesystems.ntfs.geometry import MOST_CLUSTERS
from narvet.formats.filesystems.ntfs.options import LEAST, MOST
from narvet.formats.filesystems.ntfs.shape import Account, Shape
from narvet.ground.units import KIB, show_both
from narvet.ground.values import Frozen, replace

UNDERSTOOD = frozenset({"version 3.0", "version 3.1"})


class PlannedGrowth(Frozen):
    """An NTFS before and after; `map_moves` is whether its map of clusters gets a new place."""

    before: FilesystemState
    state: FilesystemState
    old: Shape
    new: Shape
    map_moves: bool = False

    def footprint(self) -> int:
        """Return the most bytes that it stores."""
        return (self.old.map_size if self.map_moves else 0) + 4 * self.new.unit + 64 * KIB


G = TypeVar("G", bound=PlannedGrowth)


def grown(kind: type[G], state: FilesystemState, size: int) -> G:
    """Return an NTFS made as large as `size` bytes allow, as a `kind` of it; as it is where nothing is gained.

    Raises:
        CannotChangeError: it cannot be made so large, or may not be changed.
    """
    refuse_unknown(state, UNDERSTOOD)
    old, account = state.shape, state.account
    if not isinstance(old, Shape) or not isinstance(account, Account):
        raise CannotChangeError("the ntfs is damaged", "repair it in its guest")
    new = replace(old, sectors=size // old.sector_size - 1)  # the copy of the first sector follows
    if new.clusters <= old.clusters:
        return kind(state, state, old, old)
    most = min(MOST, MOST_CLUSTERS * old.unit)
    if new.clusters > MOST_CLUSTERS or new.size > MOST:
        told = f"the ntfs has clusters of {show_both(old.unit)}, so it can grow to {show_both(most)} at most"
        raise CannotChangeError(told, "choose a smaller size, or make a new disk and copy the files", LEAST, most)
    needed = -(-new.map_size // new.unit)
    moves = needed > account.map_clusters
    if moves and new.clusters - old.clusters <= needed:
        return kind(state, state, old, old)
    used = needed - account.map_clusters if moves else 0
    becomes = replace(
        state,
        shape=new,
        free=state.free + (new.clusters - old.clusters - used) * new.unit,
        account=Account(needed) if moves else account,
    )
    return kind(state, becomes, old, new, moves)
