"""Children of base images: what they record of their base, and where they are."""

from __future__ import annotations

import os
import time
from collections.abc import Iterable, Iterator
from functools import lru_cache
from pathlib import Path

from narvet.block.files import Folder
from narvet.block.names import is_working_name
from narvet.formats.images import format_by_content, image_format
from narvet.formats.images.chain import Link
from narvet.formats.images.contract import Base, ImageFormat, IsOrdered
from narvet.ground.budget import budget
from narvet.ground.errors import NarvetError, RefusedError, RequestError
from narvet.ground.offers import offers

_SURELY_LATER = 2_000_000_000  # nanoseconds in which a file may change twice without another time
_OVER_ANY = ("qcow2",)  # formats that record their base's format; the others have bases of their own only


def base_of(base: Link, child: Path, kind: ImageFormat) -> tuple[Base, int]:
    """Return what a child of `kind`, to be named `child`, records of its base, and the bytes of a sector.

    Raises:
        RequestError: the format makes no children, or not of such a base.
    """
    if not kind.makes_children:
        raise RequestError(f"{child}: {kind.name} has no children; use vhd, vhdx, qcow2 or vmdk")
    if offers(base.kind, IsOrdered):
        raise RequestError(f"{child}: {base.path} is a volume of a service, which is no base; recast it to make a copy")
    below = base.kind.name
    if below != kind.name and kind.name not in _OVER_ANY:
        raise RequestError(f"{child}: a {kind.name} child needs a {kind.name} base, and {base.path} is {below}")
    about = Base(
        relative=os.path.relpath(base.path, child.parent).replace(os.sep, "/"),
        absolute=str(base.path.resolve()),
        format=below,
        size=base.facts.size,
        link=base.facts.link,
    )
    return about, base.facts.sector_size or 512


def children_of(base: Path, folders: Iterable[Path]) -> Iterator[Path]:
    """Yield the files in some folders that name `base` as their base, whatever their endings."""
    wanted = os.path.realpath(base)
    for folder in folders:
        with os.scandir(folder) as entries:
            files = sorted(entry.path for entry in entries if _may_be_image(entry))
        for path in map(Path, files):
            named = _base_named_by(path)
            if named is not None and os.path.realpath(named) == wanted and os.path.realpath(path) != wanted:
                yield path


def refuse_with_children(path: Path, folders: Iterable[str]) -> None:
    """Raise RefusedError if an image has children: they would lose their base."""
    places = {path.parent, *(Path(folder) for folder in folders if Path(folder).is_dir())}
    for child in children_of(path, sorted(places)):
        raise RefusedError(f"{path}: {child} is a child of it and needs it as and where it is; fold that first")


def _may_be_image(entry: os.DirEntry[str]) -> bool:
    return not is_working_name(entry.name) and entry.is_file(follow_symlinks=False)


def _base_named_by(path: Path) -> str | None:
    """Return the base that a file names; a file that stays as it is is not read each time, as a store has many."""
    try:
        about = path.stat(follow_symlinks=False)
    except OSError:
        return None
    if time.time_ns() - about.st_ctime_ns < _SURELY_LATER:
        return _named_base(path)
    return _named_before(path, (about.st_dev, about.st_ino, about.st_size, about.st_ctime_ns))


@lru_cache(maxsize=1 << 16)
def _named_before(path: Path, state: tuple[int, int, int, int]) -> str | None:
    del state  # another one is another file
    return _named_base(path)


def _named_base(path: Path) -> str | None:
    """Return the base that a file names; its content is believed, as this only ever holds Narvet back."""
    try:
        with Folder(path.parent) as files:
            file = files.open(path.name)
            name = format_by_content(file)
            if name is None or not image_format(name).makes_children:
                return None
            with budget(file.size):
                opened = image_format(name).probe(files, path.name)
    except (NarvetError, OSError):
        return None
    return None if opened is None else opened.facts.base
