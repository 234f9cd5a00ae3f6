"""What an XFS is made with."""

from __future__ import annotations

from narvet.formats.filesystems.contract import OwnedOptions
from narvet.ground.units import MIB, TIB

LEAST = 16 * MIB
MOST = 64 * TIB
SMALLEST_GROUP = 16 * MIB


class XfsOptions(OwnedOptions, kw_only=True):
    """Options of XFS: `journal` is the size of its log."""

    unit: int | None = None
    journal: int | None = None
    chunk: int = 0
    stripe: int = 0
