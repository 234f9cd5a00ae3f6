"""The raw format: the disk's bytes and nothing else, in a file with holes (thin) or all allocated (full).

Any file or block device can be read as raw. The sector size is not recorded; whoever attaches the disk states it.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from narvet.block.contract import BlockDevice
from narvet.block.file import FileDevice
from narvet.images.contract import ImageFacts, Space
from narvet.units import LARGEST

_STORED_UNIT = 512  # POSIX: st_blocks counts units of 512 bytes


class Raw:
    """The format behind `format = "raw"`."""

    name = "raw"
    suffix = ".raw"
    most = LARGEST - 1

    @contextmanager
    def create(self, path: Path, size: int, sector: int, space: Space) -> Iterator[BlockDevice]:
        """Make a new image of zeros; full allocates every byte without writing it where the system can."""
        with path.open("x+b", buffering=0) as file:
            if space == "full":
                _allocate(file.fileno(), size)
            else:
                file.truncate(size)
            yield FileDevice(file, sector)

    @contextmanager
    def open(self, path: Path, sector: int) -> Iterator[BlockDevice]:
        """Open an image or a block device for reading."""
        with path.open("rb", buffering=0) as file:
            yield FileDevice(file, sector)

    def facts(self, path: Path) -> ImageFacts | None:
        """Return the facts of a file or block device; nothing tells raw from other data, so it is never None."""
        about = path.stat()
        if not stat.S_ISREG(about.st_mode):
            with self.open(path, 512) as device:
                return ImageFacts("raw", "full", device.size, 0, device.size)
        allocated = getattr(about, "st_blocks", -(-about.st_size // _STORED_UNIT)) * _STORED_UNIT
        space: Space = "full" if allocated >= about.st_size > 0 else "thin"
        return ImageFacts("raw", space, about.st_size, 0, allocated)


FORMAT = Raw()


def _allocate(handle: int, size: int) -> None:
    """Allocate all of a new file: by the system's own call, or where there is none by writing zeros."""
    if hasattr(os, "posix_fallocate"):
        os.posix_fallocate(handle, 0, size)
        return
    blank = bytes(1 << 20)
    for done in range(0, size, len(blank)):
        os.write(handle, blank[: min(len(blank), size - done)])
