"""Security descriptors ([MS-DTYP], section 2.4) and how $Secure keeps them: a stream with a mirror, and two indexes."""

from __future__ import annotations

import struct

from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.attributes import view_entry
from narvet.formats.filesystems.ntfs.options import NtfsOptions
from narvet.ground.sids import WELL_KNOWN, sid_bytes, sid_text
from narvet.ground.units import KIB, align_up

MIRROR = 256 * KIB
"""Bytes after which $SDS keeps every entry once more; its first half of such a pair is never longer."""

FIRST_ID = 0x100
SYSTEM_FILES, ROOT_FOLDER, FOLDERS = range(FIRST_ID, FIRST_ID + 3)

RIGHTS = {"full": 0x1F01FF, "change": 0x1301BF, "read": 0x1200A9}
"""What someone may do: everything; all but change owner and access; read and run."""

_SELF_RELATIVE, _HAS_DACL = 0x8000, 0x0004
_ALLOWED = 0
_TO_ALL_INSIDE, _INHERITED = 0x3, 0x10
_FLAG_NAMES = ((0x1, "OI"), (0x2, "CI"), (0x4, "NP"), (0x8, "IO"), (0x10, "ID"))
_HEAD = struct.Struct("<BBHIIII")
_ACL_HEAD = struct.Struct("<BBHHH")
_ACE_HEAD = struct.Struct("<BBHI")
_SYSTEM, _ADMINISTRATORS = WELL_KNOWN["SYSTEM"], WELL_KNOWN["Administrators"]
_USUAL = (
    (_ADMINISTRATORS, "full"),
    (_SYSTEM, "full"),
    (WELL_KNOWN["Authenticated Users"], "change"),
    (WELL_KNOWN["Users"], "read"),
)
_SYSTEM_ONLY = ((_SYSTEM, "read"), (_ADMINISTRATORS, "read"))


def owner_of(options: NtfsOptions) -> str:
    """Return the SID that owns the root."""
    return options.owner_sid or _SYSTEM


def access_of(options: NtfsOptions) -> tuple[tuple[str, str], ...]:
    """Return who may do what with the root and all in it, SID and right.

    Administrators and the system keep everything unless the access asked for names them; an owner without any access
    asked for gets everything.
    """
    if options.access:
        named = {sid for sid, _ in options.access}
        return (*(one for one in _USUAL[:2] if one[0] not in named), *options.access)
    owner = owner_of(options)
    return _USUAL if owner in dict(_USUAL) else (*_USUAL, (owner, "full"))


def descriptor(owner: str, access: tuple[tuple[str, str], ...], flags: int) -> bytes:
    """Return a self-relative security descriptor (section 2.4.6); `flags` are those of its entries."""
    entries = b""
    for sid, right in access:
        data = sid_bytes(sid)
        entries += _ACE_HEAD.pack(_ALLOWED, flags, _ACE_HEAD.size + len(data), RIGHTS[right]) + data
    acl = _ACL_HEAD.pack(2, 0, _ACL_HEAD.size + len(entries), len(access), 0) + entries
    first, owner_sid = _HEAD.size + len(acl), sid_bytes(owner)
    head = _HEAD.pack(1, 0, _SELF_RELATIVE | _HAS_DACL, first, first + len(owner_sid), 0, _HEAD.size)
    return head + acl + owner_sid + sid_bytes(owner if owner == _ADMINISTRATORS else _SYSTEM)


def root_descriptor(options: NtfsOptions) -> bytes:
    """Return the security descriptor of a fresh volume's root."""
    return descriptor(owner_of(options), access_of(options), _TO_ALL_INSIDE)


def _descriptors(options: NtfsOptions) -> tuple[bytes, ...]:
    """Return the descriptors of a fresh volume, in the order of their numbers; the last one only if it has folders."""
    root = root_descriptor(options)
    inside = descriptor(owner_of(options), access_of(options), _TO_ALL_INSIDE | _INHERITED)
    return (descriptor(_ADMINISTRATORS, _SYSTEM_ONLY, 0), root, *((inside,) if options.folders else ()))


def stream_size(options: NtfsOptions) -> int:
    """Return the bytes of $SDS, its mirror included."""
    return MIRROR + sum(align_up(r.SecurityEntry.size + len(data), 16) for data in _descriptors(options))


def descriptor_hash(data: bytes) -> int:
    """Return the hash by which descriptors are found."""
    total = 0
    for place in range(0, len(data), 4):
        word = int.from_bytes(data[place : place + 4], "little")
        total = (word + (total << 3 | total >> 29)) & 0xFFFFFFFF
    return total


def fresh(options: NtfsOptions) -> tuple[bytes, list[bytes], list[bytes]]:
    """Return the start of $SDS, and the entries of the indexes $SDH and $SII, for the files of a fresh volume."""
    stream, rows = b"", []
    for number, data in enumerate(_descriptors(options)):
        row = r.SecurityEntry(
            hash=descriptor_hash(data),
            security_id=FIRST_ID + number,
            offset=len(stream),
            length=r.SecurityEntry.size + len(data),
        )
        rows.append(row)
        stream += (row.encode() + data).ljust(align_up(row.length, 16), b"\0")
    by_hash = sorted(rows, key=lambda row: (row.hash, row.security_id))
    hashes = [view_entry(struct.pack("<II", row.hash, row.security_id), row.encode(), b"I\0I\0") for row in by_hash]
    numbers = [view_entry(struct.pack("<I", row.security_id), row.encode()) for row in rows]
    return stream, hashes, numbers


def rights_text(data: bytes) -> str | None:
    """Return a descriptor, not trusted, as text in the documented language for it (section 2.5.1); None if unsound.

    The owner, then each entry of its access list: kind, flags, mask and SID. Groups and audits are left out.
    """
    if len(data) < _HEAD.size:
        return None
    owner_at, acl_at = int.from_bytes(data[4:8], "little"), int.from_bytes(data[16:20], "little")
    owner = sid_text(data[owner_at:])
    if owner is None or not acl_at or acl_at + _ACL_HEAD.size > len(data):
        return None
    _, _, size, count, _ = _ACL_HEAD.unpack_from(data, acl_at)
    place, end, entries = acl_at + _ACL_HEAD.size, min(acl_at + size, len(data)), ""
    for _ in range(count):
        if place + _ACE_HEAD.size > end:
            return None
        kind, flags, length, mask = _ACE_HEAD.unpack_from(data, place)
        sid = sid_text(data[place + _ACE_HEAD.size : place + length])
        if length < _ACE_HEAD.size or place + length > end or sid is None:
            return None
        words = "".join(name for bit, name in _FLAG_NAMES if flags & bit)
        entries += f"({'AD'[kind] if kind < 2 else kind};{words};0x{mask:x};;;{sid})"
        place += length
    return f"O:{owner}D:{entries}"
