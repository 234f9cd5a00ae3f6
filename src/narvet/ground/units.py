"""Sizes as people write them and as they are shown. Throughout Narvet a bare number of a size is bytes.

Decimal units are powers of 1000 and binary units powers of 1024 (ISO/IEC 80000-13); nothing here uses floats.
"""

from __future__ import annotations

import re
from fractions import Fraction
from functools import lru_cache
from typing import NewType

DECIMAL = {"kB": 1000, "MB": 1000**2, "GB": 1000**3, "TB": 1000**4, "PB": 1000**5}
BINARY = {"KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30, "TiB": 1 << 40, "PiB": 1 << 50}
UNITS = {"B": 1, **DECIMAL, **BINARY}

KIB = BINARY["KiB"]
MIB = BINARY["MiB"]
GIB = BINARY["GiB"]
TIB = BINARY["TiB"]

NO_BREAK = "\N{NO-BREAK SPACE}"
"""What stands between a number and its unit, and between groups of digits, so that no line ends there."""

LARGEST = 1 << 63
"""Larger sizes fit no file offset of any system Narvet writes for."""

_LINUX = "BKMGTPE"
_SIZE = re.compile(r"\s*(?P<sign>[+-]?)(?P<number>[0-9]{1,30}(?:\.[0-9]{1,30})?)\s*(?P<unit>[A-Za-z]*)\s*")
_SHARE = re.compile(r"\s*(?P<number>[0-9]{1,3}(?:\.[0-9]{1,6})?)\s*%\s*")
# What a unit that can be read two ways, or is missing, may have meant: decimal, then binary.
_AMBIGUOUS = {"": "G", "k": "k", "K": "k", "M": "M", "G": "G", "T": "T", "P": "P", "KB": "k"}


Sector = NewType("Sector", int)
"""The number of a sector, from the start of a disk or a partition, or a number of sectors; never bytes."""

Cluster = NewType("Cluster", int)
"""The number of a cluster as its filesystem counts them; never bytes, never sectors."""


def offset_of(sector: Sector, sector_size: int) -> int:
    """Return the byte at which a sector starts, or the bytes that so many sectors have."""
    return sector * sector_size


def end_of(sector: Sector, sector_size: int) -> int:
    """Return the first byte after a sector."""
    return offset_of(sector, sector_size) + sector_size


def sector_at(offset: int, sector_size: int) -> Sector:
    """Return the sector that a byte lies in, or the whole sectors that so many bytes have."""
    return Sector(offset // sector_size)


class SizeError(ValueError):
    """A size that cannot be read, or can be read two ways; the message shows the readings."""


@lru_cache(4096)
def parse_size(text: str) -> int:
    """Return the bytes that `text` ("120 GiB", "1.5 TB", "512 B") names, rounded up to a whole byte.

    Raises:
        SizeError: no unit, an ambiguous one, a negative size, or nothing that reads as a size.
    """
    match = _SIZE.fullmatch(text)
    if match is None:
        raise SizeError(f'"{text}" is not a size; write a number and a unit, such as "100 GiB" or "100 GB"')
    number, unit = Fraction(match["number"]), match["unit"]
    if match["sign"] == "-":
        raise SizeError(f'"{text}" is negative; sizes are positive')
    if unit not in UNITS:
        raise SizeError(f'"{text}" {_two_readings(match["number"], unit)}')
    size = -(-number * UNITS[unit] // 1)
    if size >= LARGEST:
        raise SizeError(f'"{text}" is larger than any file can be; the most is just under 8192 PiB')
    return int(size)


def _two_readings(number: str, unit: str) -> str:
    known = "; the units are B, " + ", ".join((*DECIMAL, *BINARY))
    if unit not in _AMBIGUOUS:
        near = next((name for name in UNITS if name.lower() == unit.lower()), "")
        return f'has the unknown unit "{unit}"' + (f'; did you mean "{number} {near}"?' if near else known)
    letter = _AMBIGUOUS[unit]
    value = Fraction(number)
    binary_name, decimal_name = f"{letter.upper()}iB", f"{letter}B"
    binary, decimal = int(value * UNITS[binary_name]), int(value * UNITS[decimal_name])
    reason = f'has the unit "{unit}", which is read two ways' if unit else "has no unit"
    return (
        f"{reason}: did you mean {number} {binary_name} ({show_decimal(binary)}) "
        f"or {number} {decimal_name} ({show_binary(decimal)})?"
    )


def parse_share(text: str) -> Fraction | None:
    """Return the share of the whole that `text` ("25%") names, from 0 to 1, or None if it is not a share."""
    match = _SHARE.fullmatch(text)
    if match is None:
        return None
    share = Fraction(match["number"]) / 100
    if share > 1:
        raise SizeError(f'"{text}" is more than the whole; shares run to 100%')
    return share


def show_binary(size: int) -> str:
    """Return `size` bytes in the largest fitting binary unit, with at most two decimals."""
    return _show(size, BINARY)


def show_decimal(size: int) -> str:
    """Return `size` bytes in the largest fitting decimal unit, with at most two decimals."""
    return _show(size, DECIMAL)


def show_both(size: int) -> str:
    """Return `size` bytes both ways: "100 GiB (107.37 GB)"; the way that needs no rounding stands first."""
    binary, decimal = show_binary(size), show_decimal(size)
    if binary == decimal:
        return binary
    if _exact(size, DECIMAL) and not _exact(size, BINARY):
        return f"{decimal} ({binary})"
    return f"{binary} ({decimal})"


def show_apart(one: int, other: int) -> tuple[str, str]:
    """Return two different numbers of bytes both ways; to the byte where rounding would make them read the same."""
    if one != other and (show_binary(one) == show_binary(other) or show_decimal(one) == show_decimal(other)):
        return show_bytes(one), show_bytes(other)
    return show_both(one), show_both(other)


def outside(size: int, least: int, most: int) -> str:
    """Return the end of a sentence about `size` bytes, which are not from `least` to `most` bytes."""
    low, beside_low = show_apart(least, size)
    high, beside_high = show_apart(most, size)
    there = beside_high if beside_low == show_both(size) else beside_low
    return f"from {low} to {high}, not at {there}"


def counted(count: int, one: str, many: str = "") -> str:
    """Return how many there are: "1 disk", "2 disks"; `many` is the word for several that is not made with an s."""
    return f"{count}{NO_BREAK}{one if count == 1 else many or one + 's'}"


def show_as_windows(size: int) -> str:
    """Return `size` bytes as Windows writes it: powers of 1024 under the names of powers of 1000, three digits, cut."""
    name, factor = next(((name, factor) for name, factor in BINARY.items() if size < 1000 * factor), ("PiB", 1 << 50))
    decimals = 2 if size < 10 * factor else 1 if size < 100 * factor else 0
    whole, part = divmod(size * 10**decimals // factor, 10**decimals)
    return f"{whole}{f'.{part:0{decimals}d}' if decimals else ''}{NO_BREAK}{name.replace('i', '')}"


def show_as_linux(size: int) -> str:
    """Return a size as Linux lists those of disks: in powers of 1024, with one decimal unless that is 0."""
    power = min(max(size.bit_length() - 1, 0) // 10, len(_LINUX) - 1)
    tenths = (size * 10 + (1 << 10 * power) // 2) >> 10 * power
    whole, tenth = divmod(tenths, 10)
    return f"{whole}.{tenth}{_LINUX[power]}" if tenth else f"{whole}{_LINUX[power]}"


def show_bytes(size: int) -> str:
    """Return `size` to the byte, its digits in groups of three: "85 899 345 920 B"."""
    return f"{size:,}{NO_BREAK}B".replace(",", NO_BREAK)


def _unit(size: int, units: dict[str, int]) -> tuple[str, int]:
    fitting = [(name, factor) for name, factor in units.items() if size >= factor]
    return fitting[-1] if fitting else ("B", 1)


def _exact(size: int, units: dict[str, int]) -> bool:
    return size * 100 % _unit(size, units)[1] == 0


def _show(size: int, units: dict[str, int]) -> str:
    name, factor = _unit(size, units)
    hundredths = (size * 100 + factor // 2) // factor
    whole, part = divmod(hundredths, 100)
    return f"{whole}.{part:02d}".rstrip("0").rstrip(".") + f"{NO_BREAK}{name}"


def align_up(value: int, step: int) -> int:
    """Return the smallest multiple of `step` that is not below `value`."""
    return -(-value // step) * step


def align_down(value: int, step: int) -> int:
    """Return the largest multiple of `step` that is not above `value`."""
    return value // step * step
