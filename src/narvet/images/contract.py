"""What every image format can do, and the facts it tells of an image. Sizes are bytes."""

from __future__ import annotations

from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import Literal, Protocol

from narvet.block.contract import BlockDevice

Space = Literal["thin", "full"]


@dataclass(frozen=True)
class ImageFacts:
    """What an image file tells of itself; `sector` is 0 where the format does not record it."""

    format: str
    space: Space
    size: int
    sector: int
    allocated: int
    base: str | None = None


class ImageFormat(Protocol):
    """An image format."""

    name: str
    suffix: str
    most: int

    def create(self, path: Path, size: int, sector: int, space: Space) -> AbstractContextManager[BlockDevice]:
        """Make a new image that reads as zeros; the file must not exist. Closing the device keeps it as it is then."""

    def open(self, path: Path, sector: int) -> AbstractContextManager[BlockDevice]:
        """Open an image for reading."""

    def facts(self, path: Path) -> ImageFacts | None:
        """Return the facts of an image that is not trusted, or None if it is not of this format."""
