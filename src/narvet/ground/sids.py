"""Security identifiers of Windows accounts ([MS-DTYP], section 2.4.2): names, text and bytes. Pure.

Only names that mean the same on every machine are known by name; accounts of a machine or domain go by their SID.
"""

from __future__ import annotations

import hashlib
import re

WELL_KNOWN = {
    "Everyone": "S-1-1-0",
    "CREATOR OWNER": "S-1-3-0",
    "NETWORK": "S-1-5-2",
    "INTERACTIVE": "S-1-5-4",
    "SERVICE": "S-1-5-6",
    "Authenticated Users": "S-1-5-11",
    "SYSTEM": "S-1-5-18",
    "LOCAL SERVICE": "S-1-5-19",
    "NETWORK SERVICE": "S-1-5-20",
    "Administrators": "S-1-5-32-544",
    "Users": "S-1-5-32-545",
    "Guests": "S-1-5-32-546",
    "Power Users": "S-1-5-32-547",
    "Backup Operators": "S-1-5-32-551",
}
"""The names of section 2.4.2.4 that a data disk is given to, as an English system spells them."""

MOST_PARTS = 15
_TEXT = re.compile(r"S-1-(\d{1,15})((?:-\d{1,10}){1,15})", re.IGNORECASE)
_SERVICE = "NT SERVICE\\"
_SERVICES = 80  # the first part of every service's SID


def sid_of(name: str) -> str | None:
    """Return the SID of a well-known name, of a service ("NT SERVICE\\name"), or one written out; None for others."""
    match = _TEXT.fullmatch(name)
    if match is not None:
        parts = [int(part) for part in match[2][1:].split("-")]
        sound = int(match[1]) < 1 << 48 and all(part < 1 << 32 for part in parts)
        return "-".join(map(str, ("S-1", int(match[1]), *parts))) if sound else None
    if name.upper().startswith(_SERVICE) and len(name) > len(_SERVICE):
        return _of_service(name[len(_SERVICE) :])
    return {known.upper(): sid for known, sid in WELL_KNOWN.items()}.get(name.upper())


def name_of(sid: str) -> str:
    """Return the name of a well-known SID, any other as it is."""
    return next((name for name, known in WELL_KNOWN.items() if known == sid), sid)


def _of_service(service: str) -> str:
    """Return a service's SID: the SHA-1 of its name in capitals, as five numbers."""
    digest = hashlib.sha1(service.upper().encode("utf-16-le"), usedforsecurity=False).digest()
    parts = (int.from_bytes(digest[place : place + 4], "little") for place in range(0, 20, 4))
    return "-".join(map(str, ("S-1-5", _SERVICES, *parts)))


def sid_bytes(sid: str) -> bytes:
    """Return a SID as stored (section 2.4.2.2): revision, number of parts, authority, parts."""
    _, revision, authority, *parts = sid.split("-")
    head = bytes([int(revision), len(parts)]) + int(authority).to_bytes(6, "big")
    return head + b"".join(int(part).to_bytes(4, "little") for part in parts)


def sid_text(data: bytes) -> str | None:
    """Return the SID that `data`, not trusted, starts with; None if it does not hold one."""
    if len(data) < 8 or data[0] != 1 or data[1] > MOST_PARTS or len(data) < 8 + 4 * data[1]:
        return None
    parts = (int.from_bytes(data[place : place + 4], "little") for place in range(8, 8 + 4 * data[1], 4))
    return "-".join(map(str, ("S-1", int.from_bytes(data[2:8], "big"), *parts)))
