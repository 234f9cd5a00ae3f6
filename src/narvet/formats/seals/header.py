"""What the header of a sealed volume says, as a frozen value; and the same text with other key slots. Pure.

LUKS2 On-Disk Format Specification 1.1.1, sections 2.2 to 3.5. What the text says besides is kept when it changes.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import json
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any, Literal

from narvet.formats.seals import records as r
from narvet.ground.errors import ImageError
from narvet.ground.units import KIB, MIB
from narvet.ground.values import Frozen, replace

Text = dict[str, Any]

HEADER_SIZES = tuple(16 * KIB << at for at in range(9))
"""Bytes that a header can have with its text (section 2.1)."""
HEADER_SIZE, DATA_OFFSET = 16 * KIB, 16 * MIB
KEY_SIZE, STRIPES = 64, 4000
AREA = 256000 + 2048
"""Bytes of the area of a split key of 64 bytes, in whole pages."""
MOST_SLOTS = 32
CIPHER = "aes-xts-plain64"
HASHES = ("sha1", "sha224", "sha256", "sha384", "sha512")
_MOST_MEMORY = 4 << 20  # KiB that a key slot may ask for
_MOST_PASSES, _MOST_THREADS, _MOST_ITERATIONS = 4096, 64, 1 << 30
_MOST_STRIPES, _MOST_KEY = 8192, 64
_FILE_NOTE = "narvet-key-file"
"""The type of the token that tells of a key file; those of others are left alone."""


class Kdf(Frozen):
    """How a passphrase becomes the key of a slot: `memory` is KiB."""

    kind: Literal["argon2id", "argon2i", "pbkdf2"]
    salt: bytes
    passes: int = 0
    memory: int = 0
    threads: int = 0
    iterations: int = 0
    hash: str = ""


class Slot(Frozen):
    """A key slot: the volume's key, split and sealed by a passphrase, in an area of the header."""

    number: int
    kdf: Kdf
    offset: int
    size: int
    key_size: int
    area_key_size: int
    stripes: int
    hash: str
    cipher: str


class Digest(Frozen):
    """By what the volume's key is known for right, and whose key slots it is about."""

    salt: bytes
    digest: bytes
    iterations: int
    hash: str
    slots: tuple[int, ...]


class FileKey(Frozen):
    """The key of a file in the guest's root: which slot it opens, from which salt it is made, and its digest."""

    slot: int
    salt: bytes
    digest: bytes


@dataclass(frozen=True)
class Seal:
    """A sealed volume as its header says: what is inside starts at byte `offset`, in sectors of `sector_size` bytes.

    `text` is all that the header says. `damaged` tells which of the two headers does not read, if one does not.
    `file_key` is what Narvet noted of a key file.
    """

    version: int
    uuid: str
    label: str
    seqid: int
    header_size: int
    offset: int
    sector_size: int
    tweak: int
    cipher: str
    slots: tuple[Slot, ...]
    digest: Digest
    text: Text = field(compare=False, repr=False, default_factory=dict)
    damaged: str = ""
    why_locked: str = ""
    file_key: FileKey | None = None


def new_seal(uuid: str, label: str, sector_size: int) -> Seal:
    """Return a sealed volume that is to be made, before it has a key."""
    nothing = Digest(b"", b"", 1, "sha256", ())
    return Seal(2, uuid, label, 0, HEADER_SIZE, DATA_OFFSET, sector_size, 0, CIPHER, (), nothing)


def checksum(data: bytes) -> bytes:
    """Return the checksum of a header with its text; the place of the checksum is taken as zeros."""
    return hashlib.sha256(data[:448] + bytes(64) + data[512:]).digest()


def decoded(data: bytes, magic: bytes, offset: int) -> tuple[r.BinaryHeader, Text]:
    """Return a header and its text, by all of its bytes.

    Raises:
        ImageError: it is not sound.
    """
    head = r.BinaryHeader.decode(data[: r.BinaryHeader.size])
    if head.magic != magic or head.version != 2 or head.hdr_offset != offset or head.hdr_size != len(data):
        raise ImageError("the header of a sealed volume is of another place, or none")
    if head.csum_alg.rstrip(b"\0") != b"sha256" or head.csum[:32] != checksum(data):
        raise ImageError("the header of a sealed volume is damaged")
    try:
        text = json.loads(data[r.BinaryHeader.size :].split(b"\0", 1)[0])
    except (ValueError, RecursionError):
        text = None
    if not isinstance(text, dict):
        raise ImageError("the text of a sealed volume's header makes no sense")
    return head, text


def encoded(seal: Seal, magic: bytes, offset: int, salt: bytes) -> bytes:
    """Return a header with its text as bytes; `salt` is random, and other than that of the other header.

    Raises:
        ImageError: the text has no room in it.
    """
    text = json.dumps(seal.text, separators=(",", ":")).encode()
    if len(text) >= seal.header_size - r.BinaryHeader.size:
        raise ImageError("the header of the sealed volume has no room for another key")
    head = r.BinaryHeader(
        magic=magic,
        version=2,
        hdr_size=seal.header_size,
        seqid=seal.seqid,
        label=seal.label.encode()[:47],
        csum_alg=b"sha256",
        salt=salt,
        uuid=seal.uuid.encode(),
        hdr_offset=offset,
    )
    data = head.encode() + text.ljust(seal.header_size - r.BinaryHeader.size, b"\0")
    return data[:448] + checksum(data).ljust(64, b"\0") + data[512:]


def seal_of(head: r.BinaryHeader, text: Text, device_size: int) -> Seal:
    """Return what a header says.

    Raises:
        ImageError: it does not make sense.
    """
    try:
        return _seal_of(head, text, device_size)
    except (KeyError, TypeError, ValueError, AttributeError, OverflowError, binascii.Error) as error:
        raise ImageError(f"the text of a sealed volume's header lacks or spoils {str(error)[:60]}") from None


def _seal_of(head: r.BinaryHeader, text: Text, device_size: int) -> Seal:
    segments = text["segments"]
    config = text["config"]
    reasons = list(config.get("requirements", {}).get("mandatory", []))
    crypt = [one for one in segments.values() if one.get("type") == "crypt"]
    if len(segments) != 1 or len(crypt) != 1:
        raise ImageError("a sealed volume has several parts, which is not known here: it may be changing its key")
    segment = crypt[0]
    offset, sector = int(segment["offset"]), int(segment["sector_size"])
    size = str(segment["size"])
    if sector not in (512, 1024, 2048, 4096) or not 0 < offset <= device_size or offset % 512:
        raise ImageError("a sealed volume starts nowhere, or has sectors of no known size")
    reasons += [] if size == "dynamic" else ["a fixed size"]
    reasons += ["integrity checks"] if "integrity" in segment else []
    reasons += [] if segment["encryption"] == CIPHER else [f"the cipher {segment['encryption']}"]
    if not all(number == str(int(number)) for number in text["keyslots"]):
        raise ImageError("a key slot of a sealed volume has no number")
    slots = tuple(_slot(int(number), one, offset) for number, one in text["keyslots"].items() if one["type"] == "luks2")
    if len(slots) > MOST_SLOTS:
        raise ImageError(f"a sealed volume has {len(slots)} key slots")
    (name,) = segments
    if not all(isinstance(one["keyslots"], list) for one in text["digests"].values()):
        raise ImageError("a digest of a sealed volume does not say which key slots it is about")
    if not all(isinstance(one, dict) for one in text.get("tokens", {}).values()):
        raise ImageError("a token of a sealed volume's header makes no sense")
    digests = [_digest(one) for one in text["digests"].values() if name in one["segments"]]
    if not digests:
        raise ImageError("a sealed volume has nothing by which its key is known")
    return Seal(
        2,
        _text(head.uuid),
        _text(head.label),
        head.seqid,
        head.hdr_size,
        offset,
        sector,
        int(segment["iv_tweak"]),
        str(segment["encryption"]),
        slots,
        digests[0],
        text,
        why_locked=f"it uses {', '.join(map(str, reasons))}, which is not known here" if reasons else "",
        file_key=_file_key(text, slots),
    )


def _file_key(text: Text, slots: tuple[Slot, ...]) -> FileKey | None:
    """Return what a token of Narvet's says, None where there is none, or where it makes no sense."""
    numbers = {str(one.number) for one in slots}
    for one in text.get("tokens", {}).values():
        if one.get("type") == _FILE_NOTE:
            own, salt, digest = one.get("keyslots"), one.get("salt"), one.get("digest")
            if isinstance(own, list) and len(own) == 1 and str(own[0]) in numbers:
                with suppress(ValueError, TypeError, OverflowError):
                    found = [base64.b64decode(value, validate=True) for value in (salt, digest)]
                    return FileKey(int(own[0]), *found) if all(len(value) == 32 for value in found) else None
    return None


def _text(field_of: bytes) -> str:
    return field_of.split(b"\0", 1)[0].decode("utf-8", "replace")


def _slot(number: int, one: Mapping[str, Any], data: int) -> Slot:
    area, af = one["area"], one["af"]
    slot = Slot(
        number,
        _kdf(one["kdf"]),
        int(area["offset"]),
        int(area["size"]),
        int(one["key_size"]),
        int(area["key_size"]),
        int(af["stripes"]),
        str(af["hash"]),
        str(area["encryption"]),
    )
    length = slot.key_size * slot.stripes
    if not 0 <= number < MOST_SLOTS or not 1 <= slot.key_size <= _MOST_KEY or slot.area_key_size not in (32, 64):
        raise ImageError("a key slot of a sealed volume has a key of no known size")
    if not 1 <= slot.stripes <= _MOST_STRIPES or slot.hash not in HASHES or slot.cipher != CIPHER:
        raise ImageError("a key slot of a sealed volume keeps its key in a way that is not known here")
    if not 0 < slot.offset <= slot.offset + slot.size <= data or length > slot.size:
        raise ImageError("a key slot of a sealed volume lies outside of its header")
    return slot


def _kdf(one: Mapping[str, Any]) -> Kdf:
    kind, salt = str(one["type"]), base64.b64decode(one["salt"], validate=True)
    if kind == "pbkdf2":
        found = Kdf("pbkdf2", salt, iterations=int(one["iterations"]), hash=str(one["hash"]))
        sound = 1 <= found.iterations <= _MOST_ITERATIONS and found.hash in HASHES
    elif kind in ("argon2id", "argon2i"):
        found = Kdf(kind, salt, int(one["time"]), int(one["memory"]), int(one["cpus"]))  # type: ignore[arg-type]
        sound = 1 <= found.passes <= _MOST_PASSES and 8 * found.threads <= found.memory <= _MOST_MEMORY
        sound = sound and 1 <= found.threads <= _MOST_THREADS
    else:
        raise ImageError(f"a key slot of a sealed volume is made by {kind[:20]!r}, which is not known here")
    if not sound or not 8 <= len(salt) <= 128:
        raise ImageError("a key slot of a sealed volume asks for more work than any should")
    return found


def _digest(one: Mapping[str, Any]) -> Digest:
    found = Digest(
        base64.b64decode(one["salt"], validate=True),
        base64.b64decode(one["digest"], validate=True),
        int(one["iterations"]),
        str(one["hash"]),
        tuple(int(number) for number in one["keyslots"]),
    )
    if one["type"] != "pbkdf2" or not 1 <= found.iterations <= _MOST_ITERATIONS or found.hash not in HASHES:
        raise ImageError("a sealed volume's key is known by a digest of no known kind")
    return found


def coded(data: bytes) -> str:
    """Return bytes as the text has them."""
    return base64.b64encode(data).decode()


def new_text(sector_size: int, digest: Digest) -> Text:
    """Return the text of a new sealed volume, before it has any key slots."""
    return {
        "keyslots": {},
        "tokens": {},
        "segments": {
            "0": {
                "type": "crypt",
                "offset": str(DATA_OFFSET),
                "size": "dynamic",
                "iv_tweak": "0",
                "encryption": CIPHER,
                "sector_size": sector_size,
            }
        },
        "digests": {
            "0": {
                "type": "pbkdf2",
                "keyslots": [],
                "segments": ["0"],
                "hash": digest.hash,
                "iterations": digest.iterations,
                "salt": coded(digest.salt),
                "digest": coded(digest.digest),
            }
        },
        "config": {
            "json_size": str(HEADER_SIZE - r.BinaryHeader.size),
            "keyslots_size": str(DATA_OFFSET - 2 * HEADER_SIZE),
        },
    }


def with_slot(seal: Seal, slot: Slot) -> Seal:
    """Return a sealed volume with a key slot more, or in the place of the one of its number."""
    text = json.loads(json.dumps(seal.text))
    text["keyslots"][str(slot.number)] = {
        "type": "luks2",
        "key_size": slot.key_size,
        "af": {"type": "luks1", "stripes": slot.stripes, "hash": slot.hash},
        "area": {
            "type": "raw",
            "offset": str(slot.offset),
            "size": str(slot.size),
            "encryption": slot.cipher,
            "key_size": slot.area_key_size,
        },
        "kdf": _kdf_text(slot.kdf),
        "priority": 1 if slot.kdf.memory else _TRIED_FIRST,
    }
    digest = text["digests"][_digest_name(text)]
    digest["keyslots"] = sorted({*digest["keyslots"], str(slot.number)}, key=int)
    kept = [one for one in seal.slots if one.number != slot.number]
    return replace(seal, text=text, slots=tuple(sorted((*kept, slot), key=lambda one: one.number)))


_TRIED_FIRST = 2  # section 3.2.5: before those that cost more


def _kdf_text(kdf: Kdf) -> Text:
    if kdf.kind == "pbkdf2":
        return {"type": kdf.kind, "hash": kdf.hash, "iterations": kdf.iterations, "salt": coded(kdf.salt)}
    own = {"time": kdf.passes, "memory": kdf.memory, "cpus": kdf.threads}
    return {"type": kdf.kind, **own, "salt": coded(kdf.salt)}


def with_file_key(seal: Seal, file_key: FileKey) -> Seal:
    """Return a sealed volume with a note of its key file, in the place of any other."""
    text = json.loads(json.dumps(seal.text))
    tokens = {name: one for name, one in text.get("tokens", {}).items() if one.get("type") != _FILE_NOTE}
    number = next(str(at) for at in range(MOST_SLOTS + 1) if str(at) not in tokens)
    note = {"type": _FILE_NOTE, "keyslots": [str(file_key.slot)]}
    tokens[number] = {**note, "salt": coded(file_key.salt), "digest": coded(file_key.digest)}
    return replace(seal, text={**text, "tokens": tokens}, file_key=file_key)


def without_slot(seal: Seal, number: int) -> Seal:
    """Return a sealed volume without a key slot, nor a note of the key file that it was for."""
    text = json.loads(json.dumps(seal.text))
    del text["keyslots"][str(number)]
    for digest in text["digests"].values():
        digest["keyslots"] = [one for one in digest["keyslots"] if one != str(number)]
    for token in text.get("tokens", {}).values():
        if isinstance(token.get("keyslots"), list):
            token["keyslots"] = [one for one in token["keyslots"] if one != str(number)]
    kept = seal.file_key if seal.file_key and seal.file_key.slot != number else None
    if kept is None:
        mine = [name for name, one in text.get("tokens", {}).items() if one.get("type") == _FILE_NOTE]
        for name in mine:
            del text["tokens"][name]
    slots = tuple(one for one in seal.slots if one.number != number)
    return replace(seal, text=text, slots=slots, file_key=kept)


def _digest_name(text: Text) -> str:
    (segment,) = text["segments"]
    return next(str(name) for name, one in text["digests"].items() if segment in one["segments"])


def free_area(seal: Seal) -> tuple[int, int] | None:
    """Return number and first byte of a key slot that is free, None where there is none."""
    size = AREA
    number = next((at for at in range(MOST_SLOTS) if at not in {one.number for one in seal.slots}), None)
    place = 2 * seal.header_size
    for one in sorted(seal.slots, key=lambda slot: slot.offset):
        if one.offset - place >= size:
            break
        place = max(place, one.offset + one.size)
    return (number, place) if number is not None and place + size <= seal.offset else None
