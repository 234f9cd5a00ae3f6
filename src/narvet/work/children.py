"""Children of base images: made, and found again."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from uuid import NAMESPACE_URL

from narvet.block.leases import lease
from narvet.block.names import is_working_name
from narvet.budget import budget
from narvet.errors import NarvetError, RequestError
from narvet.identity import derive
from narvet.images import format_by_content, image_format
from narvet.images.chain import Link, chain
from narvet.images.contract import Base, ImageFormat, Making
from narvet.images.trust import NOTHING_SAID, Trust
from narvet.work.recast import check_fits

_OVER_ANY = ("qcow2",)  # formats that record their base's format; the others have bases of their own only


def make_child(
    base: Path, built: Path, child: Path, kind: ImageFormat, block: int | None = None, trust: Trust = NOTHING_SAID
) -> None:
    """Make an image that keeps only its differences from `base`; it is put together at `built` and named `child`.

    Raises:
        RequestError: the format makes no children, or not of such a base, or has no such blocks.
        RefusedError: something is writing to the base.
    """
    links = chain(base, trust)
    below, sector = base_of(links[0], child, kind)
    own_id = derive(NAMESPACE_URL, "child", child.name, below.link)
    making = Making(below.size, sector, "thin", own_id, block=block, base=below)
    check_fits(kind, making)
    files = [file for link in links for file in (link.path, *link.kind.parts(link.path))]
    with lease(*files, change=False) as held, kind.create(built, making):
        held.check()


def base_of(base: Link, child: Path, kind: ImageFormat) -> tuple[Base, int]:
    """Return what a child of `kind`, to be named `child`, records of its base, and the bytes of a sector.

    Raises:
        RequestError: the format makes no children, or not of such a base.
    """
    if not kind.makes_children:
        raise RequestError(f"{child}: {kind.name} has no children; use vhd, vhdx, qcow2 or vmdk")
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
    return about, base.facts.sector or 512


def children_of(base: Path, folders: Iterable[Path]) -> Iterator[Path]:
    """Yield the files in some folders that name `base` as their base, whatever their endings."""
    wanted = os.path.realpath(base)
    for folder in folders:
        for path in sorted(folder.iterdir()):
            if is_working_name(path.name) or path.is_symlink() or not path.is_file():
                continue
            named = _named_base(path)
            if named is not None and os.path.realpath(named) == wanted and os.path.realpath(path) != wanted:
                yield path


def _named_base(path: Path) -> str | None:
    """Return the base that a file names; its content is believed, as this only ever holds Narvet back."""
    try:
        name = format_by_content(path)
        if name is None or not image_format(name).makes_children:
            return None
        with budget(path.stat().st_size):
            facts = image_format(name).facts(path)
    except (NarvetError, OSError):
        return None
    return None if facts is None else facts.base
