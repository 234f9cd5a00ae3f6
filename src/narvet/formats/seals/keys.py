"""From a passphrase to the key of a sealed volume, and back into a key slot. The cryptography is that of packages."""

from __future__ import annotations

import hashlib
import os
import time
from collections.abc import Iterator

from narvet.formats.seals.header import HASHES, Digest, Kdf, Slot
from narvet.ground.errors import ImageError, RefusedError
from narvet.ground.units import KIB, MIB, show_binary

AREA_SECTOR = 512
_LEAST_PASSES, _MOST_THREADS = 4, 4
_LEAST_MEMORY, _USUAL_MEMORY = 32 * MIB, 1024 * MIB
_DIGEST_ITERATIONS = 100_000
_FILE_ITERATIONS = 1000  # as few as are taken: what lies in a key file cannot be guessed
_FILE_KEY = 64  # bytes, written as twice as many signs
_LETTERS = "0123456789abcdefghjkmnpqrstvwxyz"  # none that reads like another
_GROUPS, _IN_GROUP = 8, 5


def cost_of(seconds: float = 2.0, memory: int | None = None, passes: int | None = None) -> Kdf:
    """Return what it is to cost to try a passphrase: about so many seconds on this machine, or as given.

    `memory` is bytes that it takes, `passes` how often it goes over them; the salt is a new one.
    """
    threads = min(os.cpu_count() or 1, _MOST_THREADS)
    own = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // 4
    kib = max(min(memory or min(_USUAL_MEMORY, own), 4096 * MIB), 8 * threads * KIB) // KIB
    if passes is None:
        passes = _LEAST_PASSES
        started = time.monotonic()
        derived(Kdf("argon2id", bytes(32), 1, kib, threads), b"measured", 32)
        each = max(time.monotonic() - started, 0.001)
        while memory is None and each * _LEAST_PASSES > seconds and kib * KIB > _LEAST_MEMORY:
            kib, each = kib // 2, each / 2
        passes = max(int(seconds / each), _LEAST_PASSES)
    return Kdf("argon2id", os.urandom(32), passes, kib, threads)


def derived(kdf: Kdf, passphrase: bytes, length: int) -> bytes:
    """Return the key of a slot that a passphrase gives.

    Raises:
        RefusedError: this machine has not the memory that it takes.
    """
    if kdf.kind == "pbkdf2":
        return hashlib.pbkdf2_hmac(kdf.hash, passphrase, kdf.salt, kdf.iterations, length)
    from argon2.exceptions import HashingError
    from argon2.low_level import Type, hash_secret_raw

    kind = Type.ID if kdf.kind == "argon2id" else Type.I
    try:
        return hash_secret_raw(passphrase, kdf.salt, kdf.passes, kdf.memory, kdf.threads, length, kind)
    except (HashingError, MemoryError):
        raise RefusedError(
            f"trying a passphrase takes {show_binary(kdf.memory * KIB)} of memory, which this machine does not give"
        ) from None


def sector_key(data: bytes, key: bytes, number: int, *, seal: bool) -> bytes:
    """Return one sector sealed, or opened, by AES-XTS with its number as plain64 has it."""
    from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

    cipher = Cipher(algorithms.AES(key), modes.XTS(number.to_bytes(16, "little")))
    work = cipher.encryptor() if seal else cipher.decryptor()
    return work.update(data) + work.finalize()


def area_sectors(data: bytes, key: bytes, *, seal: bool) -> bytes:
    """Return the area of a key slot sealed, or opened: its sectors count from 0."""
    rows = (data[at : at + AREA_SECTOR] for at in range(0, len(data), AREA_SECTOR))
    return b"".join(sector_key(row, key, number, seal=seal) for number, row in enumerate(rows))


def split(key: bytes, stripes: int, hash_name: str) -> bytes:
    """Return a key spread over so many stripes, all of which it takes to get it back (LUKS1, section 2.4)."""
    parts, state = [], bytes(len(key))
    for _ in range(stripes - 1):
        parts.append(os.urandom(len(key)))
        state = _diffused(_mixed(state, parts[-1]), hash_name)
    return b"".join((*parts, _mixed(state, key)))


def merged(data: bytes, length: int, stripes: int, hash_name: str) -> bytes:
    """Return the key that was spread over stripes."""
    state = bytes(length)
    for at in range(stripes - 1):
        state = _diffused(_mixed(state, data[at * length : (at + 1) * length]), hash_name)
    return _mixed(state, data[(stripes - 1) * length : stripes * length])


def _mixed(one: bytes, other: bytes) -> bytes:
    return (int.from_bytes(one) ^ int.from_bytes(other)).to_bytes(len(one))


def _diffused(data: bytes, hash_name: str) -> bytes:
    return b"".join(_chunks(data, hash_name))


def _chunks(data: bytes, hash_name: str) -> Iterator[bytes]:
    step = hashlib.new(hash_name).digest_size
    for number, at in enumerate(range(0, len(data), step)):
        part = data[at : at + step]
        yield hashlib.new(hash_name, number.to_bytes(4) + part).digest()[: len(part)]


def digest_of(key: bytes) -> Digest:
    """Return by what a new volume's key is to be known."""
    salt = os.urandom(32)
    found = hashlib.pbkdf2_hmac("sha256", key, salt, _DIGEST_ITERATIONS, 32)
    return Digest(salt, found, _DIGEST_ITERATIONS, "sha256", ())


def is_key(key: bytes, digest: Digest) -> bool:
    """Return whether a key is that of the volume."""
    found = hashlib.pbkdf2_hmac(digest.hash, key, digest.salt, digest.iterations, len(digest.digest))
    return bool(digest.digest) and found == digest.digest


def opened_slot(slot: Slot, area: bytes, passphrase: bytes) -> bytes:
    """Return what a passphrase makes of the key in a slot, by the bytes of its area: the right one has the digest."""
    key = derived(slot.kdf, passphrase, slot.area_key_size)
    length = slot.key_size * slot.stripes
    whole = area[: -(-length // AREA_SECTOR) * AREA_SECTOR]
    if slot.hash not in HASHES:
        raise ImageError("a key slot is split in a way that is not known here")
    return merged(area_sectors(whole, key, seal=False), slot.key_size, slot.stripes, slot.hash)


def file_cost() -> Kdf:
    """Return what it is to cost to try a key file: next to nothing."""
    return Kdf("pbkdf2", os.urandom(32), iterations=_FILE_ITERATIONS, hash="sha256")


def file_key(key: bytes, salt: bytes) -> bytes:
    """Return what a key file holds, by the volume's key and a random salt, so that it can be made anew (RFC 5869)."""
    from cryptography.hazmat.primitives.hashes import SHA256
    from cryptography.hazmat.primitives.kdf.hkdf import HKDF

    return HKDF(SHA256(), _FILE_KEY, salt, b"narvet key file").derive(key).hex().encode()


def is_file_key(content: bytes) -> bool:
    """Return whether a file holds what looks like a key of Narvet's."""
    return len(content) == 2 * _FILE_KEY and all(sign in b"0123456789abcdef" for sign in content)


def recovery_key() -> str:
    """Return a new key that people can type: groups of letters and digits, none of which reads like another."""
    number = int.from_bytes(os.urandom(_GROUPS * _IN_GROUP * 5 // 8))
    signs = [_LETTERS[number >> 5 * at & 31] for at in range(_GROUPS * _IN_GROUP)]
    return "-".join("".join(signs[at : at + _IN_GROUP]) for at in range(0, len(signs), _IN_GROUP))
