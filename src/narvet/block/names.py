"""The names Narvet works under, and the calls that change names: each whole or not at all, and durable on return."""

from __future__ import annotations

import ctypes
import errno
import os
from collections.abc import Iterable
from pathlib import Path

from narvet.ground.libc import libc_call

PARTIAL = ".narvet-partial"
"""Ends the name of everything not finished yet; such a file or folder is Narvet's own and is never anything else's."""

LOCK = ".narvet-lock"
"""Ends the name of a file that exists while a Narvet holds the name it is made from."""

CHANGES = ".narvet-changes"
"""Ends the name of the log that keeps changes to an image until each of them is made (see `block.changes`)."""

_RENAME_NOREPLACE = 1
_AT_FDCWD = -100
_NO_SUCH_CALL = (errno.EINVAL, errno.ENOSYS, errno.ENOTSUP)  # the filesystem or the system lacks it


def working_name(path: Path) -> Path:
    """Return the name, beside `path`, under which its next content is put together."""
    return path.with_name(f".{path.name}{PARTIAL}")


def lock_name(path: Path) -> Path:
    """Return the name, beside `path`, of the file that is locked while a Narvet works on `path`."""
    return path.with_name(f".{path.name}{LOCK}")


def changes_name(path: Path) -> Path:
    """Return the name, beside `path`, of the log of changes to it."""
    return path.with_name(f".{path.name}{CHANGES}")


def is_working_name(name: str) -> bool:
    """Return whether a file's or folder's name is one that Narvet works under."""
    return name.startswith(".") and name.endswith((PARTIAL, LOCK, CHANGES))


def behind_link(path: Path) -> Path:
    """Return what a link leads to, and any other path as it was given, so that messages name it so."""
    return Path(os.path.realpath(path)) if path.is_symlink() else path


def real_paths(paths: Iterable[str]) -> list[str]:
    """Return paths with every link in them followed, as `os.path.realpath` does; of many in one folder quickly."""
    folders: dict[str, str] = {}
    found = []
    for path in paths:
        folder, _, name = path.rpartition("/")
        if name in ("", ".", "..") or os.path.islink(path):  # noqa: PTH114 (of many)
            found.append(os.path.realpath(path))
            continue
        if folder not in folders:
            folders[folder] = os.path.realpath(folder or ("/" if path.startswith("/") else "."))
        found.append(f"{folders[folder].rstrip('/')}/{name}")
    return found


def sync_folder(folder: Path) -> None:
    """Return when the names in a folder are on stable storage.

    Raises:
        OSError: the system could not do so; a filesystem that has no such call for folders is passed over.
    """
    handle = os.open(folder, os.O_RDONLY | getattr(os, "O_DIRECTORY", 0))
    try:
        sync_handle(handle)
    finally:
        os.close(handle)


def sync_handle(folder: int) -> None:
    """Return when the names in an open folder are on stable storage; see `sync_folder`."""
    try:
        os.fsync(folder)
    except OSError as error:
        if error.errno != errno.EINVAL:  # fsync(2): this filesystem does not sync folders
            raise


def make_folders(path: Path) -> None:
    """Make a folder with all above it that are missing; their names are on stable storage on return."""
    if path.is_dir():
        return
    make_folders(path.parent)
    path.mkdir(exist_ok=True)
    sync_folder(path.parent)


def sync_file(path: Path) -> None:
    """Return when a file's content is on stable storage."""
    with path.open("rb+") as file:
        os.fsync(file.fileno())


def same_file(path: Path, about: os.stat_result) -> bool:
    """Return whether `path` itself, not what a link there leads to, is the file that `about` describes."""
    try:
        there = path.lstat()
    except FileNotFoundError:
        return False
    return (there.st_dev, there.st_ino) == (about.st_dev, about.st_ino)


def rename_new(old: Path, new: Path) -> None:
    """Give a file another name, which must be free; it has exactly one of the two names at every moment.

    Where the system cannot do so in one step, both names exist for an instant.

    Raises:
        FileExistsError: the name is taken.
    """
    status = _renameat2(os.fsencode(old), os.fsencode(new))
    if status == 0:
        return
    if status not in _NO_SUCH_CALL:
        raise OSError(status, os.strerror(status), str(old), None, str(new))
    try:
        os.link(old, new)
    except FileExistsError:
        raise
    except (OSError, AttributeError):  # a filesystem without hard links
        if os.path.lexists(new):
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), str(new)) from None
        old.rename(new)
    else:
        old.unlink()


def _renameat2(old: bytes, new: bytes) -> int:
    """Return 0, or the number of the error; renameat2(2) is not in the standard library."""
    call = libc_call("renameat2")
    if call is None:
        return errno.ENOSYS
    while call(_AT_FDCWD, old, _AT_FDCWD, new, _RENAME_NOREPLACE):
        status = ctypes.get_errno()
        if status != errno.EINTR:
            return status
    return 0
