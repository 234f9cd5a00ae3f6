"""The key of a sealed volume from its passphrase, without the product's code: what a kernel's own cipher is given.

It reads the first header, derives the key of each slot, opens its area, puts the split key together, and looks whether
the digest knows it.
"""

from __future__ import annotations

import base64
import hashlib
import json
import struct
from collections.abc import Callable
from typing import Any

from argon2.low_level import Type, hash_secret_raw
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

Read = Callable[[int, int], bytes]


def header(read: Read, place: int = 0) -> tuple[Any, bytes]:
    """Return the text of a header, which must be sound, and its bytes."""
    size = struct.unpack_from(">Q", read(place, 4096), 8)[0]
    data = read(place, size)
    magic = b"LUKS\xba\xbe" if place == 0 else b"SKUL\xba\xbe"
    assert data[:8] == magic + b"\0\2" and struct.unpack_from(">Q", data, 256)[0] == place
    assert data[72:78] == b"sha256"
    assert hashlib.sha256(data[:448] + bytes(64) + data[512:]).digest() == data[448:480]
    return json.loads(data[4096:].rstrip(b"\0")), data


def volume_key(read: Read, passphrase: bytes) -> tuple[bytes, int, int]:
    """Return the key that a passphrase opens, where what is sealed starts, and the bytes of a sector."""
    text, _ = header(read)
    other, _ = header(read, 4096 + int(text["config"]["json_size"]))
    assert other == text
    segment, digest = text["segments"]["0"], text["digests"]["0"]
    for slot in text["keyslots"].values():
        key = _slot_key(read, slot, passphrase)
        salt, wanted = (base64.b64decode(digest[name]) for name in ("salt", "digest"))
        if hashlib.pbkdf2_hmac(digest["hash"], key, salt, digest["iterations"], len(wanted)) == wanted:
            return key, int(segment["offset"]), segment["sector_size"]
    raise AssertionError("no slot is opened")


def _slot_key(read: Read, slot: Any, passphrase: bytes) -> bytes:
    kdf, area, af = slot["kdf"], slot["area"], slot["af"]
    length, stripes = int(slot["key_size"]), int(af["stripes"])
    salt = base64.b64decode(kdf["salt"])
    if kdf["type"] == "pbkdf2":
        own = hashlib.pbkdf2_hmac(kdf["hash"], passphrase, salt, kdf["iterations"], area["key_size"])
    else:
        cost = kdf["time"], kdf["memory"], kdf["cpus"]
        own = hash_secret_raw(passphrase, salt, *cost, area["key_size"], Type.ID)
    data = read(int(area["offset"]), length * stripes)
    opened = b""
    for sector in range(len(data) // 512):
        work = Cipher(algorithms.AES(own), modes.XTS(struct.pack("<QQ", sector, 0))).decryptor()
        opened += work.update(data[sector * 512 : sector * 512 + 512]) + work.finalize()
    state = bytearray(length)
    for at in range(stripes - 1):
        mixed = bytes(a ^ b for a, b in zip(state, opened[at * length : at * length + length], strict=True))
        parts = [mixed[place : place + 32] for place in range(0, length, 32)]
        state = bytearray(
            b"".join(hashlib.sha256(struct.pack(">I", n) + part).digest()[: len(part)] for n, part in enumerate(parts))
        )
    return bytes(a ^ b for a, b in zip(state, opened[(stripes - 1) * length : stripes * length], strict=True))


def table(key: bytes, device: str, size: int, offset: int, sector: int) -> str:
    """Return the row by which a kernel opens what is sealed: `size` is the bytes of the device."""
    length = (size - offset) // sector * sector // 512
    return f"0 {length} crypt aes-xts-plain64 {key.hex()} 0 {device} {offset // 512} 1 sector_size:{sector}"
