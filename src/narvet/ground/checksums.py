"""Checksums of the on-disk formats, for single byte strings and for whole tables of records at once."""

from __future__ import annotations

import zlib
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import crc32c as _crc32c

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

_ALL = 0xFFFFFFFF
_KEPT = 1 << 16  # rows for whose numbers what they bring about is kept
_AT_ONCE = 4096  # rows that are gone through together, so few that they stay in the processor's memory
_FEW = 4096  # rows for which going through them is faster than making tables


def crc32(data: bytes) -> int:
    """Return the CRC-32 of `data` with the usual start and final inversion (ISO 3309; UEFI's tables)."""
    return zlib.crc32(data)


def crc32c_raw(seed: int, data: bytes | memoryview) -> int:
    """Return the Castagnoli CRC of `data` from the register state `seed`, without the final inversion."""
    return _crc32c.crc32c(data, seed ^ _ALL) ^ _ALL


def crc32c(data: bytes) -> int:
    """Return the CRC-32C of `data` with the usual start and final inversion (RFC 3720, appendix B.4)."""
    return _crc32c.crc32c(data)


def crc32c_rows(seeds: NDArray[np.uint32], rows: NDArray[Any]) -> NDArray[np.uint32]:
    """Return `crc32c_raw` of every row at once.

    A CRC is linear: rows that differ from the first one in some 16-bit words differ in their CRC by what those words
    alone bring about. Tables of group descriptors are alike in most of their words, so most cost nothing.

    Args:
        seeds: register states, shape (n,), n at least 1.
        rows: any array of n records whose item size is even and at least 4 bytes, shape (n,).
    """
    import numpy as np

    if len(rows) < _FEW:
        size, data = rows.dtype.itemsize, memoryview(rows.tobytes())
        parts = [data[at : at + size] for at in range(0, len(data), size)]
        each = map(_crc32c.crc32c, parts, (seeds ^ np.uint32(_ALL)).tolist())
        return np.fromiter(each, dtype=np.uint32, count=len(rows)) ^ np.uint32(_ALL)
    words = np.ascontiguousarray(rows).view("<u2").reshape(len(rows), -1)
    length = 2 * words.shape[1]
    states = np.ascontiguousarray(seeds, dtype="<u4").view("<u2").reshape(len(rows), 2)
    first = crc32c_raw(int(seeds[0]), words[0].tobytes())
    result = np.full(len(rows), first, dtype=np.uint32)
    kept: dict[int, NDArray[np.uint32]] = {}
    for start in range(0, len(rows), _AT_ONCE):
        part = slice(start, start + _AT_ONCE)
        for table in (states, words):
            change = table[part] ^ table[0]
            for column in np.flatnonzero(np.bitwise_or.reduce(change, axis=0)).tolist():
                if column not in kept:
                    kept[column] = _effects(2 * column, length)
                result[part] ^= kept[column][change[:, column]]
    return result


def crc32c_numbered(seed: int, rows: NDArray[Any], first: int) -> NDArray[np.uint32]:
    """Return `crc32c_raw` of every row with its number, 32 bits, ahead of it: `first` and on.

    A CRC is linear: what the numbers bring about, and what the seed does, is the same whatever is in the rows.

    Args:
        rows: as for `crc32c_rows`.
    """
    import numpy as np

    size = rows.dtype.itemsize
    of_numbers = (_kept_of_numbers if len(rows) <= _KEPT else _of_numbers)(first, len(rows), size)
    own = crc32c_rows(np.zeros(len(rows), dtype=np.uint32), rows)
    return own ^ of_numbers ^ np.uint32(crc32c_raw(seed, bytes(4 + size)))


def _of_numbers(first: int, count: int, size: int) -> NDArray[np.uint32]:
    """Return what numbers bring about in the CRC of so many rows of `size` bytes behind them."""
    import numpy as np

    numbers = np.arange(first, first + count, dtype="<u4")
    if count < _FEW:
        ahead = crc32c_rows(np.zeros(count, dtype=np.uint32), numbers)
        return crc32c_rows(ahead, np.zeros(count, dtype=f"V{size}"))
    low, high = (_effects(offset, 4 + size) for offset in (0, 2))
    sums: NDArray[np.uint32] = low[numbers & 0xFFFF] ^ high[numbers >> 16]
    return sums


_kept_of_numbers = lru_cache(maxsize=8)(_of_numbers)


def crc16_rows(seed: int, rows: NDArray[Any]) -> NDArray[np.uint16]:
    """Return the CRC-16 (x^16 + x^15 + x^2 + 1, bits reversed) of every row of bytes, from the register state `seed`.

    Args:
        rows: bytes, shape (n, length).
    """
    import numpy as np

    table = np.arange(256, dtype=np.uint16)
    for _ in range(8):
        table = np.where(table & 1, table >> 1 ^ 0xA001, table >> 1).astype(np.uint16)
    state = np.full(len(rows), seed, dtype=np.uint16)
    for column in rows.T:
        state = state >> 8 ^ table[(state ^ column) & 0xFF]
    return state


def _effects(offset: int, length: int) -> NDArray[np.uint32]:
    """Return what each value of the 16-bit word at `offset` of `length` bytes, alone among zeros, leaves as CRC."""
    import numpy as np

    table = np.zeros(1, dtype=np.uint32)
    for bit in range(16):
        alone = (1 << bit).to_bytes(2, "little") + bytes(max(length - offset - 2, 0))
        table = np.concatenate([table, table ^ np.uint32(crc32c_raw(0, alone))])
    return table
