"""What every image format can do, and the values it deals in. Sizes are bytes."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from typing import Literal, NamedTuple, Protocol, runtime_checkable
from uuid import UUID

from narvet.block.contract import BlockDevice
from narvet.block.files import Files
from narvet.ground.errors import RequestError
from narvet.ground.offers import offers
from narvet.ground.units import show_binary, show_both
from narvet.ground.values import Frozen, field

Space = Literal["thin", "full"]


class Base(Frozen):
    """The image a new child keeps its differences from: where it lies, seen from the child, and what it is.

    `link` is what the base's format keeps for a child to recognise it by, and `format` its name.
    """

    relative: str
    absolute: str
    format: str
    size: int
    link: str = ""
    made: int = 0


class Order(Frozen):
    """A volume to be ordered from the service at a URL: its zone and class, the key of the order, and its tags.

    The same key with other tags orders nothing, so what a service has by both was begun by who has the tags.
    `operations` is how many reads and writes a second its class gives a volume of this size, 0 where it does not tell.
    """

    service: str
    zone: str
    volume_class: str
    key: str
    tags: tuple[tuple[str, str], ...] = ()
    operations: int = 0

    @property
    def told(self) -> str:
        """Where it comes from, for people."""
        return f"{self.service.rstrip('/')}, zone {self.zone}, class {self.volume_class}"


class ImageSpec(Frozen):
    """What a new image is to be. Ids and times are given, so that the same wish gives the same bytes.

    `block_size` is the unit that a thin image grows by, None for the format's own choice; `made` is seconds since 1970.
    `pieces` is the most bytes each of the image's files may have, None for one file; `packed` asks for the compressed
    form that is written once and then only read. `order` is that of a service's volume.
    """

    size: int
    sector_size: int = 512
    space: Space = "thin"
    id: UUID = field(default_factory=lambda: UUID(int=0))
    made: int = 0
    block_size: int | None = None
    base: Base | None = None
    pieces: int | None = None
    packed: bool = False
    order: Order | None = None


class ImageFacts(Frozen):
    """What an image file tells of itself; `sector` is 0 where the format does not record it.

    `block_size` is the unit a thin image grows by, 0 where there is none; `id` is what the guest may know the disk by.
    `whole` is false for an image in pieces or in a packed form. `link` is what children keep to recognise this
    image by, changed whenever its content is. `base` is the path of this image's own base, `base_link` what it must
    be recognised by and `base_format` the name of its format, empty where they are not recorded. `attached` is the
    guest of its service that a volume is attached to, empty for none, and `ordered` where it comes from.
    """

    format: str
    space: Space
    size: int
    sector_size: int
    allocated: int
    block_size: int = 0
    id: UUID | None = None
    whole: bool = True
    link: str = ""
    base: str | None = None
    base_link: str = ""
    base_format: str = ""
    attached: str = ""
    ordered: str = ""


class ImageFormat(Protocol):
    """An image format.

    `records_sector` is whether an image itself tells the size of its sectors. With `renews_link` every writer gives an
    image another id for its children to notice.
    """

    name: str
    most: int
    sectors: tuple[int, ...]
    makes_children: bool
    records_sector: bool
    renews_link: bool

    def fit(self, size: int, block: int | None = None) -> int:
        """Return the smallest size from `size` on that the format can hold and all its readers agree on.

        `block` is the unit it grows by, in bytes, None for the format's own choice.
        """

    def blocks(self) -> tuple[int, ...]:
        """Return the block sizes that can be chosen, ascending; none where there are no blocks."""

    def footprint(self, image_spec: ImageSpec, data: int) -> int:
        """Return the most bytes that a fresh image with `data` bytes written stores, in a file that can have holes."""

    def create(self, files: Files, name: str, image_spec: ImageSpec) -> AbstractContextManager[BlockDevice]:
        """Make a new image that reads as zeros; its file must not exist. It is whole once the context is left."""

    def probe(self, files: Files, name: str, *, writable: bool = False) -> Opened | None:
        """Open an image that is not trusted; None if it is not of this format.

        Raises:
            ImageError: it is of this format, but not sound.
            UnsupportedError: it is sound, but cannot be read, or not written to, yet.
        """

    def enlarge(self, files: Files, name: str, size: int, *, full: bool = False, piece: int | None = None) -> None:
        """Make the disk of an image `size` bytes large; `files` are staged, so no order matters.

        `size` is one that `fit` gives. `full` is whether what is added gets its place at once. `piece` is the most
        bytes that each file of an image in pieces may have.

        Raises:
            ImageError: the image is not sound.
            UnsupportedError: it cannot be made larger as it is.
        """


class Opened(Frozen):
    """An image that is open as long as its files are: what it tells of itself, and the disk in it.

    `device` returns the disk. It takes the bytes of a sector, for formats that do not record them, and the base's
    disk, if there is a base. `finish` is called once a disk that was written to is complete.
    """

    facts: ImageFacts
    device: Callable[[int, BlockDevice | None], BlockDevice]
    finish: Callable[[], None] = lambda: None


@runtime_checkable
class InPieces(Protocol):
    """An image format whose images can be kept in several files."""

    def least_piece(self, size: int) -> int:
        """Return the smallest piece that an image of a disk of `size` bytes may be cut into."""

    def parts(self, files: Files, name: str) -> tuple[str, ...]:
        """Return the further files that an image is kept in."""

    def own_parts(self, files: Files, name: str) -> tuple[str, ...]:
        """Return the same, once it is certain that each of them belongs to this image and to no other.

        Raises:
            ImageError: one may not.
        """


@runtime_checkable
class IsOrdered(Protocol):
    """An image format whose images are volumes of a service: `files` and the name are those of their record."""

    def attach(self, files: Files, name: str, guest: str) -> None:
        """Attach one to a guest of its service, and return once it is there; one that is there already stays."""

    def give_back(self, files: Files, name: str) -> None:
        """Detach it and give it back, with all that is on it."""


@runtime_checkable
class Shortens(Protocol):
    """An image format whose images become smaller where they are; others are written anew."""

    def shorten(self, files: Files, name: str, size: int) -> None:
        """Make the disk of an image `size` bytes large; what lay behind them is gone."""


class Violation(NamedTuple):
    """What a format does not allow of a wish: the key it was wished by, why not, and the way out."""

    key: str
    message: str
    remedy: str


def violations(kind: ImageFormat, image_spec: ImageSpec) -> Iterator[Violation]:
    """Yield everything of a wish that an image format does not allow."""
    if image_spec.size > kind.most:
        yield Violation(
            "size",
            f"{kind.name} holds disks of at most {show_both(kind.most)}, not {show_both(image_spec.size)}",
            "choose another format, or spread the data over more disks",
        )
    if image_spec.sector_size not in kind.sectors:
        known = " or ".join(str(sector_size) for sector_size in kind.sectors)
        message = f"{kind.name} has sectors of {known} bytes, not of {image_spec.sector_size}"
        yield Violation("sector", message, "choose those, or another format")
    if image_spec.block_size is not None and image_spec.block_size not in kind.blocks():
        known = ", ".join(show_binary(block) for block in kind.blocks()) or "none"
        message = f"{kind.name} has no blocks of {show_binary(image_spec.block_size)}; it has {known}"
        yield Violation("block", message, "choose one of those, or leave block out")
    if image_spec.base is not None and image_spec.space == "full":
        yield Violation(
            "space", "a child keeps only differences, and is never full", 'leave space out, or set it to "thin"'
        )
    yield from _divided(kind, image_spec)


def check_fits(kind: ImageFormat, image_spec: ImageSpec) -> None:
    """Raise RequestError with the first thing that an image format does not allow of a wish."""
    for violation in violations(kind, image_spec):
        raise RequestError(f"{violation.message}; {violation.remedy}")


def _divided(kind: ImageFormat, image_spec: ImageSpec) -> Iterator[Violation]:
    asked = [key for key, wish in (("pieces", image_spec.pieces is not None), ("packed", image_spec.packed)) if wish]
    if not asked:
        return
    if not offers(kind, InPieces):
        yield Violation(asked[0], f"{kind.name} is kept in one file, as it is", f"leave {asked[0]} out, or choose vmdk")
    elif len(asked) == 2 or image_spec.base is not None or (image_spec.packed and image_spec.space == "full"):
        yield Violation(
            asked[0],
            f"the image cannot have {' and '.join(asked)} with its other keys",
            f"leave {asked[0]} out",
        )
    elif image_spec.pieces is not None and image_spec.pieces < (least := kind.least_piece(image_spec.size)):
        message = (
            f"pieces of {show_binary(image_spec.pieces)} are too many; the least for this disk is {show_binary(least)}"
        )
        yield Violation("pieces", message, "ask for larger pieces")
