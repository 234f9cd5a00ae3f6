"""Letters and folder mounts of Windows guests, and the registry values that tie both to their disks. Pure.

A letter is a value of the registry key MountedDevices, named by the letter, that holds what the volume is known by: on
a GPT the partition's GUID, on an MBR the disk's signature and the partition's offset. A folder is a mount point by what
is written into it: the name of the volume, which a value of the same key ties to its disk.
"""

from __future__ import annotations

import struct
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING
from uuid import UUID

from narvet.filesystems.contract import Folder
from narvet.findings import Finding
from narvet.identity import derive
from narvet.layout.facts import RegistryValue
from narvet.layout.model import LaidDisk, LaidPartition

if TYPE_CHECKING:
    from narvet.sheet.model import PartitionForm, Sheet

BY_GUID = b"DMIO:ID:"
"""What a value starts with that holds a partition's GUID."""

_LETTERS = "\\DosDevices\\"
_DISKETTES = ("A:", "B:")
Key = tuple[str, int]
"""A partition of a sheet: its disk's name and its position there, from 1."""


@dataclass(frozen=True)
class _Volume:
    """A partition of a Windows guest that is mounted somewhere, and where findings place it."""

    key: Key
    form: PartitionForm
    where: str
    at: str


def volume_id(sheet: Sheet, disk: str, index: int) -> UUID:
    """Return the id of a volume: on a GPT its partition's."""
    return derive(sheet.identity, "disk", disk, "partition", index)


def folder_mounts(sheet: Sheet) -> tuple[Mapping[Key, tuple[Folder, ...]], list[Finding]]:
    """Return what is mounted in folders of each partition of a settled sheet, and what is wrong with its places."""
    folders: dict[Key, list[Folder]] = defaultdict(list)
    found: list[Finding] = []
    for guest, volumes in _by_guest(sheet).items():
        places: dict[str, _Volume] = {}
        for volume in volumes:
            other = places.setdefault(volume.at.upper(), volume)
            if other is not volume:
                found.append(_twice(volume, other))
            found += _letter_checks(volume, sheet.guest[guest].letters, guest)
        for volume in volumes:
            if volume.at.endswith(":"):
                continue
            host, path = _host(volume, places)
            if host is None or host.form.filesystem != "ntfs":
                found.append(_without_host(volume, host))
            else:
                folders[host.key].append(Folder(path, volume_id(sheet, *volume.key)))
    return {key: tuple(kept) for key, kept in folders.items()}, found


def _by_guest(sheet: Sheet) -> dict[str, list[_Volume]]:
    found: dict[str, list[_Volume]] = defaultdict(list)
    for name, form in sheet.disk.items():
        if sheet.guest[form.guest].runs != "windows":
            continue
        for index, part in enumerate(form.partition, 1):
            if part.at is not None and not part.at.startswith("/"):
                found[form.guest].append(_Volume((name, index), part, f"disk.{name}.partition {index}.at", part.at))
    return found


def _host(volume: _Volume, places: Mapping[str, _Volume]) -> tuple[_Volume | None, tuple[str, ...]]:
    """Return the volume that a folder lies on, and the names that lead to it from there."""
    names = volume.at.split("\\")
    for length in range(len(names) - 1, 0, -1):
        host = places.get("\\".join(names[:length]).upper())
        if host is not None:
            return host, tuple(names[length:])
    return None, ()


def _twice(volume: _Volume, other: _Volume) -> Finding:
    return Finding(
        "mount-point-twice", "error", volume.where,
        f"{volume.at} is already the place of disk.{other.key[0]}.partition {other.key[1]}",
        "give one of them another letter or folder",
    )  # fmt: skip


def _letter_checks(volume: _Volume, taken: tuple[str, ...], guest: str) -> Iterator[Finding]:
    if not volume.at.endswith(":"):
        return
    if volume.at in taken:
        yield Finding(
            "mount-point-in-use", "error", volume.where,
            f"{volume.at} is one of the letters that guest {guest} has in use: {', '.join(taken)}",
            "choose another letter, or correct the guest's letters",
        )  # fmt: skip
    elif volume.at in _DISKETTES:
        yield Finding(
            "letter-reserved", "warning", volume.where,
            f"Windows keeps {volume.at} for diskettes, and some programs pass it over",
            "choose a letter from D: on",
        )  # fmt: skip


def _without_host(volume: _Volume, host: _Volume | None) -> Finding:
    if host is None:
        letter = volume.at.partition("\\")[0]
        told = f"no volume of this sheet is mounted at {letter}, so that no folder can be made there"
    else:
        told = f"{host.at} has {host.form.filesystem}; only folders of ntfs can have volumes mounted in them"
    remedy = "give it a letter, or a folder on an ntfs volume of the sheet"
    return Finding("mount-point-not-possible", "error", volume.where, told, remedy)


def registry_values(disks: Iterable[LaidDisk]) -> dict[str, tuple[RegistryValue, ...]]:
    """Return each Windows guest's values of MountedDevices, letters first, each group in order."""
    found: dict[str, list[RegistryValue]] = defaultdict(list)
    for disk in disks:
        for part in disk.partitions:
            if disk.runs == "windows" and part.at is not None and part.geometry is not None:
                found[disk.guest] += _values(disk, part, part.at)
    return {guest: tuple(sorted(values, key=_order)) for guest, values in found.items()}


def _order(value: RegistryValue) -> tuple[bool, str]:
    return not value.name.startswith(_LETTERS), value.name


def _values(disk: LaidDisk, part: LaidPartition, at: str) -> Iterator[RegistryValue]:
    if disk.table == "gpt":
        known_as = BY_GUID + UUID(part.id).bytes_le
    else:
        known_as = struct.pack("<IQ", int(disk.table_id or "0", 16), part.start)
    if at.endswith(":"):
        yield RegistryValue(f"{_LETTERS}{at}", known_as)
    yield RegistryValue(f"\\??\\Volume{{{part.volume}}}", known_as)
