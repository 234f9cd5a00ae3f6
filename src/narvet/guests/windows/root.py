"""A Windows guest's root: its registry's hives, read and changed where they lie. The root is not trusted."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from uuid import UUID

from narvet.formats.filesystems.trees import FileTree, Kind, MountsVolumes, UnsafePathError, mount_at
from narvet.ground.errors import ImageError, RefusedError
from narvet.ground.offers import offers
from narvet.ground.values import Frozen
from narvet.guests.roots import OpenRoot, changed_root, node_at, observed_root
from narvet.guests.windows.hive import BINARY, DWORD, Hive, Value
from narvet.guests.windows.mounts import identity_of, letter_in
from narvet.guests.windows.registry import MOUNTED_DEVICES, ONLINE, POLICY, POLICY_PATH
from narvet.model.estate import Guest, MountPoint, RegistryValue, Root

SYSTEM_HIVE = "Windows/System32/config/SYSTEM"
SOFTWARE_HIVE = "Windows/System32/config/SOFTWARE"
_LARGEST_HIVE = 1 << 29
_VERSION_KEY = "Microsoft\\Windows NT\\CurrentVersion"
_OFFLINE = (2, 3, 4)  # for shared buses, for all, for all but those inside
_LONGEST_NAME = 200
_LOGGED = "its registry has changes in a log that are not in place yet"


class WindowsFacts(Frozen):
    """What the hives tell: name and version of the system, and how it keeps new disks; values of MountedDevices."""

    name: str
    version: tuple[int, ...]
    new_disks: str
    values: tuple[RegistryValue, ...]
    unclean: str


_VOLUME = re.compile(r"\\\?\?\\Volume\{([0-9a-f-]{36})\}\\?", re.IGNORECASE)


def is_windows_root(tree: FileTree) -> bool:
    """Return whether a tree of files is the root of a Windows system: it has the hive of its settings."""
    node = node_at(tree, *SYSTEM_HIVE.split("/"))
    return node is not None and node.kind == Kind.FILE


def facts_of(root: OpenRoot) -> WindowsFacts:
    """Return what the hives of an open root tell.

    Raises:
        ImageError: one is not sound.
    """
    system = _hive(root, SYSTEM_HIVE)
    if system is None:
        raise ImageError(f"{root.shown(SYSTEM_HIVE)} is not there")
    software = _hive(root, SOFTWARE_HIVE)
    policy = system.value(f"{_control_set(system)}\\{POLICY_PATH}", POLICY)
    number = policy.number if policy else None
    mounted = system.values(MOUNTED_DEVICES)
    return WindowsFacts(
        name=_text(software, "ProductName") or "Windows",
        version=_version(software),
        new_disks="" if number is None else "offline" if number in _OFFLINE else "online",
        values=tuple(RegistryValue(one.name, one.data) for one in mounted if one.type == BINARY),
        unclean="" if system.is_clean else _LOGGED,
    )


def root_of(guest: str, root: Root, mount_points: Iterable[str] = (), *, asks_online: bool = False) -> Guest:
    """Return a guest with what is found in its root; whatever cannot be used becomes a finding."""

    def look(found: OpenRoot) -> Guest:
        facts = facts_of(found)
        home = letter_in(facts.values, identity_of(found.volume)) if found.volume else ""
        return Guest(
            guest,
            found.root.shown(),
            values=facts.values,
            root=found.root,
            unclean=found.unclean or facts.unclean,
            system=facts.name,
            version=facts.version,
            new_disks=facts.new_disks,
            asks_online=asks_online,
            home=home,
            links=dict(_links(found, home)),
            mount_points={at: _mount_point(found, at) for at in mount_points if home and at[:2].upper() == home},
        )

    return observed_root(guest, root, is_windows_root, look)


def _links(root: OpenRoot, home: str) -> Iterator[tuple[str, str]]:
    """Yield the folders of the system's volume that other volumes are mounted in, and the names of those."""
    for path, target in root.volume.state.links if root.volume and home else ():
        match = _VOLUME.fullmatch(target)
        if match:
            yield f"{home}{path}", match[1].lower()


def _mount_point(root: OpenRoot, at: str) -> MountPoint:
    """Return what lies where a volume is to be mounted."""
    try:
        with root.place(_inside(at), follow=False) as place:
            if place.missing and place.node is None:
                return MountPoint(exists=False)
            node = place.node or place.folder
            if node.kind == Kind.LINK:
                match = _VOLUME.fullmatch(root.tree.target(node))
                return MountPoint(exists=True, problem="" if match else f"{at} is a link to something else")
            empty = node.kind == Kind.FOLDER and next(iter(root.tree.names(node)), None) is None
            problem = "" if empty else f"{at} is not an empty folder"
            return MountPoint(exists=True, empty=empty, problem=problem)
    except UnsafePathError as error:
        return MountPoint(exists=False, problem=str(error))


def _inside(at: str) -> str:
    """Return a folder by its letter as a path inside its volume."""
    return at[2:].replace("\\", "/")


def mount_folder(root: Root, at: str, volume: UUID) -> None:
    """Mount a volume in a folder of a root's own volume, which is made, with those above it.

    Raises:
        RefusedError: something is in the way.
    """
    with changed_root(root, is_windows_root) as found:
        if not offers(found.edited, MountsVolumes):
            raise RefusedError(f"{found.root.shown()}: no volumes can be mounted in its folders")
        mount_at(found.edited, _inside(at), volume)


def unmount_folder(root: Root, at: str, volume: UUID) -> bool:
    """Remove a folder that a volume is mounted in; return whether it was."""
    above, _, name = _inside(at).rpartition("/")
    with changed_root(root, is_windows_root) as found, found.place(above) as place:
        node = None if place.missing else found.edited.look_up(place.folder, name)
        match = _VOLUME.fullmatch(found.edited.target(node)) if node is not None and node.kind == Kind.LINK else None
        return match is not None and match[1].lower() == str(volume) and found.edited.remove_folder(place.folder, name)


def change_registry(root: Root, values: Iterable[RegistryValue], *, online: bool) -> tuple[str, ...]:
    """Put values into the key MountedDevices of a root's registry, and take out those without data.

    With `online` the guest is told not to hold new disks offline.

    Returns:
        the names of the values that were changed.

    Raises:
        RefusedError: the registry may not be changed now.
    """
    done = []
    with changed_root(root, is_windows_root) as found, found.place(SYSTEM_HIVE) as place:
        hive = _read(found, SYSTEM_HIVE, found.content(place, _LARGEST_HIVE))
        if hive is None:
            raise RefusedError(f"{found.shown(SYSTEM_HIVE)} is not there")
        if not hive.is_clean:
            raise RefusedError(f"{found.shown(SYSTEM_HIVE)}: {_LOGGED}; start the guest and shut it down cleanly")
        for value in values:
            before = hive.value(MOUNTED_DEVICES, value.name)
            if value.data and (before is None or before.data != value.data):
                hive.set_value(MOUNTED_DEVICES, Value(value.name, BINARY, value.data))
                done.append(value.name)
            elif not value.data and hive.remove_value(MOUNTED_DEVICES, value.name):
                done.append(value.name)
        if online:
            path = f"{_control_set(hive)}\\{POLICY_PATH}"
            hive.set_value(path, Value(POLICY, DWORD, ONLINE.to_bytes(4, "little")))
        content = hive.finished(root.moment)
        if content is not None:
            found.edited.replace(place.folder, place.missing[0], content)
    return tuple(done)


def _hive(root: OpenRoot, inside: str) -> Hive | None:
    with root.place(inside) as place:
        return _read(root, inside, root.content(place, _LARGEST_HIVE))


def _read(root: OpenRoot, inside: str, content: bytes | None) -> Hive | None:
    try:
        return None if content is None else Hive(content)
    except ImageError as error:
        raise ImageError(f"{root.shown(inside)}: {error}") from None


def _control_set(system: Hive) -> str:
    """Return the set of settings that the system starts with."""
    current = system.value("Select", "Current")
    number = current.number if current else None
    return f"ControlSet{1 if number is None else number:03}"


def _text(software: Hive | None, name: str) -> str:
    value = software.value(_VERSION_KEY, name) if software else None
    return value.text[:_LONGEST_NAME] if value else ""


def _version(software: Hive | None) -> tuple[int, ...]:
    """Return the version of the system with its build, empty where it is not told."""
    major, minor = (
        value.number if software and (value := software.value(_VERSION_KEY, name)) else None
        for name in ("CurrentMajorVersionNumber", "CurrentMinorVersionNumber")
    )
    parts = _text(software, "CurrentVersion").split(".") if major is None else [str(major), str(minor or 0)]
    parts.append(_text(software, "CurrentBuildNumber") or _text(software, "CurrentBuild"))
    numbers = [part for part in parts if part]
    good = all(part.isascii() and part.isdigit() and len(part) < 8 for part in numbers)
    return tuple(map(int, numbers)) if good and len(numbers) > 1 else ()
