"""A Linux guest's root: its accounts, its fstab, its mount points, its system. The root is not trusted."""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Iterable, Mapping
from pathlib import PurePosixPath

from narvet.formats.filesystems.trees import FileTree, Kind, Node, Owner, Place, UnsafePathError
from narvet.formats.seals.keys import is_file_key
from narvet.ground.errors import RefusedError
from narvet.ground.rules import guests as rules
from narvet.ground.values import replace
from narvet.guests.host_tree import HostTree
from narvet.guests.linux.crypttab import Unlocks, parse_crypttab, with_unlocks
from narvet.guests.linux.fstab import fstab_line, parse_fstab, with_entries, with_lines, without_lines
from narvet.guests.linux.mounts import missing_entries, source_of
from narvet.guests.roots import ChangedRoot, OpenRoot, changed_root, node_at, observed_root, place_of
from narvet.model.estate import FoundSystem, Guest, KeyFile, MountEntry, MountPoint, Root

FSTAB, CRYPTTAB = "etc/fstab", "etc/crypttab"
_ABOVE = Owner(0, 0, 0o755)  # folders above a mount point that are missing
_KEY_FOLDER = Owner(0, 0, 0o700)
_LABELS = ("security.selinux", "security.SMACK64")
"""Attributes that a guest with mandatory access control expects on folders: a new one has those of the one above it."""

_KERNEL = re.compile(r"(\d{1,4})\.(\d{1,4})(?:\.\d|-|\+|$)")
_RELEASES = ("etc/os-release", "usr/lib/os-release")
_MARKS = (("etc", "passwd"), ("etc", "os-release"), ("usr", "lib", "os-release"), ("etc", "fstab"))
_LONGEST_NAME = 200
_LARGEST_KEY = 1 << 16
_KEY_OWNER = Owner(0, 0, 0o600)
_MOST_TOLD = 1000  # entries of a table that a survey tells


def is_linux_root(tree: FileTree) -> bool:
    """Return whether a tree of files is the root of a Linux system: it has accounts, a name, or a table of mounts."""
    return any(node_at(tree, *names) is not None for names in _MARKS)


def root_of(
    guest: str,
    root: Root | None,
    mount_points: Iterable[str],
    written: frozenset[str] = frozenset(),
    key_files: Iterable[str] = (),
) -> Guest:
    """Return a guest with what is found in its root; whatever cannot be used becomes a finding.

    `guest` is its name in the sheet, empty for a root outside it. `written` are lines of fstab that are Narvet's own.
    """
    if root is None:
        return Guest(guest)
    return observed_root(
        guest, root, is_linux_root, lambda found: _observed(guest, found, mount_points, written, key_files)
    )


def recognised(tree: FileTree, partition: int) -> FoundSystem | None:
    """Return the Linux that lives in a tree of files, None if none does."""
    if not is_linux_root(tree):
        return None
    root = OpenRoot(Root("", partition), tree)
    try:
        entries = parse_fstab(root.read(FSTAB) or b"")
    except UnsafePathError:
        entries = ()
    mounts = tuple((source_of(one.spec), one.file) for one in entries[:_MOST_TOLD])
    return FoundSystem(partition, "linux", _system(root) or "Linux", ".".join(map(str, _kernel(root))), mounts)


def _observed(
    guest: str, found: OpenRoot, mount_points: Iterable[str], written: frozenset[str], key_files: Iterable[str]
) -> Guest:
    root = found.root
    if not found.is_folder("etc"):
        missing = rules.root_missing.error(
            place_of(guest, root), f"{root.shown()} has no etc folder, so it is not a Linux root"
        )
        return Guest(guest, root.shown(), root=root, findings=(missing,))
    entries = parse_fstab(found.read(FSTAB) or b"")
    unlocks = parse_crypttab(found.read(CRYPTTAB) or b"", written)
    named = (*key_files, *(one.key for one in unlocks if one.ours and one.key.startswith("/")))
    return Guest(
        guest,
        root.shown(),
        _users(found.read("etc/passwd") or b""),
        _groups(found.read("etc/group") or b""),
        tuple(replace(entry, ours=True) if fstab_line(entry) in written else entry for entry in entries),
        {at: _mount_point(found, at) for at in mount_points},
        root=root,
        unclean=found.unclean,
        system=_system(found),
        version=_kernel(found),
        unlocks=unlocks,
        key_files={at: _key_file(found, at) for at in dict.fromkeys(named)},
    )


def _key_file(root: OpenRoot, at: str) -> KeyFile:
    """Return what lies where a key file is to be; of what it holds only the digest is kept."""
    try:
        with root.place(at, follow=False) as place:
            node = place.node
            if node is None:
                problem = _in_the_way(root, place) if len(place.missing) > 1 else ""
                return KeyFile(exists=False, problem=problem, owner_can_be_set=_can_own(root))
            content = root.content(place, _LARGEST_KEY)
    except UnsafePathError as error:
        return KeyFile(problem=str(error))
    held = content or b""
    digest = hashlib.sha256(held).digest()
    mode = node.mode or 0
    return KeyFile(True, digest, is_file_key(held), node.uid or 0, node.gid or 0, mode, owner_can_be_set=_can_own(root))


def _mount_point(root: OpenRoot, at: str) -> MountPoint:
    can_own = _can_own(root)
    try:
        with root.place(at) as place:
            if place.missing:
                problem = _in_the_way(root, place)
                return MountPoint(exists=False, problem=problem, owner_can_be_set=can_own)
            node = place.folder
            empty = next(iter(root.tree.names(node)), None) is None
    except UnsafePathError as error:
        return MountPoint(exists=False, problem=str(error))
    return MountPoint(True, empty, "", node.uid or 0, node.gid or 0, node.mode or 0, can_own)


def _can_own(root: OpenRoot) -> bool:
    """Return whether this user may give what is in a root any owner."""
    return not isinstance(root.tree, HostTree) or not hasattr(os, "geteuid") or os.geteuid() == 0


def _in_the_way(root: OpenRoot, place: Place) -> str:
    """Return why a folder cannot be made at a place, empty if it can."""
    name = place.missing[0]
    there = root.tree.look_up(place.folder, name)
    return f"{root.shown(place.inside)}: {name} is not a folder" if there is not None else ""


def _rows(content: bytes, least: int, ids: int) -> list[list[str]]:
    """Return the rows of an account file that have at least so many fields, the ids from the third on being numbers."""
    rows = [line.split(":") for line in content.decode("utf-8", "surrogateescape").split("\n")]
    return [row for row in rows if len(row) >= least and all(_is_id(field) for field in row[2 : 2 + ids])]


def _is_id(text: str) -> bool:
    return text.isascii() and text.isdigit() and len(text) <= 10


def _users(content: bytes) -> Mapping[str, tuple[int, int]]:
    """Return name to uid and gid of every account (passwd(5))."""
    return {row[0]: (int(row[2]), int(row[3])) for row in _rows(content, 7, 2)}


def _groups(content: bytes) -> Mapping[str, int]:
    """Return name to gid of every group (group(5))."""
    return {row[0]: int(row[2]) for row in _rows(content, 4, 1)}


def _system(root: OpenRoot) -> str:
    """Return what the system calls itself (os-release(5)), empty where it does not say."""
    for inside in _RELEASES:
        try:
            content = root.read(inside)
        except UnsafePathError:
            continue
        for line in (content or b"").decode("utf-8", "replace").splitlines():
            key, _, value = line.partition("=")
            if key.strip() == "PRETTY_NAME":
                return value.strip().strip("\"'")[:_LONGEST_NAME]
    return ""


def _kernel(root: OpenRoot) -> tuple[int, ...]:
    """Return the version of the oldest kernel that is installed, as any of them may be started; none if none is."""
    found = []
    for folder in ("usr/lib/modules", "lib/modules"):
        try:
            with root.place(folder) as place:
                if place.missing:
                    continue
                found += [match.groups() for name, _ in root.tree.names(place.folder) if (match := _KERNEL.match(name))]
        except UnsafePathError:
            continue
    return min((tuple(map(int, numbers)) for numbers in found), default=())


def change_entries(
    root: Root,
    missing: Iterable[MountEntry],
    changed: Iterable[tuple[MountEntry, MountEntry]],
    surplus: Iterable[MountEntry],
) -> tuple[MountEntry, ...]:
    """Change a root's fstab all at once, and return the entries that were written.

    Entries that are `missing` are added at its end. Of the pairs in `changed` the first takes the second's place, or
    its own at the end if it mounts elsewhere; those in `surplus` go. What is not as it was found meanwhile stays.
    """
    with changed_root(root, is_linux_root) as found, found.place(FSTAB) as place:
        content = found.content(place) or b""
        there = {fstab_line(entry): entry.line for entry in parse_fstab(content)}
        in_place, gone, late = dict[int, MountEntry](), list[int](), list[MountEntry]()
        for new, old in changed:
            line = there.get(fstab_line(old))
            if line is None:
                continue
            if new.file == old.file:
                in_place[line] = new
            else:
                gone.append(line)
                late.append(new)
        gone += [there[fstab_line(entry)] for entry in surplus if fstab_line(entry) in there]
        left = parse_fstab(without_lines(content, gone))
        late += missing_entries(tuple(missing), left)
        result = with_entries(without_lines(with_lines(content, in_place), gone), late)
        _write(found, place, content, result)
        return (*in_place.values(), *late)


def change_unlocks(root: Root, becomes: Unlocks) -> None:
    """Change a root's crypttab all at once; what is not as it was found meanwhile stays."""
    with changed_root(root, is_linux_root) as found, found.place(CRYPTTAB) as place:
        content = found.content(place) or b""
        _write(found, place, content, with_unlocks(content, becomes))


def place_key(root: Root, at: str, content: bytes) -> None:
    """Put a key file into a root, in the place of another one of Narvet's; only its superuser may read it.

    Raises:
        RefusedError: something that is no key of Narvet's is in the way.
    """
    with changed_root(root, is_linux_root) as found:
        folder, name = str(PurePosixPath(at).parent), PurePosixPath(at).name
        with found.place(folder) as place:
            above = _made_folders(found, place, _KEY_FOLDER)
            _remove_key(found, above, at)
            found.edited.replace(above, name, content, _KEY_OWNER.mode)


def remove_key(root: Root, at: str) -> bool:
    """Remove a key file of Narvet's from a root; return whether there was one."""
    with changed_root(root, is_linux_root) as found, found.place(str(PurePosixPath(at).parent)) as place:
        return not place.missing and _remove_key(found, place.folder, at)


def _remove_key(root: ChangedRoot, folder: Node, at: str) -> bool:
    """Remove a key file of Narvet's; return whether there was one.

    Raises:
        RefusedError: it is another file.
    """
    name = PurePosixPath(at).name
    node = root.edited.look_up(folder, name)
    if node is None:
        return False
    if node.kind != Kind.FILE or not is_file_key(root.edited.read(node, 0, _LARGEST_KEY)):
        raise RefusedError(f"{root.shown(at)}: this is no key file of Narvet's; move it away, or give another key_file")
    if not root.edited.remove_file(folder, name):
        raise RefusedError(f"{root.shown(at)}: it has several names, or cannot be removed; remove it by hand")
    return True


def _write(root: ChangedRoot, place: Place, before: bytes, after: bytes) -> None:
    if before != after:
        if len(place.missing) != 1:
            raise RefusedError(f"{root.shown(place.inside)}: its folder is missing")
        root.edited.replace(place.folder, place.missing[0], after)


def remove_mount_point(root: Root, at: str) -> bool:
    """Remove a mount point from a root, if it is an empty folder; return whether it was."""
    with changed_root(root, is_linux_root) as found, found.place(str(PurePosixPath(at).parent)) as place:
        return not place.missing and found.edited.remove_folder(place.folder, PurePosixPath(at).name)


def remove_entries(root: Root, entries: Iterable[MountEntry]) -> tuple[MountEntry, ...]:
    """Remove from a root's fstab the entries that mount what `entries` mount; return those that were there."""
    specs = {entry.spec for entry in entries}
    with changed_root(root, is_linux_root) as found, found.place(FSTAB) as place:
        content = found.content(place) or b""
        gone = tuple(entry for entry in parse_fstab(content) if entry.spec in specs)
        _write(found, place, content, without_lines(content, (entry.line for entry in gone)))
        return gone


def make_mount_point(root: Root, at: str, owner: Owner) -> bool:
    """Make a mount point in a root, with the folders above it, or correct its owner and mode.

    Returns:
        whether it has its owner now, which on this machine only the superuser can set; the mounted filesystem brings
        its own.

    Raises:
        RefusedError: something that is no folder is in the way.
    """
    with changed_root(root, is_linux_root) as found, found.place(at) as place:
        if not place.missing:
            return found.edited.own(place.folder, owner)
        folder = _made_folders(found, place, owner)
        return (folder.uid, folder.gid) == (owner.uid, owner.gid)


def _made_folders(root: ChangedRoot, place: Place, owner: Owner) -> Node:
    """Make the folders of a path that are missing, the innermost for `owner`, and return that.

    Raises:
        RefusedError: something that is no folder is in the way.
    """
    folder = place.folder
    try:
        for left, name in enumerate(place.missing, 1 - len(place.missing)):
            folder = _new_folder(root, folder, name, _ABOVE if left else owner)
    except (FileExistsError, NotADirectoryError):
        shown = root.shown(place.inside)
        raise RefusedError(f"{shown}: something took this name meanwhile; write again") from None
    return folder


def _new_folder(root: ChangedRoot, parent: Node, name: str, owner: Owner) -> Node:
    labels = {key: value for key, value in root.edited.attributes(parent).items() if key in _LABELS}
    if root.edited.look_up(parent, name) is not None:
        raise FileExistsError
    return root.edited.make_folder(parent, name, owner, labels)
