"""Leases on images: nobody else uses them meanwhile, and nobody can begin to without Narvet noticing.

Three things are looked at, as each alone misses something: the byte-range locks that hypervisors take on the images
they use, the files that other processes have open (proc(5)), and loop devices. Real devices are claimed with O_EXCL,
which the kernel refuses for a device that is mounted, used for swap or part of another.
"""

from __future__ import annotations

import errno
import os
import stat
import struct
from collections.abc import Iterable, Iterator, Sequence
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

from narvet.ground.errors import ImageError, RefusedError

# How hypervisors lock images: a byte for each permission that a user has, and another for each it does not share.
_HAS, _KEEPS = 100, 200
_READ, _WRITE, _RESIZE = 0, 1, 3
_COUNT = 5  # permissions there are
_FLOCK = "hhqqi4x"  # struct flock on 64-bit Linux: type, whence, start, length, pid
_NO_LOCKS = (errno.EINVAL, errno.ENOLCK, errno.ENOTSUP, errno.ENOSYS)


class Lease:
    """A hold on some files; `check` looks again, right before the step that cannot be undone."""

    def __init__(self, files: Sequence[tuple[Path, int]], *, change: bool) -> None:
        self._files = files
        self._change = change

    def check(self) -> None:
        """Return if the files are still the same ones and nobody else uses them.

        Raises:
            RefusedError: somebody does, or a file was replaced meanwhile.
        """
        for path, handle in self._files:
            about = os.fstat(handle)
            try:
                there = path.stat()
            except FileNotFoundError:
                raise RefusedError(f"{path}: it was removed while Narvet worked on it; nothing was changed") from None
            if not os.path.samestat(about, there):
                raise RefusedError(f"{path}: it was replaced while Narvet worked on it; nothing was changed")
            _refuse_locked(path, handle, change=self._change)
            who = next(users(path, readers=self._change), None)
            if who is not None:
                raise RefusedError(f"{path}: {who} has it open; shut its guest down or detach it first")


Stamps = tuple[tuple[int, int], ...]
"""Of each of some files, when it was last changed, in nanoseconds, and its bytes."""


def stamps(files: Iterable[Path]) -> Stamps:
    """Return what tells whether files were changed between two looks."""
    return tuple((about.st_mtime_ns, about.st_size) for about in (file.stat() for file in files))


@contextmanager
def lease(*paths: Path, change: bool) -> Iterator[Lease]:
    """Hold images, with every further file they are kept in, that nobody may be using meanwhile.

    With `change` they are about to be changed, replaced or removed, and nobody may even read them; without it they are
    read, and nobody may write to them.

    Raises:
        RefusedError: another Narvet, a hypervisor, any process or a loop device uses one, or a device is in use.
    """
    with ExitStack() as stack:
        files = [(path, _opened(stack, path)) for path in paths]
        for path, handle in files:
            _lock(path, handle, change=change)
        held = Lease(files, change=change)
        held.check()
        yield held


def _opened(stack: ExitStack, path: Path) -> int:
    try:
        device = stat.S_ISBLK(path.stat().st_mode)
        handle = os.open(path, os.O_RDONLY | os.O_CLOEXEC | (os.O_EXCL if device else 0))
    except OSError as error:
        if error.errno == errno.EBUSY:
            raise RefusedError(f"{path}: the system uses this device; unmount it first") from None
        if error.errno == errno.ENOENT:
            raise ImageError(f"{path}: this file, which the disk is kept in, is missing; put it back there") from None
        raise
    stack.callback(os.close, handle)
    return handle


def _lock(path: Path, handle: int, *, change: bool) -> None:
    """Take the locks that hypervisors look at, and refuse where theirs say that it is in use."""
    keeps = (_READ, _WRITE, _RESIZE) if change else (_WRITE, _RESIZE)
    has = (_READ, _WRITE, _RESIZE) if change else (_READ,)
    for byte in (*(_HAS + one for one in has), *(_KEEPS + one for one in keeps)):
        if not _set(handle, byte):
            return
    _refuse_locked(path, handle, change=change)


def _set(handle: int, byte: int) -> bool:
    """Lock a byte, shared; return whether this system and filesystem have such locks."""
    import fcntl

    if not hasattr(fcntl, "F_OFD_SETLK"):
        return False
    try:
        fcntl.fcntl(handle, fcntl.F_OFD_SETLK, struct.pack(_FLOCK, fcntl.F_RDLCK, os.SEEK_SET, byte, 1, 0))
    except OSError as error:
        if error.errno in _NO_LOCKS:
            return False
        raise
    return True


def _refuse_locked(path: Path, handle: int, *, change: bool) -> None:
    """Raise RefusedError where somebody's locks do not go with what is about to be done."""
    import fcntl

    if not hasattr(fcntl, "F_OFD_GETLK"):
        return
    unwanted = [_KEEPS + _READ, _HAS + _WRITE, _HAS + _RESIZE]
    if change:
        unwanted += [_HAS + one for one in range(_COUNT)] + [_KEEPS + one for one in range(_COUNT)]
    for byte in unwanted:
        asked = struct.pack(_FLOCK, fcntl.F_WRLCK, os.SEEK_SET, byte, 1, 0)
        try:
            found = struct.unpack(_FLOCK, fcntl.fcntl(handle, fcntl.F_OFD_GETLK, asked))
        except OSError as error:
            if error.errno in _NO_LOCKS:
                return
            raise
        if found[0] != fcntl.F_UNLCK:
            raise RefusedError(f"{path}: a hypervisor or another Narvet uses it; shut its guest down or wait")


_works_for: int | None = None
"""The process whose work this one does a part of, beside others."""


def works_for(process: int | None) -> None:
    """Know that this process does a part of a process's work, perhaps its own, beside others that do so too.

    They look into images without a lease, to see whose children they are; what they change, they hold.
    """
    global _works_for  # noqa: PLW0603 (a process is started for another one, or is not)
    _works_for = process


def _is_kin(process: Path) -> bool:
    """Return whether a process does a part of the same work as this one."""
    if _works_for is None:
        return False
    parent = int((process / "stat").read_text().rpartition(")")[2].split()[1])
    return _works_for in (parent, int(process.name))


def users(path: Path, *, readers: bool) -> Iterator[str]:
    """Yield who else has a file or device open, as far as the system tells this user: processes and loop devices.

    Without `readers`, only those that could write to it.
    """
    about = path.stat()
    for process in Path("/proc").glob("[0-9]*"):
        with suppress(OSError):  # it ends meanwhile, or is another user's
            if process.name == str(os.getpid()):
                continue
            held = any(_has_open(process, handle, about, readers=readers) for handle in _handles(process))
            if held and not _is_kin(process):
                yield f"process {process.name} ({(process / 'comm').read_text().strip()})"
    for backing in Path("/sys/block").glob("loop*/loop/backing_file"):
        with suppress(OSError):
            read_only = (backing.parents[1] / "ro").read_text().strip() == "1"
            used = readers or not read_only
            if used and os.path.samestat(about, os.stat(backing.read_text().rstrip("\n"))):  # noqa: PTH116
                yield f"loop device {backing.parents[1].name}"


def _handles(process: Path) -> list[str]:
    return os.listdir(process / "fd")  # noqa: PTH208 (names alone, for thousands of them)


def _has_open(process: Path, handle: str, about: os.stat_result, *, readers: bool) -> bool:
    """Return whether a process has a file open by one of its handles, for writing unless `readers` count too."""
    try:
        there = os.stat(process / "fd" / handle)  # noqa: PTH116
        same = os.path.samestat(about, there) or (stat.S_ISBLK(about.st_mode) and about.st_rdev == there.st_rdev)
        if not same:
            return False
        flags = int((process / "fdinfo" / handle).read_text().partition("flags:")[2].split()[0], 8)
    except (OSError, IndexError):
        return False
    return not flags & getattr(os, "O_PATH", 0) and (readers or flags & os.O_ACCMODE != os.O_RDONLY)
