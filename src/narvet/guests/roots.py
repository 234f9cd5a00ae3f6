"""A guest's root as a folder: its accounts, its fstab, its mount points. The root is not trusted.

Links are followed as the guest itself would follow them, with the root as "/": never out of it. Only plain files of
bounded size are read.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Mapping
from pathlib import Path

from narvet.block.files import replace_content, sync_folder
from narvet.errors import RefusedError
from narvet.findings import Finding
from narvet.guests.fstab import parse_fstab, with_entries, without_lines
from narvet.layout.facts import MountEntry, MountPointFacts, RootFacts
from narvet.layout.mounts import missing_entries

FSTAB = "etc/fstab"
LARGEST_FILE = 16 << 20  # accounts of a hundred thousand people; more is not a file of this kind
_MOST_LINKS = 40  # as the Linux kernel (path_resolution(7))


class UnsafePathError(RefusedError):
    """A path inside a root that leads in circles, nowhere, or to something that is not a file."""


def resolve(root: Path, inside: str) -> Path:
    """Return where `inside` lies once links are followed with `root` as "/"; its last parts need not exist.

    Raises:
        UnsafePathError: the links lead in circles.
    """
    todo, done, links = inside.split("/")[::-1], list[str](), 0
    while todo:
        part = todo.pop()
        if part in ("", "."):
            continue
        if part == "..":
            del done[-1:]
            continue
        step = root.joinpath(*done, part)
        if not step.is_symlink():
            done.append(part)
            continue
        links += 1
        if links > _MOST_LINKS:
            raise UnsafePathError(f"{root}/{inside} is a link that leads in circles")
        target = str(step.readlink())
        if target.startswith("/"):
            done = []
        todo += target.split("/")[::-1]
    return root.joinpath(*done)


def read_inside(root: Path, inside: str) -> bytes | None:
    """Return a file's content, None where there is none.

    Raises:
        UnsafePathError: a link there leads nowhere in the root, or what is there is no plain file of sane size.
    """
    path = resolve(root, inside)
    if not path.exists():
        if root.joinpath(inside).is_symlink():
            target = root.joinpath(inside).readlink()
            raise UnsafePathError(f"{root}/{inside} is a link to {target}, which is not in the guest's root")
        return None
    about = path.stat()
    if not stat.S_ISREG(about.st_mode):
        raise UnsafePathError(f"{root}/{inside} is not a plain file")
    if about.st_size > LARGEST_FILE:
        raise UnsafePathError(f"{root}/{inside} has {about.st_size} bytes; at most {LARGEST_FILE} are read")
    return path.read_bytes()


def root_facts(guest: str, path: str | None, mount_points: Iterable[str]) -> RootFacts:
    """Return the facts of a guest's root; whatever cannot be used becomes a finding."""
    if path is None:
        return RootFacts()
    root, where = Path(path), f"guest.{guest}.root"
    if not root.joinpath("etc").is_dir():
        what = "has no etc folder, so it is not a Linux root" if root.is_dir() else "is not a folder"
        return RootFacts(path, findings=(_missing(where, f"{path} {what}"),))
    try:
        users, groups = read_inside(root, "etc/passwd"), read_inside(root, "etc/group")
        fstab = read_inside(root, FSTAB)
        places = {at: _mount_point(root, at) for at in mount_points}
    except UnsafePathError as error:
        return RootFacts(path, findings=(_unsafe(where, str(error)),))
    except PermissionError as error:
        return RootFacts(path, findings=(_missing(where, f"{error.filename} cannot be read by this user"),))
    return RootFacts(path, _users(users or b""), _groups(groups or b""), parse_fstab(fstab or b""), places)


def _missing(where: str, message: str) -> Finding:
    return Finding(
        "root-missing", "error", where, message, "correct root, or leave it out and paste the entries by hand"
    )


def _unsafe(where: str, message: str) -> Finding:
    return Finding("root-unsafe", "error", where, message, "put a plain file in the link's place")


def _mount_point(root: Path, at: str) -> MountPointFacts:
    try:
        path = resolve(root, at)
    except UnsafePathError as error:
        return MountPointFacts(exists=False, problem=str(error))
    there = path
    while not there.exists():
        there = there.parent
    if not there.is_dir():
        return MountPointFacts(exists=False, problem=f"{there} is not a folder")
    if there != path:
        return MountPointFacts(exists=False)
    with os.scandir(path) as content:
        return MountPointFacts(exists=True, empty=next(content, None) is None)


def _rows(content: bytes, least: int, ids: int) -> list[list[str]]:
    """Return the rows of an account file that have at least so many fields, the ids from the third on being numbers."""
    rows = [line.split(":") for line in content.decode("utf-8", "surrogateescape").splitlines()]
    return [row for row in rows if len(row) >= least and all(_is_id(field) for field in row[2 : 2 + ids])]


def _is_id(text: str) -> bool:
    return text.isascii() and text.isdigit() and len(text) <= 10


def _users(content: bytes) -> Mapping[str, tuple[int, int]]:
    """Return name to uid and gid of every account (passwd(5))."""
    return {row[0]: (int(row[2]), int(row[3])) for row in _rows(content, 7, 2)}


def _groups(content: bytes) -> Mapping[str, int]:
    """Return name to gid of every group (group(5))."""
    return {row[0]: int(row[2]) for row in _rows(content, 4, 1)}


def add_entries(path: str, entries: Iterable[MountEntry]) -> tuple[MountEntry, ...]:
    """Add to a root's fstab the entries it does not have; return those added. The file is replaced all at once."""
    root = Path(path)
    content = read_inside(root, FSTAB) or b""
    added = missing_entries(tuple(entries), parse_fstab(content))
    if added:
        replace_content(resolve(root, FSTAB), with_entries(content, added))
    return added


def remove_entries(path: str, entries: Iterable[MountEntry]) -> tuple[MountEntry, ...]:
    """Remove from a root's fstab the entries that mount what `entries` mount; return those that were there."""
    root, specs = Path(path), {entry.spec for entry in entries}
    content = read_inside(root, FSTAB) or b""
    gone = tuple(entry for entry in parse_fstab(content) if entry.spec in specs)
    if gone:
        replace_content(resolve(root, FSTAB), without_lines(content, (entry.line for entry in gone)))
    return gone


def make_mount_point(path: str, at: str, uid: int, gid: int, mode: int) -> bool:
    """Make a mount point in a root, with the folders above it; return whether there was anything to make.

    Owner and mode are set on the mount point where the system lets us; the mounted filesystem brings its own.
    """
    place = resolve(Path(path), at)
    if place.is_dir():
        return False
    missing = [place]
    while not missing[-1].parent.exists():
        missing.append(missing[-1].parent)
    for folder in reversed(missing):
        folder.mkdir(0o755)
    try:
        if hasattr(os, "chown"):
            os.chown(place, uid, gid)
    except PermissionError:
        pass
    else:
        place.chmod(mode)
    sync_folder(missing[-1].parent)
    return True
