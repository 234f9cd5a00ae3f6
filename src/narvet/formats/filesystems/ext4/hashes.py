"""The hashes of names by which ext4 finds entries in large folders (fs/ext4/hash.c, "Hash Tree Directories").

Three functions, each with characters taken as signed or not: of version 0 (an old one), half of MD4 (RFC 1320's rounds
over eight words), and TEA.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Sequence

LEGACY, HALF_MD4, TEA = 0, 1, 2
UNSIGNED = 3
"""What is added to a version where the filesystem takes characters as unsigned."""

_ALL = 0xFFFFFFFF
_START = (0x67452301, 0xEFCDAB89, 0x98BADCFE, 0x10325476)
_END_OF_FOLDER = 0x7FFFFFFF << 1  # a hash that no name has
_DELTA = 0x9E3779B9


def name_hash(name: bytes, version: int, seed: bytes) -> int:
    """Return the hash of a name, 32 bits, the lowest of them zero; `seed` is 16 bytes, zeros for the usual start.

    Args:
        name: the name's bytes.
        version: 0 to 2, plus 3 where characters are unsigned.
        seed: the filesystem's s_hash_seed.

    Raises:
        ValueError: there is no such version.
    """
    signed, kind = version < UNSIGNED, version % UNSIGNED
    if not 0 <= version < 2 * UNSIGNED:
        raise ValueError(f"there is no hash of version {version}")
    state = struct.unpack("<4I", seed) if any(seed) else _START
    if kind == LEGACY:
        found = _legacy(name, signed=signed)
    elif kind == HALF_MD4:
        for place in range(0, len(name), 32):
            state = _half_md4(state, _words(name[place:], 8, signed=signed))
        found = state[1]
    else:
        for place in range(0, len(name), 16):
            state = _tea(state, _words(name[place:], 4, signed=signed))
        found = state[0]
    found &= ~1
    return found if found != _END_OF_FOLDER else _END_OF_FOLDER - 2


def _characters(name: bytes, *, signed: bool) -> list[int]:
    return [byte - 256 if signed and byte > 127 else byte for byte in name]


def _words(name: bytes, count: int, *, signed: bool) -> list[int]:
    """Return a name as words, the rest of which is its length (str2hashbuf)."""
    pad = len(name) | len(name) << 8
    pad |= pad << 16
    words, value = list[int](), pad & _ALL
    for index, sign in enumerate(_characters(name[: 4 * count], signed=signed)):
        value = sign + (value << 8) & _ALL
        if index % 4 == 3:
            words.append(value)
            value = pad & _ALL
    if len(words) < count:
        words.append(value)
    return words + [pad & _ALL] * (count - len(words))


def _legacy(name: bytes, *, signed: bool) -> int:
    first, second = 0x12A3FE2D, 0x37ABE8F9
    for sign in _characters(name, signed=signed):
        mixed = second + (first ^ sign * 7152373 & _ALL) & _ALL
        if mixed & 0x80000000:
            mixed = mixed - 0x7FFFFFFF & _ALL
        second, first = first, mixed
    return first << 1 & _ALL


def _half_md4(state: Sequence[int], words: Sequence[int]) -> tuple[int, int, int, int]:
    a, b, c, d = state
    rounds: tuple[tuple[Callable[[int, int, int], int], int, tuple[int, ...], tuple[int, ...]], ...] = (
        (lambda x, y, z: z ^ x & (y ^ z), 0, (0, 1, 2, 3, 4, 5, 6, 7), (3, 7, 11, 19)),
        (lambda x, y, z: (x & y) + ((x ^ y) & z), 0x5A827999, (1, 3, 5, 7, 0, 2, 4, 6), (3, 5, 9, 13)),
        (lambda x, y, z: x ^ y ^ z, 0x6ED9EBA1, (3, 7, 2, 6, 1, 5, 0, 4), (3, 9, 11, 15)),
    )
    for mix, constant, order, shifts in rounds:
        for index, word in enumerate(order):
            a = _rolled(a + mix(b, c, d) + words[word] + constant & _ALL, shifts[index % 4])
            a, b, c, d = d, a, b, c
    return tuple(one + two & _ALL for one, two in zip(state, (a, b, c, d), strict=True))  # type: ignore[return-value]


def _rolled(value: int, bits: int) -> int:
    return (value << bits | value >> 32 - bits) & _ALL


def _tea(state: Sequence[int], words: Sequence[int]) -> tuple[int, int, int, int]:
    first, second, total = state[0], state[1], 0
    a, b, c, d = words
    for _ in range(16):
        total = total + _DELTA & _ALL
        first = first + ((second << 4) + a ^ second + total ^ (second >> 5) + b) & _ALL
        second = second + ((first << 4) + c ^ first + total ^ (first >> 5) + d) & _ALL
    return state[0] + first & _ALL, state[1] + second & _ALL, state[2], state[3]
