"""A guest's root as a folder: its accounts, its fstab, its mount points. The root is not trusted."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Mapping
from dataclasses import replace
from pathlib import Path, PurePosixPath

from narvet.block.names import sync_handle
from narvet.ground.errors import RefusedError
from narvet.ground.findings import guest_place, image_place
from narvet.ground.rules import guests as rules
from narvet.guests.linux.fstab import fstab_line, parse_fstab, with_entries, with_lines, without_lines
from narvet.guests.linux.mounts import missing_entries
from narvet.guests.linux.tree import Tree, UnsafePathError, make_folder, opened, write_at
from narvet.model.estate import Guest, MountEntry, MountPoint

FSTAB = "etc/fstab"


def root_of(guest: str, path: str | None, mount_points: Iterable[str], written: frozenset[str] = frozenset()) -> Guest:
    """Return a guest with what is found in its root; whatever cannot be used becomes a finding.

    `guest` is its name in the sheet, empty for a root outside it. `written` are lines of fstab that are Narvet's own.
    """
    if path is None:
        return Guest(guest)
    where = guest_place(guest).key("root") if guest else image_place(path)
    try:
        with opened(Path(path)) as tree:
            if not tree.is_folder("etc"):
                missing = rules.root_missing.error(where, f"{path} has no etc folder, so it is not a Linux root")
                return Guest(guest, path, findings=(missing,))
            users, groups = tree.read("etc/passwd"), tree.read("etc/group")
            fstab = tree.read(FSTAB)
            places = {at: _mount_point(tree, at) for at in mount_points}
    except UnsafePathError as error:
        return Guest(guest, path, findings=(rules.root_unsafe.error(where, str(error)),))
    except (FileNotFoundError, NotADirectoryError):
        return Guest(guest, path, findings=(rules.root_missing.error(where, f"{path} is not a folder"),))
    except PermissionError as error:
        missing = rules.root_missing.error(where, f"{path}: {error.filename} cannot be read by this user")
        return Guest(guest, path, findings=(missing,))
    entries = parse_fstab(fstab or b"")
    entries = tuple(replace(entry, ours=True) if fstab_line(entry) in written else entry for entry in entries)
    return Guest(guest, path, _users(users or b""), _groups(groups or b""), entries, places)


def _mount_point(tree: Tree, at: str) -> MountPoint:
    can_own = not hasattr(os, "geteuid") or os.geteuid() == 0
    try:
        with tree.place(at) as place:
            if place.missing:
                problem = _in_the_way(place.folder, place.missing[0], place.shown)
                return MountPoint(exists=False, problem=problem, owner_can_be_set=can_own)
            about = os.fstat(place.folder)
            with os.scandir(place.folder) as content:
                empty = next(content, None) is None
    except UnsafePathError as error:
        return MountPoint(exists=False, problem=str(error))
    mode = stat.S_IMODE(about.st_mode)
    return MountPoint(True, empty, "", about.st_uid, about.st_gid, mode, can_own)


def _in_the_way(folder: int, name: str, shown: str) -> str:
    """Return why a folder cannot be made under a name, empty if it can."""
    try:
        os.stat(name, dir_fd=folder, follow_symlinks=False)
    except FileNotFoundError:
        return ""
    return f"{shown}: {name} is not a folder"


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


def change_entries(
    path: str,
    missing: Iterable[MountEntry],
    changed: Iterable[tuple[MountEntry, MountEntry]],
    surplus: Iterable[MountEntry],
) -> tuple[MountEntry, ...]:
    """Change a root's fstab all at once, and return the entries that were written.

    Entries that are `missing` are added at its end. Of the pairs in `changed` the first takes the second's place, or
    its own at the end if it mounts elsewhere; those in `surplus` go. What is not as it was found meanwhile stays.
    """
    with opened(Path(path)) as tree, tree.changing(FSTAB) as (content, place):
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
        if result != content:
            write_at(place, result)
        return (*in_place.values(), *late)


def remove_mount_point(path: str, at: str) -> bool:
    """Remove a mount point from a root, if it is an empty folder; return whether it was."""
    with opened(Path(path)) as tree, tree.place(str(PurePosixPath(at).parent)) as place:
        if place.missing:
            return False
        try:
            os.rmdir(PurePosixPath(at).name, dir_fd=place.folder)
        except OSError:  # not empty, not a folder, or not there: it is not Narvet's to remove
            return False
        sync_handle(place.folder)
        return True


def remove_entries(path: str, entries: Iterable[MountEntry]) -> tuple[MountEntry, ...]:
    """Remove from a root's fstab the entries that mount what `entries` mount; return those that were there."""
    specs = {entry.spec for entry in entries}
    with opened(Path(path)) as tree, tree.changing(FSTAB) as (content, place):
        gone = tuple(entry for entry in parse_fstab(content) if entry.spec in specs)
        if gone:
            write_at(place, without_lines(content, (entry.line for entry in gone)))
        return gone


def make_mount_point(path: str, at: str, uid: int, gid: int, mode: int) -> bool:
    """Make a mount point in a root, with the folders above it, or correct its owner and mode.

    Returns:
        whether it has its owner now, which only the superuser can set; the mounted filesystem brings its own.

    Raises:
        RefusedError: something that is no folder is in the way.
    """
    with opened(Path(path)) as tree, tree.place(at) as place:
        try:
            return make_folder(place, uid, gid, mode)
        except (FileExistsError, NotADirectoryError):
            raise RefusedError(f"{place.shown}: something took this name meanwhile; write again") from None
