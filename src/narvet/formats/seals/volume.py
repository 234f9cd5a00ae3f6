"""The headers of a sealed volume on a device: read, whichever of the two is sound; made; changed in the safe order.

Nothing that is read is trusted.
"""

from __future__ import annotations

import hashlib
import os
from contextlib import suppress

from narvet.block.contract import BlockDevice
from narvet.formats.seals import records as r
from narvet.formats.seals.device import SealedDevice
from narvet.formats.seals.header import (
    AREA,
    CIPHER,
    DATA_OFFSET,
    HASHES,
    HEADER_SIZE,
    HEADER_SIZES,
    KEY_SIZE,
    STRIPES,
    Digest,
    FileKey,
    Kdf,
    Seal,
    Slot,
    decoded,
    encoded,
    free_area,
    new_text,
    seal_of,
    with_file_key,
    with_slot,
    without_slot,
)
from narvet.formats.seals.keys import (
    area_sectors,
    derived,
    digest_of,
    file_cost,
    file_key,
    is_key,
    opened_slot,
    split,
)
from narvet.ground.errors import ImageError, RequestError
from narvet.ground.units import MIB
from narvet.ground.values import replace

LEAST = DATA_OFFSET + MIB
"""Bytes of the smallest sealed volume that is made: the header, and something inside."""
_FIRST_CIPHERS = {("aes", "xts-plain64"): CIPHER}


def is_sealed(device: BlockDevice) -> bool:
    """Return whether a device carries a header of a sealed volume, at either place."""
    if device.size < r.BinaryHeader.size:
        return False
    if device.read(0, 6) == r.MAGIC:
        return True
    return any(device.size >= 2 * at and device.read(at, 6) == r.SECOND_MAGIC for at in HEADER_SIZES)


def read_seal(device: BlockDevice) -> Seal | None:
    """Return the sealed volume that a device is, None if it is none.

    Raises:
        ImageError: neither of its headers is sound.
    """
    if not is_sealed(device):
        return None
    if device.read(0, 8) == r.MAGIC + b"\0\1":
        return _first_version(device)
    found: list[tuple[r.BinaryHeader, dict[str, object]]] = []
    damaged = ""
    with suppress(ImageError):
        found.append(_header(device, 0, r.MAGIC))
    places = [found[0][0].hdr_size] if found else HEADER_SIZES
    for place in places:
        with suppress(ImageError):
            found.append(_header(device, place, r.SECOND_MAGIC))
            break
    if not found:
        raise ImageError("both headers of a sealed volume are damaged; only a copy of them helps")
    if len(found) < 2 or found[0][0].seqid != found[1][0].seqid:
        damaged = "the first header" if found[0][0].magic == r.SECOND_MAGIC else "the second header"
    head, text = max(found, key=lambda pair: pair[0].seqid)
    return replace(seal_of(head, text, device.size), damaged=damaged)


def _header(device: BlockDevice, place: int, magic: bytes) -> tuple[r.BinaryHeader, dict[str, object]]:
    head = r.BinaryHeader.decode(device.read(place, r.BinaryHeader.size))
    if head.magic != magic or head.hdr_size not in HEADER_SIZES:
        raise ImageError("the header of a sealed volume is of no known size")
    return decoded(device.read(place, head.hdr_size), magic, place)


def _first_version(device: BlockDevice) -> Seal:
    """Return what the header of a volume of version 1 says (LUKS1, section 2)."""
    head = r.FirstHeader.decode(device.read(0, r.FirstHeader.size))
    names = tuple(one.split(b"\0", 1)[0].decode("ascii", "replace") for one in (head.cipher_name, head.cipher_mode))
    hash_name = head.hash_spec.split(b"\0", 1)[0].decode("ascii", "replace")
    offset = head.payload_offset * 512
    if hash_name not in HASHES or not 0 < offset <= device.size or head.key_bytes not in (32, 64):
        raise ImageError("the header of a sealed volume, of version 1, makes no sense")
    slots = []
    for number in range(r.SLOTS_OF_FIRST):
        place = r.FirstHeader.size + number * r.FirstSlot.size
        one = r.FirstSlot.decode(device.read(place, r.FirstSlot.size))
        if one.active != r.ENABLED:
            continue
        start, length = one.key_material_offset * 512, head.key_bytes * one.stripes
        if not (1 <= one.stripes <= 8192 and 1 <= one.iterations <= 1 << 30 and 0 < start <= start + length <= offset):
            raise ImageError("a key slot of a sealed volume, of version 1, makes no sense")
        kdf = Kdf("pbkdf2", one.salt, iterations=one.iterations, hash=hash_name)
        size = -(-length // 512) * 512
        slots.append(Slot(number, kdf, start, size, head.key_bytes, head.key_bytes, one.stripes, hash_name, CIPHER))
    cipher = _FIRST_CIPHERS.get((names[0], names[1]), "-".join(names))
    if not 1 <= head.mk_digest_iter <= 1 << 30:
        raise ImageError("the header of a sealed volume, of version 1, makes no sense")
    digest = Digest(head.mk_digest_salt, head.mk_digest, head.mk_digest_iter, hash_name, ())
    uuid = head.uuid.split(b"\0", 1)[0].decode("ascii", "replace")
    why = "" if cipher == CIPHER else f"it uses the cipher {cipher[:40]}, which is not known here"
    return Seal(1, uuid, "", 0, 0, offset, 512, 0, cipher, tuple(slots), digest, why_locked=why)


def key_of(device: BlockDevice, seal: Seal, passphrase: bytes) -> tuple[bytes, int] | None:
    """Return the volume's key that a passphrase opens, and in which slot, None where it opens none.

    Raises:
        RefusedError: this machine has not the memory that it takes.
    """
    if seal.why_locked:
        return None
    for slot in seal.slots:
        key = opened_slot(slot, device.read(slot.offset, slot.size), passphrase)
        if is_key(key, seal.digest):
            return key, slot.number
    return None


def inside(device: BlockDevice, seal: Seal, key: bytes) -> SealedDevice:
    """Return what is inside a sealed volume."""
    return SealedDevice(device, seal.offset, key, seal.sector_size, seal.tweak)


def make_seal(
    device: BlockDevice,
    uuid: str,
    label: str,
    sector_size: int,
    kdf: Kdf,
    passphrases: tuple[bytes, ...],
    *,
    for_file: bool = False,
) -> tuple[Seal, bytes]:
    """Make a device a sealed volume with a slot for each passphrase; return it with its key.

    `kdf` says what each passphrase is to cost; each slot gets a salt of its own. `for_file` adds one for a key file.
    """
    key = os.urandom(KEY_SIZE)
    digest = digest_of(key)
    text = new_text(sector_size, digest)
    seal = Seal(2, uuid, label, 1, HEADER_SIZE, DATA_OFFSET, sector_size, 0, CIPHER, (), digest, text)
    device.zero(0, DATA_OFFSET)
    for passphrase in passphrases:
        seal = add_key(device, seal, key, kdf, passphrase)
    if for_file:
        seal = add_file_key(device, seal, key)
    write_headers(device, seal)
    return seal, key


def add_key(device: BlockDevice, seal: Seal, key: bytes, kdf: Kdf, passphrase: bytes) -> Seal:
    """Write the key of a volume into a free slot for a passphrase; return the volume with it, its headers unchanged.

    Raises:
        RequestError: there is no free slot.
    """
    free = free_area(seal)
    if free is None:
        raise RequestError("the sealed volume has no free place for another key; remove one first")
    number, place = free
    kdf = replace(kdf, salt=os.urandom(32))
    slot = Slot(number, kdf, place, AREA, len(key), 64, STRIPES, "sha256", CIPHER)
    material = split(key, STRIPES, "sha256")
    sealed = area_sectors(material, derived(kdf, passphrase, slot.area_key_size), seal=True)
    device.write(place, sealed.ljust(AREA, b"\0"))
    return with_slot(seal, slot)


def add_file_key(device: BlockDevice, seal: Seal, key: bytes) -> Seal:
    """Write the key of a volume into a free slot for a key file; return the volume with it, its headers unchanged.

    Raises:
        RequestError: there is no free slot.
    """
    salt = os.urandom(32)
    content = file_key(key, salt)
    there = {one.number for one in seal.slots}
    seal = add_key(device, seal, key, file_cost(), content)
    (number,) = {one.number for one in seal.slots} - there
    return with_file_key(seal, FileKey(number, salt, hashlib.sha256(content).digest()))


def drop_key(device: BlockDevice, seal: Seal, number: int) -> Seal:
    """Make the area of a key slot unreadable; return the volume without it, its headers unchanged."""
    slot = next(one for one in seal.slots if one.number == number)
    device.write(slot.offset, os.urandom(slot.size))
    return without_slot(seal, number)


def write_headers(device: BlockDevice, seal: Seal) -> None:
    """Write both headers, each with a salt of its own."""
    for magic, place in ((r.MAGIC, 0), (r.SECOND_MAGIC, seal.header_size)):
        device.write(place, encoded(seal, magic, place, os.urandom(64)))
