"""What every image format can do, and the values it deals in. Sizes are bytes."""

from __future__ import annotations

from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal, Protocol
from uuid import UUID

from narvet.block.contract import BlockDevice

Space = Literal["thin", "full"]


@dataclass(frozen=True)
class Base:
    """The image a new child keeps its differences from: where it lies, seen from the child, and what it is.

    `link` is what the base's format keeps for a child to recognise it by, and `format` its name.
    """

    relative: str
    absolute: str
    format: str
    size: int
    link: str = ""
    made: int = 0


@dataclass(frozen=True)
class Making:
    """What a new image is to be. Ids and times are given, so that the same wish gives the same bytes.

    `block` is the unit that a thin image grows by, None for the format's own choice; `made` is seconds since 1970.
    """

    size: int
    sector: int = 512
    space: Space = "thin"
    id: UUID = field(default_factory=lambda: UUID(int=0))
    made: int = 0
    block: int | None = None
    base: Base | None = None


@dataclass(frozen=True)
class ImageFacts:
    """What an image file tells of itself; `sector` is 0 where the format does not record it.

    `block` is the unit a thin image grows by, 0 where there is none. `link` is what children keep to recognise this
    image by, changed whenever its content is. `base` is the path of this image's own base, `base_link` what that must
    answer to and `base_format` the name of its format, empty where they are not recorded.
    """

    format: str
    space: Space
    size: int
    sector: int
    allocated: int
    block: int = 0
    link: str = ""
    base: str | None = None
    base_link: str = ""
    base_format: str = ""


class ImageFormat(Protocol):
    """An image format."""

    name: str
    suffix: str
    most: int
    sectors: tuple[int, ...]
    makes_children: bool

    def fit(self, size: int) -> int:
        """Return the smallest size from `size` on that the format can hold and all its readers agree on."""

    def blocks(self) -> tuple[int, ...]:
        """Return the block sizes that can be chosen, ascending; none where there are no blocks."""

    def footprint(self, making: Making, data: int) -> int:
        """Return the most bytes that a fresh image with `data` bytes written stores, in a file that can have holes."""

    def create(self, path: Path, making: Making) -> AbstractContextManager[BlockDevice]:
        """Make a new image that reads as zeros; the file must not exist. It is whole once the context is left."""

    def open(
        self, path: Path, sector: int, *, writable: bool = False, base: BlockDevice | None = None
    ) -> AbstractContextManager[BlockDevice]:
        """Open an image that is not trusted, over its base; `sector` holds where the format does not record it."""

    def facts(self, path: Path) -> ImageFacts | None:
        """Return the facts of an image that is not trusted, or None if it is not of this format."""
