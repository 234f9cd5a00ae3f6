"""Children of base images: made, recognised, and folded into their base."""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from uuid import NAMESPACE_URL

from narvet.block.contract import BlockDevice
from narvet.block.files import PARTIAL, at_rest, partial_name, replace_content, sync_folder
from narvet.errors import NarvetError, RefusedError, RequestError
from narvet.identity import derive
from narvet.images import NAMES, image_format
from narvet.images.chain import chain, open_image
from narvet.images.contract import Base, ImageFormat, Making
from narvet.images.mapped import Layered
from narvet.work.recast import PIECE, OnCopied, check_fits

_OVER_ANY = ("qcow2",)  # formats that record their base's format; the others have bases of their own only


def make_child(base: Path, partial: Path, child: Path, kind: ImageFormat, block: int | None = None) -> None:
    """Make an image that keeps only its differences from `base`; it is built at `partial` and will be named `child`.

    Raises:
        RequestError: the format makes no children, or not of such a base, or has no such blocks.
        RefusedError: something is writing to the base.
    """
    below, sector = base_of(base, child, kind)
    wish = derive(NAMESPACE_URL, "child", child.name, below.link)
    making = Making(below.size, sector, "thin", wish, block=block, base=below)
    check_fits(kind, making)
    with at_rest(base), kind.create(partial, making):
        pass


def base_of(base: Path, child: Path, kind: ImageFormat) -> tuple[Base, int]:
    """Return what a child of `kind` records of its base, and the bytes of a sector.

    Raises:
        RequestError: the format makes no children, or not of such a base.
        ImageError: the base is not sound.
    """
    if not kind.makes_children:
        raise RequestError(f"{child}: {kind.name} has no children; use vhd, vhdx, qcow2 or vmdk")
    _, below, facts = chain(base)[0]
    if below.name != kind.name and kind.name not in _OVER_ANY:
        raise RequestError(f"{child}: a {kind.name} child needs a {kind.name} base, and {base} is {below.name}")
    about = Base(
        relative=os.path.relpath(base, child.parent).replace(os.sep, "/"),
        absolute=str(base.resolve()),
        format=below.name,
        size=facts.size,
        link=facts.link,
    )
    return about, facts.sector or 512


def children_of(base: Path, folders: Iterable[Path]) -> Iterator[Path]:
    """Yield the images in some folders whose base is `base`."""
    suffixes = {image_format(name).suffix for name in NAMES}
    wanted = base.resolve()
    for folder in folders:
        for path in sorted(folder.iterdir()):
            if path.suffix.lower() not in suffixes or not path.is_file() or path.name.endswith(PARTIAL):
                continue
            try:
                links = chain(path)
            except (NarvetError, OSError):
                continue
            if len(links) > 1 and links[1][0].resolve() == wanted:
                yield path


def fold(child: Path, on_copied: OnCopied = lambda _: None) -> Path:
    """Put a child's differences into its base and remove the child; return the base.

    Read through the child, the disk is the same at every moment: what is being copied is still the child's own. A mark
    beside the child tells a later run that the base has changed because of this fold, which it then finishes.

    Raises:
        RequestError: it is no child, or others need the base or the child as they are.
        RefusedError: the base changed since the child was made, or the system refused.
    """
    mark = partial_name(child.with_name(child.name + ".fold"))
    begun = _read_mark(mark)
    if begun is not None and not child.exists():  # all but the mark was done
        mark.unlink()
        return Path(begun["base"])
    links = chain(child)
    if len(links) < 2:
        raise RequestError(f"{child}: it has no base to be folded into")
    (_, _, facts), (base, _, below) = links[:2]
    if facts.base_link and facts.base_link not in (below.link, begun and begun["link"]):
        raise RefusedError(f"{base}: it was changed since {child} was made from it; folding would mix two disks")
    if facts.size > below.size:
        raise RequestError(f"{child}: it is larger than its base {base}; recast it instead")
    _check_relatives(child, base)
    parts = links[0][1].parts(child)
    with at_rest(child, *parts), at_rest(base, *links[1][1].parts(base)):
        replace_content(mark, json.dumps({"base": str(base), "link": facts.base_link}).encode())
        with open_image(child) as top, open_image(base, facts.sector or 512, writable=True) as bottom:
            _put(top, bottom, on_copied)
            bottom.flush()
        for gone in (child, *parts):
            gone.unlink()
        sync_folder(child.parent)
        mark.unlink()
    return base


def _check_relatives(child: Path, base: Path) -> None:
    folders = list({child.parent.resolve(), base.parent.resolve()})
    for one, whose in ((base, "base"), (child, "child")):
        others = [path for path in children_of(one, folders) if path.resolve() != child.resolve()]
        if others:
            raise RequestError(f"{one}: {others[0]} needs this {whose} as it is; fold or recast that first")


def _put(top: BlockDevice, bottom: BlockDevice, on_copied: OnCopied) -> None:
    if not isinstance(top, Layered):
        raise RequestError("the child does not tell its own blocks from its base's")
    for (start, length), zeros in top.own_extents():
        if zeros:
            bottom.zero(start, length)
            continue
        for offset in range(start, start + length, PIECE):
            data = top.read(offset, min(PIECE, start + length - offset))
            bottom.write(offset, data)
            on_copied(len(data))


def _read_mark(mark: Path) -> dict[str, str] | None:
    try:
        found = json.loads(mark.read_bytes())
    except (OSError, ValueError):
        return None
    return found if isinstance(found, dict) and {"base", "link"} <= found.keys() else None
