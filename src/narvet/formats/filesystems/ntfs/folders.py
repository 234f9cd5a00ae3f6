"""Folders that a fresh NTFS is to have, and the volumes mounted in them: which record and which index each gets.

A folder is a mount point by an attribute that names the volume, a reparse point ([MS-FSCC], section 2.1.2.5); the
volume's list of all of these, index $R of file $Reparse, has an entry for it.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable
from uuid import UUID

from narvet.formats.filesystems.contract import Folder, UnfitError
from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.indexes import nodes
from narvet.formats.filesystems.ntfs.options import NtfsOptions
from narvet.formats.filesystems.upcase import upcased
from narvet.ground.units import align_up
from narvet.ground.values import Frozen

FIRST = 64  # records below are the system's own, or kept for what it makes later
MOST = 4096
MOUNT_POINT = 0xA0000003
_ROOM_IN_RECORD = 1024 - 56 - 96 - 24 - 32 - 16 - 24 - 8  # for name and entries, whatever else the folder has
_REPARSE_ENTRY = 32


class Planned(Frozen):
    """A folder with its record, that of the folder it lies in, the names in it and the volume mounted there."""

    record: int
    parent: int
    name: str
    names: tuple[str, ...]
    volume: UUID | None


def plan(options: NtfsOptions) -> tuple[Planned, ...]:
    """Return the folders, those above first, the names in each in the order of their capitals.

    Raises:
        UnfitError: there are too many.
    """
    mounted = {_key(folder): folder for folder in options.folders}
    paths = {_key(folder)[:depth]: folder.path[:depth] for folder in options.folders for depth in _depths(folder)}
    if len(paths) > MOST:
        told = f"ntfs is made with at most {MOST} folders, not with {len(paths)}"
        raise UnfitError(told, 0, 0, "mount some of the volumes elsewhere")
    numbers = {key: FIRST + position for position, key in enumerate(sorted(paths, key=lambda key: (len(key), key)))}
    inside: dict[tuple[tuple[int, ...], ...], list[str]] = {}
    for key in numbers:
        inside.setdefault(key[:-1], []).append(paths[key][-1])
    return tuple(
        Planned(
            number,
            numbers.get(key[:-1], r.ROOT),
            paths[key][-1],
            tuple(inside.get(key, ())),
            mounted[key].volume if key in mounted else None,
        )
        for key, number in numbers.items()
    )


def _depths(folder: Folder) -> range:
    return range(1, len(folder.path) + 1)


def _key(folder: Folder) -> tuple[tuple[int, ...], ...]:
    return tuple(upcased(name) for name in folder.path)


def entry_size(name: str) -> int:
    """Return the bytes of an entry for a name in a folder's index."""
    return align_up(r.IndexEntry.size + r.FileName.size + len(name.encode("utf-16-le")), 8)


def index_blocks(names: Iterable[str]) -> int:
    """Return the blocks that the index of a folder takes once it has any."""
    return len(nodes([entry_size(name) for name in names]))


def blocks_of(folder: Planned) -> int:
    """Return the blocks that a folder's index takes, 0 if it fits into its record."""
    sizes = sum(entry_size(name) for name in folder.names)
    return index_blocks(folder.names) if sizes + entry_size(folder.name) > _ROOM_IN_RECORD else 0


def reparse_blocks(planned: Iterable[Planned]) -> int:
    """Return the blocks that index $R of file $Reparse takes, 0 if it fits into its record."""
    count = sum(folder.volume is not None for folder in planned)
    if _REPARSE_ENTRY * count + entry_size("$Reparse") <= _ROOM_IN_RECORD:
        return 0
    return len(nodes([_REPARSE_ENTRY] * count))


def target(volume: UUID) -> str:
    """Return the name of a volume that a mount point leads to."""
    return f"\\??\\Volume{{{volume}}}\\"


def mount_value(volume: UUID) -> bytes:
    """Return the value of the reparse point that mounts a volume (section 2.1.2.5); it has no name to be shown.

    Windows itself gives none to points that mount volumes, and other systems stumble over one without a letter.
    """
    name = target(volume).encode("utf-16-le")
    data = struct.pack("<HHHH", 0, len(name), len(name) + 2, 0) + name + bytes(4)
    return struct.pack("<IHH", MOUNT_POINT, len(data), 0) + data


def target_of(value: bytes) -> str | None:
    """Return where a reparse point, not trusted, leads if it is a mount point; None for others and unsound ones."""
    if len(value) < 16:
        return None
    tag, length, _, offset, size = struct.unpack_from("<IHHHH", value)
    text = value[16 + offset : 16 + offset + size]
    if tag != MOUNT_POINT or 8 + length > len(value) or len(text) != size:
        return None
    return text.decode("utf-16-le", "replace")
