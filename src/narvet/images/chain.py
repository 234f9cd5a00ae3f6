"""Images of any format, opened with all of their bases below them."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from narvet.block.contract import BlockDevice
from narvet.errors import ImageError, RequestError
from narvet.images import NAMES, image_format
from narvet.images.contract import ImageFacts, ImageFormat

LONGEST = 64  # images over one another; longer ones are not made, and a loop ends here


def identify(path: Path) -> tuple[ImageFormat, ImageFacts]:
    """Return the format of the image at `path` and its facts; raw where it is of no other.

    Raises:
        RequestError: nothing is there, or something that cannot be an image.
        ImageError: it is of a format, but not sound.
    """
    try:
        mode = path.stat().st_mode
    except (FileNotFoundError, NotADirectoryError):
        raise RequestError(f"{path}: there is no such file") from None
    if not (stat.S_ISREG(mode) or stat.S_ISBLK(mode)):
        what = "a folder" if stat.S_ISDIR(mode) else "neither a file nor a block device"
        raise RequestError(f"{path}: this is {what}; name an image")
    for name in (*NAMES[1:], NAMES[0]):
        kind = image_format(name)
        facts = kind.facts(path) if stat.S_ISREG(mode) or name == "raw" else None
        if facts is not None:
            return kind, facts
    raise ImageError(f"{path}: it is of no known format")


def chain(path: Path) -> list[tuple[Path, ImageFormat, ImageFacts]]:
    """Return an image and all of its bases, the image first.

    Raises:
        ImageError: a base is missing, or an image is its own base, or there are more than `LONGEST`.
    """
    found: list[tuple[Path, ImageFormat, ImageFacts]] = []
    seen: set[str] = set()
    while True:
        real = os.path.realpath(path)
        if real in seen:
            raise ImageError(f"{path}: it is in the end its own base")
        if len(found) == LONGEST:
            raise ImageError(f"{found[0][0]}: it has more than {LONGEST} bases below it")
        seen.add(real)
        kind, facts = identify(path)
        found.append((path, kind, facts))
        if facts.base is None:
            return found
        base = Path(facts.base)
        if not base.is_file():
            raise ImageError(f"{path}: its base {base} is missing; put it back there")
        path = base


@contextmanager
def open_image(path: Path, sector: int = 512, *, writable: bool = False) -> Iterator[BlockDevice]:
    """Open an image over its bases; only the image itself is writable."""
    links = chain(path)
    with _opened(links, 0, sector, writable=writable) as device:
        yield device


@contextmanager
def _opened(
    links: list[tuple[Path, ImageFormat, ImageFacts]], index: int, sector: int, *, writable: bool
) -> Iterator[BlockDevice]:
    path, kind, facts = links[index]
    own = facts.sector or sector
    if index + 1 == len(links):
        with kind.open(path, own, writable=writable) as device:
            yield device
        return
    with (
        _opened(links, index + 1, own, writable=False) as base,
        kind.open(path, own, writable=writable, base=base) as device,
    ):
        yield device
