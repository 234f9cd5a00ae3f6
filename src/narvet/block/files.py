"""Whole files put in place all at once: what a reader or a power cut sees is the old file or the new one."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from narvet.errors import RefusedError

PARTIAL = ".narvet-partial"
"""Ends the name of everything not finished yet; such a file is Narvet's own and is never anything else's."""


def partial_name(path: Path) -> Path:
    """Return the name, beside `path`, under which its next content is put together."""
    return path.with_name(f".{path.name}{PARTIAL}")


def real_name(path: Path) -> str:
    """Return the name that the file at `path` has, or will have once it is published."""
    return path.name[1 : -len(PARTIAL)] if path.name.endswith(PARTIAL) else path.name


def sync_folder(folder: Path) -> None:
    """Return when the names in a folder are on stable storage; systems whose folders cannot be opened have no need."""
    try:
        handle = os.open(folder, os.O_RDONLY)
    except OSError:
        return
    try:
        with suppress(OSError):  # some network filesystems do not sync folders
            os.fsync(handle)
    finally:
        os.close(handle)


def sync_file(path: Path) -> None:
    """Return when a file's content is on stable storage."""
    with path.open("rb+") as file:
        os.fsync(file.fileno())


def take_place(partial: Path, path: Path) -> None:
    """Put a finished file in the place of an existing one, whose owner, mode and attributes it gets."""
    _copy_owner(path, partial)
    shutil.copystat(path, partial)
    os.utime(partial)
    partial.replace(path)
    sync_folder(path.parent)


def replace_content(path: Path, content: bytes) -> None:
    """Replace a file's content, or make the file; owner, mode and attributes of an existing one are kept."""
    partial = partial_name(path)
    partial.unlink(missing_ok=True)
    try:
        with partial.open("xb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        if path.exists():
            take_place(partial, path)
        else:
            partial.chmod(0o644)
            partial.replace(path)
            sync_folder(path.parent)
    except BaseException:
        partial.unlink(missing_ok=True)
        raise


def _copy_owner(source: Path, copy: Path) -> None:
    about = source.stat()
    if hasattr(os, "chown") and (about.st_uid, about.st_gid) != (copy.stat().st_uid, copy.stat().st_gid):
        os.chown(copy, about.st_uid, about.st_gid)


@contextmanager
def held(path: Path) -> Iterator[None]:
    """Hold an existing file for this process alone, as long as the context lasts (flock(2)); without locks, do nothing.

    Raises:
        RefusedError: another process holds it.
    """
    try:
        import fcntl
    except ImportError:
        yield
        return
    with path.open("rb") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            raise RefusedError(f"{path}: another Narvet is at work on it; wait until it has finished") from None
        yield


@contextmanager
def at_rest(path: Path, *parts: Path) -> Iterator[None]:
    """Hold an image, with the further files it is kept in, that nobody may be writing to meanwhile.

    Raises:
        RefusedError: another Narvet holds it, or a process (a hypervisor, say) or loop device has it open for writing.
    """
    with held(path):
        for file in (path, *parts):
            who = next(writers(file), None)
            if who is not None:
                raise RefusedError(f"{file}: {who} has it open for writing; shut its guest down or detach it first")
        yield


def writers(path: Path) -> Iterator[str]:
    """Yield who else has a file open for writing, where the system tells (proc(5)): processes and loop devices."""
    about = path.stat()
    for process in Path("/proc").glob("[0-9]*"):
        with suppress(OSError):  # it ends meanwhile, or is another user's
            if process.name != str(os.getpid()) and any(
                _writes(process, handle, about) for handle in _handles(process)
            ):
                yield f"process {process.name} ({(process / 'comm').read_text().strip()})"
    for backing in Path("/sys/block").glob("loop*/loop/backing_file"):
        with suppress(OSError):
            read_only = (backing.parents[1] / "ro").read_text().strip() == "1"
            if not read_only and os.path.samestat(about, os.stat(backing.read_text().rstrip("\n"))):  # noqa: PTH116
                yield f"loop device {backing.parents[1].name}"


def _handles(process: Path) -> list[str]:
    return os.listdir(process / "fd")  # noqa: PTH208 (names alone, for thousands of them)


def _writes(process: Path, handle: str, about: os.stat_result) -> bool:
    """Return whether a process has a file open for writing by one of its handles."""
    try:
        if not os.path.samestat(about, os.stat(process / "fd" / handle)):  # noqa: PTH116
            return False
        flags = (process / "fdinfo" / handle).read_text().partition("flags:")[2].split()[0]
    except (OSError, IndexError):
        return False
    return int(flags, 8) & os.O_ACCMODE != os.O_RDONLY


def publish(partial: Path, path: Path) -> None:
    """Give a finished file its real name, which must be free; the name appears at once or not at all.

    Raises:
        RefusedError: something has taken the name meanwhile.
    """
    try:
        try:
            os.link(partial, path)
        except FileExistsError:
            raise
        except (OSError, AttributeError):  # a filesystem without hard links
            if path.exists():
                raise FileExistsError from None
            partial.rename(path)
    except FileExistsError:
        raise RefusedError(f"{path}: something took this name while its image was being written") from None
    partial.unlink(missing_ok=True)
    sync_folder(path.parent)
