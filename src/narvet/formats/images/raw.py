"""The raw format: the disk's bytes and nothing else, in a file with holes (thin) or all allocated (full).

Any file or block device can be read as raw. The sector size is not recorded; it is given when the disk is attached.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from narvet.block.contract import BlockDevice
from narvet.block.file import FileDevice
from narvet.block.files import File, Files
from narvet.block.sectors import WithSectors
from narvet.formats.images.contract import ImageFacts, ImageSpec, Opened, Space
from narvet.ground.units import LARGEST

_USUAL_SECTOR_SIZE = 512


class Raw:
    """The format behind `format = "raw"`."""

    name = "raw"
    most = LARGEST - 1
    sectors = (512, 4096)
    makes_children = False
    records_sector = False
    renews_link = False

    def fit(self, size: int, block: int | None = None) -> int:  # noqa: ARG002 (there are no blocks)
        """Return the size: any will do."""
        return size

    def blocks(self) -> tuple[int, ...]:
        """Return none: a raw image is one piece."""
        return ()

    def footprint(self, image_spec: ImageSpec, data: int) -> int:
        """Return what is written, or everything."""
        return image_spec.size if image_spec.space == "full" else data

    @contextmanager
    def create(self, files: Files, name: str, image_spec: ImageSpec) -> Iterator[BlockDevice]:
        """Make a new image of zeros; full allocates every byte without writing it where the system can."""
        file = files.create(name)
        if image_spec.space == "full":
            file.allocate(image_spec.size)
        else:
            file.resize(image_spec.size)
        yield _with_sectors(file, image_spec.sector_size)

    def probe(self, files: Files, name: str, *, writable: bool = False) -> Opened:
        """Open a file or block device; nothing tells raw from other data, so there always is one."""
        file = files.open(name, writable=writable)

        def device(sector_size: int, base: BlockDevice | None) -> BlockDevice:  # noqa: ARG001 (there are no children)
            return _with_sectors(file, sector_size)

        return Opened(_facts(file), device)

    def enlarge(self, files: Files, name: str, size: int, *, full: bool = False, piece: int | None = None) -> None:
        """Make the file longer."""
        del piece
        file = files.open(name, writable=True)
        if full:
            file.allocate(size)
        else:
            file.resize(size)

    def shorten(self, files: Files, name: str, size: int) -> None:
        """Make the file shorter."""
        files.open(name, writable=True).resize(size)


FORMAT = Raw()


def _with_sectors(file: File, sector_size: int) -> BlockDevice:
    return WithSectors(file, sector_size) if sector_size not in (0, _USUAL_SECTOR_SIZE) else file


def _facts(file: File) -> ImageFacts:
    number = file.device_number if isinstance(file, FileDevice) else None
    if number is not None:
        return ImageFacts("raw", "full", file.size, _device_sector(number), file.size)
    space: Space = "full" if file.stored >= file.size > 0 else "thin"
    return ImageFacts("raw", space, file.size, 0, file.stored, link=f"{file.size}-{file.changed}")


def _device_sector(number: int) -> int:
    """Return the bytes of a real device's logical sectors (sysfs-block, queue/logical_block_size); 0 if unknown."""
    about = Path(f"/sys/dev/block/{os.major(number)}:{os.minor(number)}")
    for place in (about, about / ".."):  # a partition's device has its disk above it
        try:
            size = int((place / "queue" / "logical_block_size").read_text())
        except (OSError, ValueError):
            continue
        return size if size in Raw.sectors else 0
    return 0
