"""Images of any format, opened with all of their bases below them."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

from narvet.block.contract import BlockDevice
from narvet.errors import ImageError, RequestError
from narvet.images import image_format
from narvet.images.contract import ImageFacts, ImageFormat
from narvet.images.fold_mark import mark_path, read_mark
from narvet.images.trust import NOTHING_SAID, Trust, decided_format, followed_base

LONGEST = 64  # images over one another; longer ones are not made, and a loop ends here


class Link(NamedTuple):
    """One image of a chain: where it lies, its format, what it tells of itself."""

    path: Path
    kind: ImageFormat
    facts: ImageFacts


def identify(path: Path, trust: Trust = NOTHING_SAID) -> Link:
    """Return the image at `path`, its bases not looked at.

    Raises:
        RequestError: nothing is there, or something that cannot be an image, or its format is not decided.
        ImageError: it is not of its format, or not sound.
    """
    try:
        mode = path.stat().st_mode
    except (FileNotFoundError, NotADirectoryError):
        raise RequestError(f"{path}: there is no such file") from None
    if not (stat.S_ISREG(mode) or stat.S_ISBLK(mode)):
        what = "a folder" if stat.S_ISDIR(mode) else "neither a file nor a block device"
        raise RequestError(f"{path}: this is {what}; name an image")
    return _of_format(path, decided_format(path, trust, device=stat.S_ISBLK(mode)))


def _of_format(path: Path, name: str) -> Link:
    kind = image_format(name)
    facts = kind.facts(path)
    if facts is None:
        what = "it is empty" if path.stat().st_size == 0 else "it is of another format, or damaged"
        raise ImageError(f"{path}: this is no {name} image; {what}")
    return Link(path, kind, facts)


def chain(path: Path, trust: Trust = NOTHING_SAID, *, changed_too: bool = False) -> list[Link]:
    """Return an image and all of its bases, the image first.

    A base is followed only as far as it is trusted (see `trust`), and must be what its child was made from, unless the
    call names it or `changed_too` is set.

    Raises:
        RequestError: there is no such image, or its format is not decided.
        ImageError: a base is missing, changed or not trusted, or an image is its own base, or there are too many.
    """
    links = [identify(path, trust)]
    seen = {os.path.realpath(path)}
    while (named := links[-1].facts.base) is not None:
        child, base = links[-1], Path(named)
        name = followed_base(child.path, base, child.facts.base_format, trust)
        if not base.is_file():
            raise ImageError(f"{child.path}: its base {base} is missing; put it back there")
        if os.path.realpath(base) in seen:
            raise ImageError(f"{base}: it is in the end its own base")
        if len(links) == LONGEST:
            raise ImageError(f"{path}: it has more than {LONGEST} bases below it")
        seen.add(os.path.realpath(base))
        links.append(_of_format(base, name))
        if not (changed_too or os.path.realpath(base) in trust.bases) and base_changed(child, links[-1]):
            raise ImageError(
                f"{base}: it is not what {child.path} was made from: it was changed, or is another image; put back "
                f'the base as it was, or, if you know that it is right, add --base "{base}"'
            )
    return links


def base_changed(child: Link, base: Link) -> bool:
    """Return whether a base is not what its child has recorded of it, nor what a stopped fold has made of that."""
    wanted, there = child.facts.base_link, base.facts.link
    if not (wanted and there and wanted != there):
        return False
    folding = read_mark(mark_path(Path(os.path.realpath(child.path))))
    return folding is None or folding.link != wanted or not folding.explains(base.path, there)


@contextmanager
def open_image(
    path: Path, sector: int = 512, *, writable: bool = False, trust: Trust = NOTHING_SAID
) -> Iterator[BlockDevice]:
    """Open an image over its bases; only the image itself is writable."""
    with open_chain(chain(path, trust), sector, writable=writable) as device:
        yield device


@contextmanager
def open_chain(links: list[Link], sector: int = 512, *, writable: bool = False) -> Iterator[BlockDevice]:
    """Open images over one another, the first of them on top; only that one is writable.

    `sector` is bytes, for what does not record its sectors.
    """
    (path, kind, facts), below = links[0], links[1:]
    own = facts.sector or sector
    if not below:
        with kind.open(path, own, writable=writable) as device:
            yield device
        return
    with open_chain(below, own) as base, kind.open(path, own, writable=writable, base=base) as device:
        yield device
