"""Checksums of the on-disk formats, for single byte strings and for whole tables of records at once."""

from __future__ import annotations

import zlib
from functools import cache
from typing import TYPE_CHECKING, Any

import crc32c as _crc32c

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

_ALL = 0xFFFFFFFF
_CASTAGNOLI = 0x82F63B78  # reflected polynomial, RFC 3720, appendix B.4


def crc32(data: bytes) -> int:
    """Return the CRC-32 of `data` with the usual start and final inversion (ISO 3309; UEFI's tables)."""
    return zlib.crc32(data)


def crc32c_raw(seed: int, data: bytes) -> int:
    """Return the Castagnoli CRC of `data` from the register state `seed`, without the final inversion."""
    return _crc32c.crc32c(data, seed ^ _ALL) ^ _ALL


def crc32c(data: bytes) -> int:
    """Return the CRC-32C of `data` with the usual start and final inversion (RFC 3720, appendix B.4)."""
    return _crc32c.crc32c(data)


@cache
def _wide_table() -> NDArray[np.uint32]:
    """Return what 16 bits shifted through the register leave there: 65 536 values, 256 KiB."""
    import numpy as np

    table = np.arange(1 << 16, dtype=np.uint32)
    for _ in range(16):
        table = np.where(table & 1, (table >> 1) ^ np.uint32(_CASTAGNOLI), table >> 1).astype(np.uint32)
    return table


def crc32c_rows(seeds: NDArray[np.uint32], rows: NDArray[Any]) -> NDArray[np.uint32]:
    """Return `crc32c_raw` of every row at once.

    Args:
        seeds: register states, shape (n,).
        rows: any array of n records whose item size is even, shape (n,).
    """
    import numpy as np

    table = _wide_table()
    words = np.ascontiguousarray(rows).view("<u2").reshape(len(rows), -1)
    state = seeds.astype(np.uint32)
    for column in words.T:
        state = table[(state ^ column) & 0xFFFF] ^ (state >> 16)
    return state
