"""The capital of every UTF-16 unit, for filesystems that compare names without regard to case.

Made from Unicode's simple case mappings. Only characters that Unicode 3.2 had are mapped, to such characters, so that
every Python gives the same table: mappings between characters that exist never change.
"""

from __future__ import annotations

import unicodedata
from functools import cache

UNITS = 1 << 16
_SURROGATES = range(0xD800, 0xE000)


@cache
def capitals() -> tuple[int, ...]:
    """Return the capital of each of the 65536 units, itself where it has none."""
    return tuple(_capital(unit) for unit in range(UNITS))


def _capital(unit: int) -> int:
    if unit in _SURROGATES or unicodedata.ucd_3_2_0.category(chr(unit)) != "Ll":
        return unit
    capital = chr(unit).upper()
    if len(capital) != 1 or ord(capital) >= UNITS or unicodedata.ucd_3_2_0.category(capital) == "Cn":
        return unit
    return ord(capital)


def upcased(name: str) -> tuple[int, ...]:
    """Return a name as the capitals of its UTF-16 units: what such filesystems compare and sort names by."""
    data = name.encode("utf-16-le", "surrogatepass")
    table = capitals()
    return tuple(table[data[place] | data[place + 1] << 8] for place in range(0, len(data), 2))
