"""What the formats share about their files: opening, allocating, counting blocks."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from tempfile import TemporaryFile
from typing import BinaryIO, cast

from narvet.block.file import FileDevice

_OTHER_FILES = 256  # open besides the pieces of an image
_STORED_UNIT = 512  # POSIX: st_blocks counts units of 512 bytes


@contextmanager
def new_file(path: Path, sector: int = 512) -> Iterator[FileDevice]:
    """Make a file that must not exist yet."""
    with path.open("x+b", buffering=0) as file:
        yield FileDevice(file, sector)


@contextmanager
def existing(path: Path, sector: int = 512, *, writable: bool = False) -> Iterator[FileDevice]:
    """Open a file that exists."""
    with path.open("r+b" if writable else "rb", buffering=0) as file:
        yield FileDevice(file, sector)


def allocated(file: FileDevice, size: int) -> None:
    """Give a new file all of its bytes: by the system's own call, or where there is none by writing zeros."""
    file.resize(size)
    if hasattr(os, "posix_fallocate"):
        os.posix_fallocate(file.handle, 0, size)
        return
    blank = memoryview(bytes(1 << 20))
    for done in range(0, size, len(blank)):
        file.write(done, blank[: size - done])


def many_files(count: int) -> None:
    """Let this process have so many files open at once, as far as the system allows."""
    try:
        import resource
    except ImportError:
        return
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = count + _OTHER_FILES
    if soft != resource.RLIM_INFINITY and soft < wanted:
        resource.setrlimit(
            resource.RLIMIT_NOFILE, (wanted if hard == resource.RLIM_INFINITY else min(wanted, hard), hard)
        )


@contextmanager
def scratch(folder: Path, size: int, sector: int) -> Iterator[FileDevice]:
    """Yield a file of `size` zeros without a name, gone when the context is left."""
    with TemporaryFile(dir=folder, buffering=0) as file:
        device = FileDevice(cast(BinaryIO, file), sector)
        device.resize(size)
        yield device


def stored(path: Path) -> int:
    """Return the bytes a file takes of its filesystem."""
    about = path.stat()
    return getattr(about, "st_blocks", -(-about.st_size // _STORED_UNIT)) * _STORED_UNIT
