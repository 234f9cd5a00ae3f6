"""Named files that images are kept in: a folder on disk or in memory, each file opened once.

Image formats work over `Files`, not over paths, so that the same code serves a folder, memory, what is recorded for a
test, or another machine.
"""

from __future__ import annotations

import stat
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path
from tempfile import TemporaryFile
from typing import BinaryIO, Literal, Protocol, Self, cast

from narvet.block.contract import BlockDevice
from narvet.block.file import FileDevice
from narvet.block.memory import MemoryDevice

FileKind = Literal["file", "device", "folder", "link", "other", "missing"]
_OTHER_FILES = 256  # open besides the pieces of an image


class File(BlockDevice, Protocol):
    """The bytes of one file."""

    @property
    def stored(self) -> int:
        """Bytes that it takes of its filesystem."""

    @property
    def changed(self) -> int:
        """When its content was changed last, in nanoseconds since 1970."""

    def resize(self, size: int) -> None:
        """Make it longer, by a hole, or shorter."""

    def allocate(self, size: int) -> None:
        """Make it `size` bytes long and give it all of them."""


class Files(Protocol):
    """Files by their names; what is opened or made stays open as long as they do."""

    def open(self, name: str, *, writable: bool = False) -> File:
        """Return a file that exists; OSError if it does not."""

    def create(self, name: str) -> File:
        """Return a new file; OSError if there is one."""

    def scratch(self, size: int) -> File:
        """Return a file of `size` zeros without a name."""

    def kind(self, name: str) -> FileKind:
        """Return what lies under a name; a link is not followed."""

    def names(self) -> tuple[str, ...]:
        """Return the names of everything there, ascending."""

    def shown(self, name: str) -> str:
        """Return what messages call a file."""


class Folder:
    """The files in a folder on disk, a context; each is opened once, however often it is asked for."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._stack = ExitStack()
        self._opened: dict[tuple[str, bool], FileDevice] = {}

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._opened.clear()
        self._stack.close()

    def open(self, name: str, *, writable: bool = False) -> FileDevice:
        """Return a file, or block device, that exists."""
        known = self._opened.get((name, writable))
        if known is None:
            known = self._device("r+b" if writable else "rb", name)
            self._opened[name, writable] = known
        return known

    def create(self, name: str) -> FileDevice:
        """Return a new file; FileExistsError if there is one."""
        return self._device("x+b", name)

    def scratch(self, size: int) -> FileDevice:
        """Return a file of `size` zeros without a name."""
        file = self._stack.enter_context(TemporaryFile(dir=self.path, buffering=0))  # noqa: SIM115 (the stack closes it)
        device = FileDevice(cast(BinaryIO, file))
        device.resize(size)
        return device

    def kind(self, name: str) -> FileKind:
        """Return what lies under a name; a link is not followed."""
        try:
            mode = (self.path / name).lstat().st_mode
        except (FileNotFoundError, NotADirectoryError):
            return "missing"
        kinds: tuple[tuple[bool, FileKind], ...] = (
            (stat.S_ISREG(mode), "file"), (stat.S_ISBLK(mode), "device"), (stat.S_ISDIR(mode), "folder"),
            (stat.S_ISLNK(mode), "link"),
        )  # fmt: skip
        return next((kind for fits, kind in kinds if fits), "other")

    def names(self) -> tuple[str, ...]:
        """Return the names of everything there, ascending."""
        return tuple(sorted(path.name for path in self.path.iterdir()))

    def shown(self, name: str) -> str:
        """Return the path of a file."""
        return str(self.path / name)

    def wrap(self, file: BinaryIO) -> FileDevice:
        """Return an open file as a device; for those who want another kind of device."""
        return FileDevice(file)

    def _device(self, mode: Literal["rb", "r+b", "x+b"], name: str) -> FileDevice:
        if len(self._opened) % _OTHER_FILES == 0:
            allow_files(len(self._opened))
        return self.wrap(cast(BinaryIO, self._stack.enter_context((self.path / name).open(mode, buffering=0))))


class MemoryFiles:
    """Files in memory, by name."""

    def __init__(self) -> None:
        self._files: dict[str, MemoryFile] = {}

    def open(self, name: str, *, writable: bool = False) -> MemoryFile:  # noqa: ARG002 (memory can always be written to)
        """Return a file that exists; FileNotFoundError if there is none."""
        if name not in self._files:
            raise FileNotFoundError(name)
        return self._files[name]

    def create(self, name: str) -> MemoryFile:
        """Return a new file; FileExistsError if there is one."""
        if name in self._files:
            raise FileExistsError(name)
        self._files[name] = MemoryFile(0)
        return self._files[name]

    def scratch(self, size: int) -> MemoryFile:
        """Return a file of `size` zeros without a name."""
        return MemoryFile(size)

    def kind(self, name: str) -> FileKind:
        """Return what lies under a name."""
        return "file" if name in self._files else "missing"

    def names(self) -> tuple[str, ...]:
        """Return the names of all files, ascending."""
        return tuple(sorted(self._files))

    def shown(self, name: str) -> str:
        """Return the name."""
        return name


class MemoryFile(MemoryDevice):
    """A file in memory: a sparse disk that can be made longer and shorter. It counts its changes for its time."""

    _changes = 0

    @property
    def stored(self) -> int:
        """Bytes of what was written to."""
        return sum(run.length for run in self.extents())

    @property
    def changed(self) -> int:
        """How often it was changed."""
        return self._changes

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Write all of `data`."""
        self._changes += 1
        super().write(offset, data)

    def allocate(self, size: int) -> None:
        """Make it `size` bytes long; memory is taken when it is written to."""
        self.resize(size)


def in_order(files: Files, names: tuple[str, ...]) -> Iterator[File]:
    """Yield files that exist, opened to be read."""
    return (files.open(name) for name in names if files.kind(name) != "missing")


def allow_files(count: int) -> None:
    """Let this process have so many files or connections open at once, and some more, as far as the system allows."""
    try:
        import resource
    except ImportError:
        return
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = count + 2 * _OTHER_FILES
    if soft != resource.RLIM_INFINITY and soft < wanted:
        most = wanted if hard == resource.RLIM_INFINITY else min(wanted, hard)
        resource.setrlimit(resource.RLIMIT_NOFILE, (most, hard))


def stored_at(path: Path) -> int:
    """Return the bytes that the file at `path` takes of its filesystem."""
    with Folder(path.parent) as files:
        return files.open(path.name).stored
