"""Images of any format with all of their bases below them, each file opened once."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, ExitStack, contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from narvet.block.contract import BlockDevice
from narvet.block.files import Files, Folder
from narvet.block.names import changes_name
from narvet.formats.images import image_format
from narvet.formats.images.contract import ImageFacts, ImageFormat, ImageSpec, InPieces, Opened, Shortens
from narvet.formats.images.fold_mark import mark_path, read_mark
from narvet.formats.images.trust import NOTHING_SAID, Trust, decided_format, followed_base
from narvet.ground.errors import BugError, ImageError, RequestError
from narvet.ground.offers import offers
from narvet.ground.units import align_up
from narvet.ground.values import Draft, Frozen

if TYPE_CHECKING:
    from narvet.block.staged import StagedFolder

LONGEST = 64  # images over one another; longer ones are not made, and a loop ends here


class Link(NamedTuple):
    """One image of a chain: where it lies, its format, what it tells of itself."""

    path: Path
    kind: ImageFormat
    facts: ImageFacts

    @property
    def files(self) -> tuple[Path, ...]:
        """The files that the image is kept in, its bases' not among them."""
        return self.path, *parts_of(self.kind, self.path)


class OpenChain(Frozen):
    """An image and all of its bases, open, the image first."""

    links: tuple[Link, ...]
    opened: tuple[Opened, ...]

    def device(self, sector_size: int = 512) -> BlockDevice:
        """Return the disk; `sector_size` is bytes, for what does not record its sectors."""
        own = self.links[0].facts.sector_size or sector_size
        below: BlockDevice | None = None
        for one in reversed(self.opened):
            below = one.device(own, below)
        if below is None:
            raise ImageError("there is no image to be opened")
        return below


def devices_of(chains: Sequence[OpenChain]) -> tuple[list[BlockDevice], list[int]]:
    """Return the disks of open images, and the bytes of their sectors as they record them, 0 where they do not."""
    sizes = [one.links[0].facts.sector_size for one in chains]
    return [one.device(size or 512) for one, size in zip(chains, sizes, strict=True)], sizes


def parts_of(kind: ImageFormat, path: Path) -> tuple[Path, ...]:
    """Return the further files that the image at `path` is kept in."""
    if not offers(kind, InPieces):
        return ()
    with _files_of(path) as files:
        return tuple(path.parent / name for name in kind.parts(files, path.name))


def own_parts_of(kind: ImageFormat, path: Path) -> tuple[Path, ...]:
    """Return the same, once it is certain that each of them belongs to this image and to no other.

    Raises:
        ImageError: one may not.
    """
    if not offers(kind, InPieces):
        return ()
    with _files_of(path) as files:
        return tuple(path.parent / name for name in kind.own_parts(files, path.name))


@contextmanager
def new_image_file(kind: ImageFormat, path: Path, spec: ImageSpec) -> Iterator[BlockDevice]:
    """Make a new image at `path`, which must not exist; it is whole once the context is left."""
    with Folder(path.parent) as files, kind.create(files, path.name, spec) as device:
        yield device


def identify(path: Path, trust: Trust = NOTHING_SAID) -> Link:
    """Return the image at `path`, its bases not looked at.

    Raises:
        RequestError: nothing is there, or something that cannot be an image, or its format is not decided.
        ImageError: it is not of its format, or not sound.
    """
    with ExitStack() as stack:
        return _first(path, trust, stack)[0]


def _first(path: Path, trust: Trust, stack: ExitStack, *, writable: bool = False) -> tuple[Link, Opened]:
    try:
        mode = path.stat().st_mode
    except (FileNotFoundError, NotADirectoryError):
        raise RequestError(f"{path}: there is no such file") from None
    if not (stat.S_ISREG(mode) or stat.S_ISBLK(mode)):
        what = "a folder" if stat.S_ISDIR(mode) else "neither a file nor a block device"
        raise RequestError(f"{path}: this is {what}; name an image")
    files = stack.enter_context(_files_of(path))
    file = files.open(path.name, writable=writable)
    name = decided_format(path, file, trust, device=stat.S_ISBLK(mode))
    return _probed(files, path, name, writable=writable)


def _files_of(path: Path) -> AbstractContextManager[Files]:
    """Return the files of an image, as a context: as they will be once changes that were cut off are made."""
    if not os.path.lexists(changes_name(path)):
        return Folder(path.parent)
    from narvet.block.staged import LoggedFolder

    return LoggedFolder(path)


def _probed(files: Files, path: Path, format_name: str, *, writable: bool = False) -> tuple[Link, Opened]:
    kind = image_format(format_name)
    opened = kind.probe(files, path.name, writable=writable)
    if opened is None:
        what = "it is empty" if not files.open(path.name).size else "it is of another format, or damaged"
        raise ImageError(f"{path}: this is not a {format_name} image; {what}")
    return Link(path, kind, opened.facts), opened


def chain(path: Path, trust: Trust = NOTHING_SAID, *, changed_too: bool = False) -> list[Link]:
    """Return an image and all of its bases, the image first; see `opened_chain`."""
    with opened_chain(path, trust, changed_too=changed_too) as opened:
        return list(opened.links)


@contextmanager
def opened_chain(path: Path, trust: Trust = NOTHING_SAID, *, changed_too: bool = False) -> Iterator[OpenChain]:
    """Open an image and all of its bases to be read; each stays open as long as the context lasts.

    A base is followed only as far as it is trusted (see `trust`), and must be what its child was made from, unless the
    call names it or `changed_too` is set.

    Raises:
        RequestError: there is no such image, or its format is not decided.
        ImageError: a base is missing, changed or not trusted, or an image is its own base, or there are too many.
    """
    with ExitStack() as stack:
        both = [_first(path, trust, stack)]
        seen: set[str] = set()
        while (named := both[-1][0].facts.base) is not None:
            child, base = both[-1][0], Path(named)
            seen.add(os.path.realpath(child.path))
            name = followed_base(child.path, base, child.facts.base_format, trust)
            if not base.is_file():
                raise ImageError(
                    f"{child.path}: its base {base} is missing; put it back there, or tie it to where that is now"
                )
            if os.path.realpath(base) in seen:
                raise ImageError(f"{base}: it is in the end its own base")
            if len(both) == LONGEST:
                raise ImageError(f"{path}: it has more than {LONGEST} bases below it")
            both.append(_probed(stack.enter_context(_files_of(base)), base, name))
            if not (changed_too or os.path.realpath(base) in trust.bases) and base_changed(child, both[-1][0]):
                raise ImageError(
                    f"{base}: it is not what {child.path} was made from: it was changed, or is another image; put back "
                    f'the base as it was, or, if you know that it is right, add --base "{base}"'
                )
        yield OpenChain(tuple(link for link, _ in both), tuple(opened for _, opened in both))


def base_changed(child: Link, base: Link) -> bool:
    """Return whether a base is not what its child has recorded of it, nor what a stopped fold has made of that."""
    wanted, there = child.facts.base_link, base.facts.link
    if not (wanted and there and wanted != there):
        return False
    folding = read_mark(mark_path(Path(os.path.realpath(child.path))))
    return folding is None or folding.link != wanted or not folding.explains(base.path, there)


@contextmanager
def open_image(
    path: Path, sector_size: int = 512, *, writable: bool = False, trust: Trust = NOTHING_SAID
) -> Iterator[BlockDevice]:
    """Open an image over its bases; only the image itself is writable. `sector_size` is bytes."""
    with open_links(chain(path, trust), sector_size, writable=writable) as device:
        yield device


@contextmanager
def open_links(links: Sequence[Link], sector_size: int = 512, *, writable: bool = False) -> Iterator[BlockDevice]:
    """Open images that are known already over one another, the first of them on top; only that one is writable.

    `sector_size` is bytes, for what does not record its sectors.
    """
    with ExitStack() as stack:
        folders = [stack.enter_context(_files_of(link.path)) for link in links]
        both = [
            _probed(files, link.path, link.kind.name, writable=writable and index == 0)
            for index, (files, link) in enumerate(zip(folders, links, strict=True))
        ]
        opened = OpenChain(tuple(link for link, _ in both), tuple(one for _, one in both))
        yield opened.device(sector_size)
        if writable:
            opened.opened[0].finish()


class StagedImage(Draft):
    """An image whose changes are made all at once, when `commit` is called: its disk, over its bases."""

    links: tuple[Link, ...]
    files: StagedFolder
    below: tuple[Opened, ...]
    opened: Opened
    sector_size: int

    @property
    def device(self) -> BlockDevice:
        """The disk as it is to be."""
        return self.chain.device(self.sector_size)

    @property
    def chain(self) -> OpenChain:
        """The image as it is to be, over its bases."""
        return OpenChain(self.links, (self.opened, *self.below))

    def enlarge(self, size: int, *, full: bool = False, piece: int | None = None) -> None:
        """Make the disk `size` bytes large; what was never part of it reads as zeros.

        Raises:
            UnsupportedError: its format cannot do so.
        """
        link, old = self.links[0], self.links[0].facts
        link.kind.enlarge(self.files, link.path.name, size, full=full, piece=piece)
        link, self.opened = _probed(self.files, link.path, link.kind.name, writable=True)
        self.links = (link, *self.links[1:])
        base = self.links[1].facts.size if self.below else 0
        hidden = min(max(align_up(old.size, old.block_size or 1), base), size)
        device = self.device
        for start, length in list(device.extents(old.size, hidden)):
            device.zero(start, length)
        device.flush()

    def shorten(self, size: int) -> None:
        """Make the disk `size` bytes large, for a format that can do so; what lay behind them is gone."""
        link = self.links[0]
        if not offers(link.kind, Shortens):
            raise BugError(f"{link.kind.name} is made smaller where it is")
        self.opened.finish()
        link.kind.shorten(self.files, link.path.name, size)
        link, self.opened = _probed(self.files, link.path, link.kind.name, writable=True)
        self.links = (link, *self.links[1:])

    def commit(self, check: Callable[[], object] = lambda: None) -> bool:
        """Make every change; return whether there were any. See `StagedFolder.commit`."""
        return commit_images([self], check)


def commit_images(images: Sequence[StagedImage], check: Callable[[], object] = lambda: None) -> bool:
    """Make every change of several images, or none; return whether there were any. See `commit_together`."""
    from narvet.block.staged import commit_together

    for one in images:
        one.opened.finish()
    return commit_together([one.files for one in images], check)


@contextmanager
def staged_image(links: Sequence[Link], sector_size: int = 512) -> Iterator[StagedImage]:
    """Open an image over its bases so that nothing of it is changed before `commit`; the caller holds its name.

    `sector_size` is bytes, for what does not record its sectors.
    """
    from narvet.block.staged import StagedFolder

    with ExitStack() as stack:
        below = tuple(
            _probed(stack.enter_context(_files_of(link.path)), link.path, link.kind.name)[1] for link in links[1:]
        )
        files = stack.enter_context(StagedFolder(links[0].path))
        link, opened = _probed(files, links[0].path, links[0].kind.name, writable=True)
        yield StagedImage((link, *links[1:]), files, below, opened, sector_size)
