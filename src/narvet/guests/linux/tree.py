"""A guest's root as an open folder: every step below it goes through folders held open, never through a path.

Links are followed as the guest itself would follow them, with the root as "/": never out of it, even if
they are swapped meanwhile. Nothing in the root is trusted.
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

from narvet.block.names import PARTIAL, sync_handle
from narvet.block.publish import replace_in
from narvet.ground.errors import RefusedError

LARGEST_FILE = 16 << 20  # accounts of a hundred thousand people; more is not a file of this kind
_MOST_LINKS = 40  # as the Linux kernel (path_resolution(7))
_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_FILE = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
_NO_FOLDER = (errno.ENOTDIR, errno.ELOOP)
_LOCK_TRIES = 100
_LOCK_WAIT = 0.05  # seconds


class UnsafePathError(RefusedError):
    """A path inside a root that leads in circles, nowhere, or to something that is not a file."""


class Place:
    """Where a path inside a root leads: the folder that is there, open, and what of the path is still missing."""

    def __init__(self, root: Path, inside: str, folder: int, missing: tuple[str, ...], *, linked: bool) -> None:
        self.root = root
        self.inside = inside
        self.folder = folder
        self.missing = missing
        self.linked = linked

    @property
    def shown(self) -> str:
        """The path as messages have it."""
        return f"{self.root}/{self.inside.lstrip('/')}"


class Tree:
    """A root at `path`, open as long as the context of `opened` lasts."""

    def __init__(self, path: Path, handle: int) -> None:
        self.path = path
        self._handle = handle

    @contextmanager
    def place(self, inside: str) -> Iterator[Place]:
        """Yield where `inside` leads, as far as there are folders; what is no folder counts as missing.

        Raises:
            UnsafePathError: links lead in circles.
        """
        with ExitStack() as stack:
            yield self._walked(inside, stack)

    def _walked(self, inside: str, stack: ExitStack) -> Place:
        way = [self._handle]
        todo, missing, links = inside.split("/")[::-1], list[str](), 0
        while todo:
            part = todo.pop()
            if part in ("", "."):
                continue
            if part == "..":
                if missing:
                    missing.pop()
                else:
                    way = way[: max(len(way) - 1, 1)]
            elif missing:
                missing.append(part)
            elif isinstance(step := _step(part, way[-1]), int):
                stack.callback(os.close, step)
                way.append(step)
            elif isinstance(step, str):
                links += 1
                if links > _MOST_LINKS:
                    raise UnsafePathError(f"{self.path}/{inside.lstrip('/')} is a link that leads in circles")
                way = way[:1] if step.startswith("/") else way
                todo += step.split("/")[::-1]
            else:
                missing.append(part)
        return Place(self.path, inside, way[-1], tuple(missing), linked=links > 0)

    def is_folder(self, inside: str) -> bool:
        """Return whether there is a folder at `inside`."""
        with self.place(inside) as place:
            return not place.missing

    def read(self, inside: str) -> bytes | None:
        """Return a file's content, None where there is none.

        Raises:
            UnsafePathError: a link there leads nowhere in the root, or what is there is not a plain file of sane size.
        """
        with self.place(inside) as place:
            return _read_at(place)

    @contextmanager
    def changing(self, inside: str) -> Iterator[tuple[bytes, Place]]:
        """Yield a file's content, empty where there is none, and its place, alone at work on its folder's files.

        Raises:
            UnsafePathError: as `read`.
            RefusedError: another Narvet does not finish with that folder.
        """
        with self.place(inside) as place, _alone(place):
            yield _read_at(place) or b"", place


def _step(name: str, folder: int) -> int | str | None:
    """Return what lies under a name in an open folder: a folder, opened; where a link leads; None for anything else."""
    try:
        return os.open(name, _FOLDER, dir_fd=folder)
    except FileNotFoundError:
        return None
    except OSError as error:
        if error.errno not in _NO_FOLDER:
            raise
    try:
        return os.readlink(name, dir_fd=folder)
    except OSError as error:
        if error.errno not in (errno.EINVAL, errno.ENOENT):  # EINVAL: no link, so a file
            raise
    return None


@contextmanager
def opened(path: Path) -> Iterator[Tree]:
    """Open a root; its own path may be a link of the host's.

    Raises:
        OSError: there is no such folder, or this user may not read it.
    """
    handle = os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        yield Tree(path, handle)
    finally:
        os.close(handle)


def write_at(place: Place, content: bytes) -> None:
    """Replace a file's content, or make the file, all at once; see `block.publish.replace_in`."""
    replace_in(place.folder, place.missing[-1], content)


def make_folder(place: Place, uid: int, gid: int, mode: int) -> bool:
    """Make the folders that are missing at a place, or correct the one that is there; return whether it got its owner.

    The last one gets owner and mode before it gets its name; those above it are the superuser's, or this user's, 0755.
    All are on stable storage on return.
    """
    with ExitStack() as stack:
        folder = place.folder
        if not place.missing:
            owned = _own(folder, uid, gid, mode)
            os.fsync(folder)
            return owned
        for name in place.missing[:-1]:
            os.mkdir(name, 0o755, dir_fd=folder)
            sync_handle(folder)
            folder = os.open(name, _FOLDER, dir_fd=folder)
            stack.callback(os.close, folder)
        return _new_folder(folder, place.missing[-1], uid, gid, mode)


def _new_folder(parent: int, name: str, uid: int, gid: int, mode: int) -> bool:
    partial = f".{name}{PARTIAL}"
    with suppress(FileNotFoundError):
        os.rmdir(partial, dir_fd=parent)
    os.mkdir(partial, 0o700, dir_fd=parent)
    try:
        made = os.open(partial, _FOLDER, dir_fd=parent)
        try:
            owned = _own(made, uid, gid, mode)
            os.fsync(made)
        finally:
            os.close(made)
        os.rename(partial, name, src_dir_fd=parent, dst_dir_fd=parent)
    except BaseException:
        with suppress(OSError):
            os.rmdir(partial, dir_fd=parent)
        raise
    sync_handle(parent)
    return owned


def _own(folder: int, uid: int, gid: int, mode: int) -> bool:
    """Set owner and mode of an open folder; return whether the owner could be set."""
    owned = True
    try:
        os.fchown(folder, uid, gid)
    except PermissionError:
        owned = (os.fstat(folder).st_uid, os.fstat(folder).st_gid) == (uid, gid)
    os.fchmod(folder, mode if owned else mode | 0o700)
    return owned


def _read_at(place: Place) -> bytes | None:
    if not place.missing:
        raise UnsafePathError(f"{place.shown} is not a plain file")
    if len(place.missing) > 1:
        if place.linked:
            raise UnsafePathError(f"{place.shown} is a link to something that is not in the guest's root")
        return None
    try:
        handle = os.open(place.missing[-1], _FILE, dir_fd=place.folder)
    except FileNotFoundError:
        if place.linked:
            raise UnsafePathError(f"{place.shown} is a link to something that is not in the guest's root") from None
        return None
    except OSError as error:
        if error.errno in (errno.ELOOP, errno.ENXIO):
            raise UnsafePathError(f"{place.shown} is not a plain file") from None
        raise
    with os.fdopen(handle, "rb") as file:
        about = os.fstat(handle)
        if not stat.S_ISREG(about.st_mode):
            raise UnsafePathError(f"{place.shown} is not a plain file")
        if about.st_size > LARGEST_FILE:
            raise UnsafePathError(f"{place.shown} has {about.st_size} bytes; at most {LARGEST_FILE} are read")
        return file.read(LARGEST_FILE)


@contextmanager
def _alone(place: Place) -> Iterator[None]:
    """Hold an open folder (flock(2)), so that two Narvets do not change its files at once."""
    try:
        import fcntl
    except ImportError:
        yield
        return
    import time

    for left in range(_LOCK_TRIES, -1, -1):
        try:
            fcntl.flock(place.folder, fcntl.LOCK_EX | fcntl.LOCK_NB)
            break
        except BlockingIOError:
            if not left:
                raise RefusedError(f"{place.shown}: another Narvet is at work on it; try again") from None
            time.sleep(_LOCK_WAIT)
    yield
