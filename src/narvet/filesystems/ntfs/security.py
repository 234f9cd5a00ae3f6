"""Security descriptors ([MS-DTYP], section 2.4) and how $Secure keeps them: a stream with a mirror, and two indexes."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from narvet.errors import BugError
from narvet.filesystems.ntfs import records as r
from narvet.filesystems.ntfs.attributes import view_entry
from narvet.filesystems.ntfs.geometry import SECURITY_MIRROR, SECURITY_SIZE
from narvet.units import align_up

FIRST_ID = 0x100
SYSTEM_FILES, ROOT_FOLDER = FIRST_ID, FIRST_ID + 1
ADMINISTRATORS, USERS, SYSTEM, AUTHENTICATED = "S-1-5-32-544", "S-1-5-32-545", "S-1-5-18", "S-1-5-11"
_SELF_RELATIVE, _HAS_DACL = 0x8000, 0x0004
_ALLOWED = 0
_TO_FILES, _TO_FOLDERS, _ONLY_INHERITED = 1, 2, 8
FULL, CHANGE, READ = 0x1F01FF, 0x1301BF, 0x1200A9
_GENERIC_CHANGE = 0xE0010000  # delete, and generic read, write and execute


@dataclass(frozen=True)
class Grant:
    """What someone may do with a folder, and how it passes on to what is in it."""

    sid: str
    mask: int
    passes_on: int = 0


# Administrators and the system may do everything, everyone who has logged in may change, other users may read.
_OPEN = (
    Grant(ADMINISTRATORS, FULL, _TO_FILES | _TO_FOLDERS),
    Grant(SYSTEM, FULL, _TO_FILES | _TO_FOLDERS),
    Grant(AUTHENTICATED, _GENERIC_CHANGE, _TO_FILES | _TO_FOLDERS | _ONLY_INHERITED),
    Grant(AUTHENTICATED, CHANGE),
    Grant(USERS, READ, _TO_FILES | _TO_FOLDERS),
)
_SYSTEM_ONLY = (Grant(SYSTEM, READ), Grant(ADMINISTRATORS, READ))


def sid_bytes(text: str) -> bytes:
    """Return a SID, such as S-1-5-32-544, as stored (section 2.4.2.2)."""
    _, revision, authority, *parts = text.split("-")
    head = bytes([int(revision), len(parts)]) + int(authority).to_bytes(6, "big")
    return head + b"".join(int(part).to_bytes(4, "little") for part in parts)


def descriptor(owner: str, group: str, grants: tuple[Grant, ...]) -> bytes:
    """Return a self-relative security descriptor (section 2.4.6)."""
    entries = b""
    for grant in grants:
        sid = sid_bytes(grant.sid)
        entries += struct.pack("<BBHI", _ALLOWED, grant.passes_on, 8 + len(sid), grant.mask) + sid
    acl = struct.pack("<BBHHH", 2, 0, 8 + len(entries), len(grants), 0) + entries
    first = 20 + len(acl)
    owner_sid, group_sid = sid_bytes(owner), sid_bytes(group)
    head = struct.pack("<BBHIIII", 1, 0, _SELF_RELATIVE | _HAS_DACL, first, first + len(owner_sid), 0, 20)
    return head + acl + owner_sid + group_sid


def descriptor_hash(data: bytes) -> int:
    """Return the hash by which descriptors are found."""
    total = 0
    for place in range(0, len(data), 4):
        word = int.from_bytes(data[place : place + 4], "little")
        total = (word + (total << 3 | total >> 29)) & 0xFFFFFFFF
    return total


def fresh() -> tuple[bytes, list[bytes], list[bytes]]:
    """Return the start of $SDS, and the entries of the indexes $SDH and $SII, for the files of a fresh volume."""
    stream, rows = b"", []
    wanted = (descriptor(ADMINISTRATORS, ADMINISTRATORS, _SYSTEM_ONLY), descriptor(SYSTEM, SYSTEM, _OPEN))
    for number, data in enumerate(wanted):
        row = r.SecurityEntry(
            hash=descriptor_hash(data),
            security_id=FIRST_ID + number,
            offset=len(stream),
            length=r.SecurityEntry.size + len(data),
        )
        rows.append(row)
        stream += (row.encode() + data).ljust(align_up(row.length, 16), b"\0")
    if len(stream) != SECURITY_SIZE - SECURITY_MIRROR:
        raise BugError(f"ntfs: the descriptors take {len(stream)} bytes, not those the geometry has for them")
    by_hash = sorted(rows, key=lambda row: (row.hash, row.security_id))
    hashes = [view_entry(struct.pack("<II", row.hash, row.security_id), row.encode(), b"I\0I\0") for row in by_hash]
    numbers = [view_entry(struct.pack("<I", row.security_id), row.encode()) for row in rows]
    return stream, hashes, numbers
