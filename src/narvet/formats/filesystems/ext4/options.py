"""What an ext4 is made with."""

from __future__ import annotations

from fractions import Fraction

from narvet.formats.filesystems.contract import OwnedOptions
from narvet.ground.units import MIB, TIB

LEAST = 2 * MIB
MOST = 64 * TIB


class Ext4Options(OwnedOptions, kw_only=True):
    """Options of ext4: `unit` is a block up to 4 KiB, and a cluster of such blocks from there on."""

    unit: int | None = None
    inode_each: int | None = None
    journal: int | None = None
    reserved: Fraction | None = None
    chunk: int = 0
    stripe: int = 0
    noise: bool = False
