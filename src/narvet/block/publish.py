"""Files put in place all at once: what a reader, a kill or a power cut finds is the old file, the new one, or none.

New images, which may be several files, are put together in a folder of their own beside their place. Its name tells
what it is for, so that whatever an interrupted run left is recognised and cleared by the next.
"""

from __future__ import annotations

import json
import os
import shutil
import stat
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from narvet.block.locks import clear_locks, exclusive_lock, hold_file
from narvet.block.names import (
    CHANGES,
    PARTIAL,
    changes_name,
    rename_new,
    sync_file,
    sync_folder,
    sync_handle,
    working_name,
)
from narvet.ground.errors import RefusedError

_MARK = ".published"
_LONGEST_MARK = 1 << 20  # bytes: a thousand pieces with long names
_TRIES = 20  # two Narvets may take a name from each other by turns
_MODE = 0o666  # of new files, less what the user's umask takes


@contextmanager
def workspace(path: Path) -> Iterator[Path]:
    """Yield the place, in a new folder that only this user can enter, where the content of `path` is put together.

    Whatever is still in the folder when the context is left, well or not, is removed. The caller holds the name.
    """
    folder = working_name(path)
    folder.mkdir(0o700)
    try:
        yield folder / path.name
    finally:
        try:
            _remove_folder(folder)
        except KeyboardInterrupt:  # what was put together can be large, and take a while to remove
            with suppress(FileNotFoundError):
                _remove_folder(folder)
            raise


def publish(built: Path, path: Path, parts: Sequence[Path] = ()) -> None:
    """Give a finished file, and before it the `parts` beside it, their real names, all of which must be free.

    Raises:
        RefusedError: something has taken a name meanwhile; nothing of the image is left.
        OSError: the system refused; likewise.
    """
    for file in (*parts, built):
        sync_file(file)
    if parts:
        _write_mark(built.parent, (*parts, built))
    try:
        for part in parts:
            rename_new(part, path.parent / part.name)
        if parts:  # no cut may leave the file that names them without them
            sync_folder(path.parent)
        rename_new(built, path)
        sync_folder(path.parent)
    except FileExistsError as error:
        _take_back(built.parent, path)
        taken = error.filename2 or error.filename or path
        raise RefusedError(f"{taken}: something took this name while the image was being written") from None
    except BaseException:
        if not os.path.lexists(built):
            path.rename(built)
        _take_back(built.parent, path)
        raise


def withdraw(path: Path, parts: Sequence[Path], check: Callable[[], None]) -> None:
    """Remove an image with its parts: from the first moment on it is no image any more, and the rest follows.

    `check` is called right before. An interruption leaves what `recover` clears.
    """
    folder = working_name(path)
    place = folder / path.name
    folder.mkdir(0o700)
    try:
        if parts:
            _write_mark(folder, (*parts, path))
        check()
        _move_out(path, place)
    except BaseException:
        if not os.path.lexists(path):
            place.rename(path)
        _remove_folder(folder)
        raise
    sync_folder(path.parent)
    for part in parts:
        part.unlink()
    sync_folder(path.parent)  # until they are gone for good, the mark must stay
    _remove_folder(folder)
    sync_folder(path.parent)


def _move_out(path: Path, place: Path) -> None:
    """Move a file to another folder; first it is there, then gone from here, so that no cut loses both of its names."""
    try:
        os.link(path, place)
    except (OSError, AttributeError):  # a filesystem without hard links
        path.rename(place)
        sync_folder(place.parent)
        return
    sync_folder(place.parent)
    path.unlink()


def recover(path: Path) -> None:
    """Clear what an interrupted run left of `path`; the caller holds the name. What was published whole stays.

    Changes that were cut off are made, if all of them are known.

    Raises:
        RefusedError: what lies under Narvet's working name is not this user's, so it is not believed.
    """
    if os.path.lexists(changes_name(path)):
        from narvet.block.changes import finish_changes

        finish_changes(path)
    folder = working_name(path)
    try:
        about = folder.lstat()
    except FileNotFoundError:
        return
    if not stat.S_ISDIR(about.st_mode):
        _clear_file(folder, about)
        return
    own = not hasattr(os, "geteuid") or (about.st_uid == os.geteuid() and not about.st_mode & 0o022)
    if not own and os.geteuid():
        raise RefusedError(f"{folder}: another user left this behind; have them remove it")
    if own:  # a mark that others could have written is not believed
        _take_back(folder, path)
    _remove_folder(folder)


def _clear_file(path: Path, about: os.stat_result) -> None:
    """Remove a text that was never finished, unless its writer is still at work."""
    if not stat.S_ISREG(about.st_mode):
        path.unlink()
        return
    with suppress(FileNotFoundError):
        _unlink_if_free(os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC), str(path), None)


def recover_all(folder: Path) -> None:
    """Clear everything that interrupted runs left in a folder; what other Narvets are at work on stays."""
    for ending in (PARTIAL, CHANGES):
        for left in sorted(folder.glob(f".*{ending}")):
            name = left.with_name(left.name[1 : -len(ending)])
            with suppress(RefusedError), exclusive_lock(name):
                recover(name)
    clear_locks(folder)


def clear_folders(*paths: Path) -> None:
    """Clear what interrupted runs left beside some images; a folder that this user may not change is passed over."""
    for folder in {path.parent for path in paths}:
        if os.access(folder, os.W_OK | os.X_OK):
            recover_all(folder)


def take_place(built: Path, path: Path) -> None:
    """Put a finished file in the place of an existing one, whose owner, mode and attributes it gets."""
    _copy_owner(path, built)
    shutil.copystat(path, built)
    os.utime(built)
    sync_file(built)
    built.replace(path)
    sync_folder(path.parent)


def replace_content(path: Path, content: bytes) -> None:
    """Replace a file's content, or make the file; see `replace_in`. A link is followed, and stays one."""
    path = Path(os.path.realpath(path))
    folder = os.open(path.parent, os.O_RDONLY | os.O_DIRECTORY)
    try:
        replace_in(folder, path.name, content)
    finally:
        os.close(folder)


def replace_in(folder: int, name: str, content: bytes, mode: int = _MODE) -> None:
    """Replace a file's content in an open folder, or make the file; never through a link there.

    Owner, mode and attributes of an existing file are kept; a new one has what the umask leaves of `mode`.
    """
    partial = f".{name}{PARTIAL}"
    handle = _new_partial(folder, partial, mode)
    try:
        with os.fdopen(handle, "wb") as file:
            _as_before(folder, name, file.fileno())
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        os.replace(partial, name, src_dir_fd=folder, dst_dir_fd=folder)
    except BaseException:
        with suppress(OSError):
            os.unlink(partial, dir_fd=folder)
        raise
    sync_handle(folder)


def _new_partial(folder: int, partial: str, mode: int) -> int:
    """Return a new file under a working name, opened and held, in the place of one that a killed run left there.

    Raises:
        RefusedError: another Narvet is writing the same file.
    """
    for _ in range(_TRIES):
        try:
            left = os.open(partial, os.O_WRONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=folder)
        except FileNotFoundError:
            pass
        except OSError:  # a link or a pipe that somebody has put there
            os.unlink(partial, dir_fd=folder)
        else:
            _unlink_if_free(left, partial, folder)
        with suppress(FileExistsError):
            flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
            handle = os.open(partial, flags, mode, dir_fd=folder)
            if hold_file(handle) and _has_name(handle, partial, folder):
                return handle
            os.close(handle)
    raise RefusedError(f"{partial}: another Narvet is at work on this file; wait until it has finished")


def _unlink_if_free(handle: int, name: str, folder: int | None) -> None:
    """Remove a file that no process holds, and close it."""
    try:
        if hold_file(handle) and (folder is None or _has_name(handle, name, folder)):
            os.unlink(name, dir_fd=folder)
    finally:
        os.close(handle)


def _has_name(handle: int, name: str, folder: int) -> bool:
    """Return whether an open file is still the one under a name."""
    try:
        return os.path.samestat(os.fstat(handle), os.stat(name, dir_fd=folder, follow_symlinks=False))
    except FileNotFoundError:
        return False


def _as_before(folder: int, name: str, handle: int) -> None:
    """Give a new file the owner, mode and attributes of the one in whose place it comes, if there is one."""
    try:
        old = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=folder)
    except FileNotFoundError:
        return
    try:
        about, mine = os.fstat(old), os.fstat(handle)
        if (about.st_uid, about.st_gid) != (mine.st_uid, mine.st_gid):
            os.fchown(handle, about.st_uid, about.st_gid)
        os.fchmod(handle, stat.S_IMODE(about.st_mode))
        for attribute in os.listxattr(old) if hasattr(os, "listxattr") else ():
            os.setxattr(handle, attribute, os.getxattr(old, attribute))
    finally:
        os.close(old)


def _copy_owner(source: Path, copy: Path) -> None:
    about = source.stat()
    if hasattr(os, "chown") and (about.st_uid, about.st_gid) != (copy.stat().st_uid, copy.stat().st_gid):
        os.chown(copy, about.st_uid, about.st_gid)


def _write_mark(folder: Path, files: Sequence[Path]) -> None:
    """Note which files are about to be published, by inode, so that they are not taken for others."""
    abouts = [(file.name, file.stat()) for file in files]
    mark = folder / _MARK
    mark.write_text(json.dumps([[name, about.st_dev, about.st_ino] for name, about in abouts]))
    sync_file(mark)
    sync_folder(folder)
    sync_folder(folder.parent)


def _take_back(folder: Path, path: Path) -> None:
    """Remove the parts of an image that were published, by inode, where the file that names them was not.

    A cut can leave a renamed file under both names. The file that names the others gets its name last and loses it
    first, so where it has its real name the image is whole.
    """
    marked = {name: (device, inode) for name, device, inode in _read_mark(folder / _MARK)}
    if not marked or not os.path.lexists(folder / path.name) or _is(path, marked.get(path.name)):
        return
    for name, known in marked.items():
        if _is(path.parent / name, known):
            (path.parent / name).unlink()
    sync_folder(path.parent)  # until they are gone for good, the mark must stay


def _is(path: Path, known: tuple[int, int] | None) -> bool:
    """Return whether a file has this device and inode."""
    try:
        about = path.lstat()
    except FileNotFoundError:
        return False
    return (about.st_dev, about.st_ino) == known


def _read_mark(mark: Path) -> list[tuple[str, int, int]]:
    """Return the files a mark names; nothing of a mark that is not whole, as then nothing was published."""
    try:
        with mark.open("rb") as file:
            found: Any = json.loads(file.read(_LONGEST_MARK))
        return [(str(name), int(device), int(inode)) for name, device, inode in found if "/" not in str(name)]
    except (OSError, ValueError, TypeError):
        return []


def _remove_folder(folder: Path) -> None:
    """Remove a working folder with its files, and a folder that was put together in it; no link is followed."""
    for name in sorted(os.listdir(folder), key=lambda name: name == _MARK):  # noqa: PTH208 (names alone)
        path = folder / name
        if path.is_dir() and not path.is_symlink():
            shutil.rmtree(path)
        else:
            path.unlink()
    folder.rmdir()
