"""An XFS that exists made larger: from its state, however it was made, to the one it becomes. Pure.

The last allocation group becomes as long as the others, then groups are added, as the kernel itself does it.
"""

from __future__ import annotations

from typing import TypeVar

from narvet.formats.filesystems.contract import CannotChangeError, FilesystemState, refuse_unknown
from narvet.formats.filesystems.xfs import records as r
from narvet.formats.filesystems.xfs.groups import first_free
from narvet.formats.filesystems.xfs.options import LEAST, MOST, SMALLEST_GROUP
from narvet.formats.filesystems.xfs.shape import Account, Shape, Used, hidden_in
from narvet.ground.units import KIB, show_both
from narvet.ground.values import Frozen, replace

MOST_GROUPS = 1 << 12  # a mount reads the headers of each


class PlannedGrowth(Frozen):
    """An XFS before and after."""

    before: FilesystemState
    state: FilesystemState
    old: Shape
    new: Shape

    def footprint(self) -> int:
        """Return the most bytes that it stores."""
        new, added = self.new, self.new.group_count - self.old.group_count
        unit = max(new.block_size, 4 * KIB)
        return added * ((new.header_blocks + 6) * new.block_size + unit) + new.group_count * unit + 64 * KIB


G = TypeVar("G", bound=PlannedGrowth)


def grown(kind: type[G], state: FilesystemState, size: int) -> G:
    """Return an XFS made as large as `size` bytes allow, as a `kind` of it; as it is where nothing is gained.

    Raises:
        CannotChangeError: it cannot be made so large, or may not be changed.
    """
    refuse_unknown(state, r.UNDERSTOOD | r.HARMLESS)
    old, account = state.shape, state.account
    if not isinstance(old, Shape) or not isinstance(account, Account):
        raise CannotChangeError("the xfs is damaged", "repair it in its guest")
    blocks = size // old.block_size
    whole, rest = divmod(blocks, old.group_blocks)
    if whole >= old.group_count and rest * old.block_size < SMALLEST_GROUP:
        blocks = whole * old.group_blocks  # a last group that is too short is left out
    if blocks <= old.block_count:
        return kind(state, state, old, old)
    most = min(MOST // old.block_size, MOST_GROUPS * old.group_blocks)
    if blocks > most:
        told = f"the xfs has allocation groups of {show_both(old.group_blocks * old.block_size)}"
        raise CannotChangeError(
            f"{told}, so it can grow to {show_both(most * old.block_size)} at most",
            "choose a smaller size, or make a new disk and copy the files", LEAST, most * old.block_size,
        )  # fmt: skip
    new = replace(old, block_count=blocks)
    grown_account = _accounted(account, old, new)
    becomes = replace(state, shape=new, free=grown_account.shown(new) * new.block_size, account=grown_account)
    return kind(state, becomes, old, new)


def _accounted(account: Account, old: Shape, new: Shape) -> Account:
    """Return what is known of the free blocks once the last group is longer and fresh ones follow it."""
    last, rmapbt = old.group_count - 1, bool(account.features & r.RMAPBT)
    free = account.free + new.length(last) - old.length(last)
    if new.group_count == old.group_count:
        return replace(account, free=free)
    fresh = Used(
        finobt=1 if account.features & r.FINOBT else None, refcount=1 if account.features & r.REFLINK else None
    )
    hidden = account.hidden + hidden_in(new, last, account.last, rmapbt=rmapbt)
    whole = new.group_count - old.group_count - 1
    hidden += whole * hidden_in(new, old.group_count, fresh, rmapbt=rmapbt) if whole else 0
    first = first_free(new, account.features)
    free += new.block_count - old.group_count * new.group_blocks - (whole + 1) * first
    return replace(account, free=free, hidden=hidden, last=fresh)
