"""An NTFS that exists made smaller: from its state, and how far what it keeps reaches, to the one it becomes. Pure.

The map of clusters keeps the clusters that it has; only its end moves.
"""

from __future__ import annotations

from typing import TypeVar

from narvet.formats.filesystems.contract import CannotChangeError, FilesystemState, cannot_shrink, refuse_unknown
from narvet.formats.filesystems.ntfs.grow import UNDERSTOOD
from narvet.formats.filesystems.ntfs.options import LEAST
from narvet.formats.filesystems.ntfs.shape import Account, Shape
from narvet.ground.units import KIB
from narvet.ground.values import Frozen, replace


class PlannedShrinking(Frozen):
    """An NTFS before and after; `moves` is whether what it keeps behind its new end is moved before that."""

    before: FilesystemState
    state: FilesystemState
    old: Shape
    new: Shape
    moves: bool = False

    def footprint(self) -> int:
        """Return the most bytes that it writes."""
        moved = min(self.old.total - self.new.total, self.before.total - self.before.free) if self.moves else 0
        return moved + 4 * self.new.unit + 64 * KIB


S = TypeVar("S", bound=PlannedShrinking)


def shrunk(kind: type[S], state: FilesystemState, size: int, *, moving: bool) -> S:
    """Return an NTFS made no larger than `size` bytes, as a `kind` of it.

    Raises:
        CannotChangeError: something lies behind that end, or it may not be changed.
    """
    refuse_unknown(state, UNDERSTOOD)
    old, account = state.shape, state.account
    if not isinstance(old, Shape) or not isinstance(account, Account) or account.least is None:
        raise CannotChangeError("the ntfs is damaged", "repair it in its guest")
    new = replace(old, sectors=size // old.sector_size - 1)  # the copy of the first sector follows
    used = old.clusters - state.free // old.unit
    sizes = [max(clusters * old.unit + old.sector_size, LEAST) for clusters in (account.least, used)]
    if size < sizes[moving] or new.clusters < (used if moving else account.least):
        raise cannot_shrink("ntfs", size, *sizes, moving=moving)
    free = state.free - (old.clusters - new.clusters) * old.unit
    return kind(state, replace(state, shape=new, free=free), old, new, new.clusters < account.least)
