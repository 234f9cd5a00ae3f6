"""What an ext4 is made with."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from typing import TYPE_CHECKING

from narvet.formats.filesystems.contract import OwnedOptions
from narvet.ground.units import MIB, TIB

if TYPE_CHECKING:
    from narvet.formats.filesystems.ext4.geometry import NewExt4

LEAST = 2 * MIB
MOST = 64 * TIB


@dataclass(frozen=True, kw_only=True)
class Ext4Options(OwnedOptions):
    """Options of ext4: `unit` is a block up to 4 KiB, and a cluster of such blocks from there on."""

    unit: int | None = None
    inode_each: int | None = None
    journal: int | None = None
    reserved: Fraction | None = None
    chunk: int = 0
    stripe: int = 0

    def plan(self, size: int) -> NewExt4:
        """Return an ext4 to be made in `size` bytes; UnfitError if it cannot be."""
        from narvet.formats.filesystems.ext4 import geometry

        return geometry.plan(size, self)

    def breakpoints(self) -> tuple[int, ...]:
        """Return the sizes at which its rules change."""
        from narvet.formats.filesystems.ext4 import geometry

        return geometry.breakpoints(self)
