"""What an XFS is made with."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from narvet.formats.filesystems.contract import OwnedOptions
from narvet.ground.units import MIB, TIB

if TYPE_CHECKING:
    from narvet.formats.filesystems.xfs.geometry import NewXfs

LEAST = 16 * MIB
MOST = 64 * TIB
SMALLEST_GROUP = 16 * MIB


@dataclass(frozen=True, kw_only=True)
class XfsOptions(OwnedOptions):
    """Options of XFS: `journal` is the size of its log."""

    unit: int | None = None
    journal: int | None = None
    chunk: int = 0
    stripe: int = 0

    def plan(self, size: int) -> NewXfs:
        """Return an XFS to be made in `size` bytes; UnfitError if it cannot be."""
        from narvet.formats.filesystems.xfs import geometry

        return geometry.plan(size, self)

    def breakpoints(self) -> tuple[int, ...]:
        """Return the sizes at which its rules change."""
        from narvet.formats.filesystems.xfs import geometry

        return geometry.breakpoints(self)
