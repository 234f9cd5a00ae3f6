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
from narvet.images.contract import ImageFacts, InOneFile, Making, Space
from narvet.images.files import allocated, existing, new_file, stored
from narvet.units import LARGEST


class Raw(InOneFile):
    """The format behind `format = "raw"`."""

    name = "raw"
    suffix = ".raw"
    most = LARGEST - 1
    sectors = (512, 4096)
    makes_children = False
    records_sector = False
    renews_link = False

    def fit(self, size: int, block: int | None = None) -> int:
        """Return the size: any will do."""
        del block
        return size

    def blocks(self) -> tuple[int, ...]:
        """Return none: a raw image is one piece."""
        return ()

    def footprint(self, making: Making, data: int) -> int:
        """Return what is written, or everything."""
        return making.size if making.space == "full" else data

    @contextmanager
    def create(self, path: Path, making: Making) -> Iterator[BlockDevice]:
        """Make a new image of zeros; full allocates every byte without writing it where the system can."""
        with new_file(path, making.sector) as file:
            if making.space == "full":
                allocated(file, making.size)
            else:
                file.resize(making.size)
            yield file

    @contextmanager
    def open(
        self, path: Path, sector: int, *, writable: bool = False, base: BlockDevice | None = None
    ) -> Iterator[BlockDevice]:
        """Open an image or a block device."""
        del base
        with existing(path, sector or 512, writable=writable) as file:
            yield file

    def facts(self, path: Path) -> ImageFacts:
        """Return the facts of a file or block device; nothing tells raw from other data, so it is never None."""
        about = path.stat()
        if not stat.S_ISREG(about.st_mode):
            with self.open(path, 512) as device:
                return ImageFacts("raw", "full", device.size, _device_sector(about.st_rdev), device.size)
        taken = stored(path)
        space: Space = "full" if taken >= about.st_size > 0 else "thin"
        return ImageFacts("raw", space, about.st_size, 0, taken, link=f"{about.st_size}-{about.st_mtime_ns}")


FORMAT = Raw()


def _device_sector(number: int) -> int:
    """Return the bytes of a real device's logical sectors (sysfs-block, queue/logical_block_size); 0 if not told."""
    about = Path(f"/sys/dev/block/{os.major(number)}:{os.minor(number)}")
    for place in (about, about / ".."):  # a partition's device has its disk above it
        try:
            size = int((place / "queue" / "logical_block_size").read_text())
        except (OSError, ValueError):
            continue
        return size if size in Raw.sectors else 0
    return 0
