"""What every image format can do, and the values it deals in. Sizes are bytes."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal, NamedTuple, Protocol
from uuid import UUID

from narvet.block.contract import BlockDevice
from narvet.units import show_binary, show_both

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
    `pieces` is the most bytes each of the image's files may have, None for one file; `packed` asks for the compressed
    form that is written once and then only read.
    """

    size: int
    sector: int = 512
    space: Space = "thin"
    id: UUID = field(default_factory=lambda: UUID(int=0))
    made: int = 0
    block: int | None = None
    base: Base | None = None
    pieces: int | None = None
    packed: bool = False


@dataclass(frozen=True)
class ImageFacts:
    """What an image file tells of itself; `sector` is 0 where the format does not record it.

    `block` is the unit a thin image grows by, 0 where there is none; `id` is what the guest may know the disk by.
    `whole` is false for an image in pieces or in a packed form. `link` is what children keep to recognise this
    image by, changed whenever its content is. `base` is the path of this image's own base, `base_link` what that must
    answer to and `base_format` the name of its format, empty where they are not recorded.
    """

    format: str
    space: Space
    size: int
    sector: int
    allocated: int
    block: int = 0
    id: UUID | None = None
    whole: bool = True
    link: str = ""
    base: str | None = None
    base_link: str = ""
    base_format: str = ""


class ImageFormat(Protocol):
    """An image format; `divides` tells whether its images can be kept in pieces, or packed, and
    `records_sector` whether an image itself tells the size of its sectors. With `renews_link`
    every writer gives an image another id for its children to notice.

    New images have the ending `suffix`.
    """

    name: str
    suffix: str
    most: int
    sectors: tuple[int, ...]
    makes_children: bool
    divides: bool
    records_sector: bool
    renews_link: bool

    def fit(self, size: int, block: int | None = None) -> int:
        """Return the smallest size from `size` on that the format can hold and all its readers agree on.

        `block` is the unit it grows by, in bytes, None for the format's own choice.
        """

    def blocks(self) -> tuple[int, ...]:
        """Return the block sizes that can be chosen, ascending; none where there are no blocks."""

    def least_piece(self, size: int) -> int:
        """Return the smallest piece that an image of a disk of `size` bytes may be cut into."""

    def parts(self, path: Path) -> tuple[Path, ...]:
        """Return the further files that the image at `path` is kept in."""

    def own_parts(self, path: Path) -> tuple[Path, ...]:
        """Return the same, once it is certain that each of them belongs to this image and to no other.

        Raises:
            ImageError: one may not.
        """

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


class InOneFile:
    """What the formats share whose images are always one file."""

    divides = False

    def least_piece(self, size: int) -> int:
        """Return the size: there are no pieces."""
        return size

    def parts(self, path: Path) -> tuple[Path, ...]:
        """Return none."""
        del path
        return ()

    def own_parts(self, path: Path) -> tuple[Path, ...]:
        """Return none."""
        del path
        return ()


class Misfit(NamedTuple):
    """What a format does not allow of a wish: the key it was wished by, why not, and the way out."""

    key: str
    message: str
    remedy: str


def misfits(kind: ImageFormat, making: Making) -> Iterator[Misfit]:
    """Yield everything of a wish that an image format does not allow."""
    if making.size > kind.most:
        yield Misfit(
            "size",
            f"{kind.name} holds disks of at most {show_both(kind.most)}, not {show_both(making.size)}",
            "choose another format, or spread the data over more disks",
        )
    if making.sector not in kind.sectors:
        known = " or ".join(str(sector) for sector in kind.sectors)
        message = f"{kind.name} has sectors of {known} bytes, not of {making.sector}"
        yield Misfit("sector", message, "choose those, or another format")
    if making.block is not None and making.block not in kind.blocks():
        known = ", ".join(show_binary(block) for block in kind.blocks()) or "none"
        message = f"{kind.name} has no blocks of {show_binary(making.block)}; it has {known}"
        yield Misfit("block", message, "choose one of those, or leave block out")
    if making.base is not None and making.space == "full":
        yield Misfit(
            "space", "a child keeps only differences, and is never full", 'leave space out, or set it to "thin"'
        )
    yield from _divided(kind, making)


def _divided(kind: ImageFormat, making: Making) -> Iterator[Misfit]:
    asked = [key for key, wish in (("pieces", making.pieces is not None), ("packed", making.packed)) if wish]
    if not asked:
        return
    least = kind.least_piece(making.size)
    if not kind.divides:
        yield Misfit(asked[0], f"{kind.name} is kept in one file, as it is", f"leave {asked[0]} out, or choose vmdk")
    elif len(asked) == 2 or making.base is not None or (making.packed and making.space == "full"):
        yield Misfit(
            asked[0], f"{' and '.join(asked)} cannot be had together with what else is asked", f"leave {asked[0]} out"
        )
    elif making.pieces is not None and making.pieces < least:
        message = (
            f"pieces of {show_binary(making.pieces)} are too many; the least for this disk is {show_binary(least)}"
        )
        yield Misfit("pieces", message, "ask for larger pieces")
