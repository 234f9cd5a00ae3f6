"""Letters and folder mounts of Windows guests, and the registry values that tie both to their disks. Pure.

A letter is a value of the registry key MountedDevices, named by the letter, that holds what the volume is known by: on
a GPT the partition's GUID, on an MBR the disk's signature and the partition's offset. A folder is a mount point by what
is written into it: the name of the volume, which a value of the same key ties to its disk.
"""

from __future__ import annotations

import struct
from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping
from uuid import UUID

from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import Folder
from narvet.formats.volumes import Volume
from narvet.ground.findings import Finding, Place
from narvet.ground.rules import guests as rules
from narvet.ground.values import Frozen
from narvet.guests.contract import PartitionKey
from narvet.guests.windows.registry import BY_GUID
from narvet.model.estate import Disk, Guest, Partition, RegistryValue
from narvet.model.layout import Mountable
from narvet.sheet.resolved import ResolvedPartition, ResolvedSheet

_LETTERS = "\\DosDevices\\"
_DISKETTES = ("A:", "B:")


def is_letter(at: str) -> bool:
    """Return whether a mount point is a letter, not a folder on a volume."""
    return at[-1] == ":"


class _Volume(Frozen):
    """A partition of a Windows guest that is mounted somewhere, and where findings place it."""

    key: PartitionKey
    partition: ResolvedPartition
    where: Place
    at: str

    @property
    def holds_mounts(self) -> bool:
        """Whether volumes can be mounted in folders of it."""
        return self.partition.filesystem is not None and filesystem(self.partition.filesystem).holds_mounts


def folder_mounts(
    sheet: ResolvedSheet, guest: str
) -> tuple[Mapping[PartitionKey, tuple[Folder, ...]], tuple[Finding, ...]]:
    """Return what is mounted in folders of each partition of a guest, and what is wrong with its mount points."""
    volumes = tuple(_volumes(sheet, guest))
    places: dict[str, _Volume] = {}
    for volume in volumes:
        places.setdefault(volume.at.upper(), volume)
    folders: dict[PartitionKey, list[Folder]] = defaultdict(list)
    for volume in volumes:
        host, path = _host(volume, places)
        if host is not None and host.holds_mounts:
            folders[host.key].append(Folder(path, sheet.ids(volume.key[0]).partition(volume.key[1])))
    has_root = sheet.guests[guest].root_form is not None
    found = tuple(_checks(volumes, places, sheet.guests[guest].letters, guest, has_root=has_root))
    return {key: tuple(kept) for key, kept in folders.items()}, found


def _checks(
    volumes: Iterable[_Volume], places: Mapping[str, _Volume], taken: tuple[str, ...], guest: str, *, has_root: bool
) -> Iterator[Finding]:
    for volume in volumes:
        first = places[volume.at.upper()]
        if first is not volume:
            yield rules.mount_point_twice.error(volume.where, volume.at, str(first.where))
        if is_letter(volume.at):
            yield from _letter_checks(volume, taken, guest)
            continue
        host, _ = _host(volume, places)
        if host is None and has_root:
            continue  # what its root tells decides
        if host is None or not host.holds_mounts:
            yield _without_host(volume, host)


def _volumes(sheet: ResolvedSheet, guest: str) -> Iterator[_Volume]:
    for disk in sheet.of_guest(guest):
        for part in disk.partitions:
            if part.at is not None and part.at[0] != "/":
                yield _Volume((disk.name, part.index), part, disk.place.part(part.index).key("at"), part.at)


def _host(volume: _Volume, places: Mapping[str, _Volume]) -> tuple[_Volume | None, tuple[str, ...]]:
    """Return the volume that a folder lies on, and the names that lead to it from there."""
    names = volume.at.split("\\")
    for length in range(len(names) - 1, 0, -1):
        host = places.get("\\".join(names[:length]).upper())
        if host is not None:
            return host, tuple(names[length:])
    return None, ()


def _letter_checks(volume: _Volume, taken: tuple[str, ...], guest: str) -> Iterator[Finding]:
    if volume.at in taken:
        yield rules.letter_in_use.error(volume.where, volume.at, guest, taken)
    elif volume.at in _DISKETTES:
        yield rules.letter_reserved.warning(volume.where, volume.at)


def _without_host(volume: _Volume, host: _Volume | None) -> Finding:
    if host is None:
        letter = volume.at.partition("\\")[0]
        reason = f"no volume of this sheet is mounted at {letter}, so that no folder can be made there"
    else:
        kind = host.partition.filesystem or "no filesystem"
        reason = f"{host.at} has {kind}; only folders of ntfs can have volumes mounted in them"
    remedy = "give it a letter, or a folder on an ntfs volume of the sheet"
    return rules.mount_point_not_possible.error(volume.where, reason, remedy)


def registry_values(disks: Iterable[Mountable]) -> tuple[RegistryValue, ...]:
    """Return a guest's values of MountedDevices, letters first, each group in order."""
    values = (
        value
        for disk in disks
        for part in disk.wanted.partitions
        if part.at is not None and part.filesystem is not None
        for value in _values(disk.wanted, part, part.at)
    )
    return tuple(sorted(values, key=_order))


def letter_of(disk: Disk, part: Partition, found: Iterable[RegistryValue]) -> str:
    """Return the letter that a registry text gives a partition, empty for none."""
    return letter_in(found, _identity(disk, part))


def check_letters(disks: Iterable[Mountable], found: Guest) -> Iterator[Finding]:
    """Yield the letters that a guest's registry gives to volumes that are none of the sheet's."""
    own = tuple(disks)
    known = {_identity(disk.wanted, part) for disk in own for part in disk.wanted.partitions if part.number}
    taken = {
        value.name.removeprefix(_LETTERS): value.data for value in found.values or () if value.name.startswith(_LETTERS)
    }
    for disk in own:
        for part in disk.wanted.partitions:
            letter = part.at or ""
            if letter in taken and taken[letter] not in known and part.mount is not None:
                place = disk.place.part(part.mount.index).key("at")
                yield rules.letter_in_use.error(place, letter, found.name, tuple(sorted(taken)))


def folders_asked(disks: Iterable[Mountable]) -> Iterator[tuple[Place, Partition, str]]:
    """Yield the partitions that are to be mounted in a folder of a volume that is none of the sheet's, and where."""
    parts = [(disk, part) for disk in disks for part in disk.wanted.partitions if part.at and part.mount]
    places = {part.at.upper() for _, part in parts if part.at}
    for disk, part in parts:
        names = (part.at or "").split("\\")
        above = ("\\".join(names[:length]).upper() for length in range(1, len(names)))
        if len(names) > 1 and part.mount is not None and not any(one in places for one in above):
            yield disk.place.part(part.mount.index).key("at"), part, part.at or ""


def check_folders(disks: Iterable[Mountable], found: Guest) -> Iterator[Finding]:
    """Yield folders that no volume can be mounted in, by what is found in a guest's root."""
    every = tuple(disks)
    own = {"", *(part.mount.volume for disk in every for part in disk.wanted.partitions if part.mount)}
    links = {at.upper(): volume for at, volume in found.links.items()}
    for place, _, at in folders_asked(every):
        letter, there = at[:2], found.mount_points.get(at)
        if letter.upper() != found.home.upper():
            reason = f"{letter} is neither a volume of this sheet nor the one that the guest's root lies on"
            remedy = "give it a letter, or a folder on an ntfs volume of the sheet, or of the system"
            yield rules.mount_point_not_possible.error(place, reason, remedy)
        elif there is not None and there.problem:
            yield rules.mount_point_not_possible.error(place, there.problem)
        elif links.get(at.upper(), "") not in own:
            reason = f"another volume is mounted in {at}: {links[at.upper()]}"
            yield rules.mount_point_not_possible.error(place, reason)


def identity_of(volume: Volume) -> bytes:
    """Return what a volume of an image is known by in the registry, empty where it has no partition."""
    if volume.table == "gpt":
        return BY_GUID + UUID(volume.id).bytes_le
    return struct.pack("<IQ", int(volume.table_id or "0", 16), volume.start) if volume.table else b""


def letter_in(values: Iterable[RegistryValue], identity: bytes) -> str:
    """Return the letter that a registry gives what is known by `identity`, empty for none."""
    names = (value.name for value in values if value.data == identity and value.name.startswith(_LETTERS))
    return next((name.removeprefix(_LETTERS) for name in names), "")


def mounted_letters(values: Iterable[RegistryValue]) -> Iterator[tuple[str, str]]:
    """Yield what the letters of a registry stand for, as far as it is a partition of a GPT, and each letter."""
    for value in values:
        if value.name.startswith(_LETTERS) and value.data.startswith(BY_GUID) and len(value.data) == len(BY_GUID) + 16:
            yield f"PARTUUID={UUID(bytes_le=value.data[len(BY_GUID) :])}", value.name.removeprefix(_LETTERS)


def identities(disks: Iterable[Mountable]) -> frozenset[bytes]:
    """Return what the volumes on disks are known by in the registry."""
    return frozenset(_identity(disk.wanted, part) for disk in disks for part in disk.wanted.partitions if part.number)


def volumes_of(disks: Iterable[Mountable]) -> frozenset[str]:
    """Return what folders that lead to the volumes on disks name them by."""
    return frozenset(part.mount.volume for disk in disks for part in disk.wanted.partitions if part.mount)


def taken_back(
    wanted: Iterable[RegistryValue], known: Collection[bytes], found: Iterable[RegistryValue]
) -> tuple[RegistryValue, ...]:
    """Return the values, without data, by which a guest is to forget what an earlier text told it of a sheet's disks.

    What was to be forgotten stays so until it is wanted again, as nothing tells when the guest has read it.
    """
    names = {value.name for value in wanted}
    gone = (value.name for value in found if value.name not in names and (not value.data or value.data in known))
    return tuple(RegistryValue(name, b"") for name in dict.fromkeys(gone))


def _order(value: RegistryValue) -> tuple[bool, str]:
    return _LETTERS not in value.name, value.name


def _identity(disk: Disk, part: Partition) -> bytes:
    """Return what a volume is known by in the registry."""
    if disk.table == "gpt":
        return BY_GUID + UUID(part.entry.id).bytes_le
    return struct.pack("<IQ", int(disk.table_id or "0", 16), part.start)


def _values(disk: Disk, part: Partition, at: str) -> Iterator[RegistryValue]:
    identity = _identity(disk, part)
    if is_letter(at):
        yield RegistryValue(f"{_LETTERS}{at}", identity)
    yield RegistryValue(f"\\??\\Volume{{{part.mount.volume if part.mount else ''}}}", identity)
