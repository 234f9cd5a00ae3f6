"""A child's differences put into its base, in place; stopped at any moment, the next fold finishes it.

Read through the child, the disk is the same at every moment: what is being copied is still the child's own. So the one
danger is somebody else's change of the base between a stopped fold and the next one. A mark beside the child tells
Narvet's own change from that (see `images.fold_mark`).
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from itertools import pairwise
from pathlib import Path

from narvet.block.contract import BlockDevice
from narvet.block.granules import PIECE
from narvet.block.leases import lease
from narvet.block.locks import exclusive_lock
from narvet.block.names import behind_link, sync_folder
from narvet.block.publish import clear_folders
from narvet.formats.images.chain import Link, base_changed, chain, identify, open_links, own_parts_of
from narvet.formats.images.children import children_of
from narvet.formats.images.fold_mark import FoldMark, mark_path, read_mark, state_of, write_mark
from narvet.formats.images.mapped import Layered
from narvet.formats.images.trust import Trust, trust_of_call
from narvet.ground.errors import RefusedError, RequestError
from narvet.ground.meter import OnCopied, copied, expected, metered
from narvet.ground.offers import offers
from narvet.ground.values import replace

_WRITES_FOR = 10 * 10**9  # nanoseconds that a mark allows for; it is written anew while work goes on
_FLUSHES_FOR = 600 * 10**9  # what a slow store may take to have everything written


def fold(
    child: Path,
    on_copied: OnCopied | None = None,
    *,
    image_format: str | None = None,
    bases: Sequence[Path] = (),
    dry: bool = False,
) -> Path:
    """Put a child's differences into its base and remove the child; return the base.

    `on_copied` is called with numbers of bytes done. `image_format` is what the child is read by where its ending does
    not tell, `bases` are bases that may lie elsewhere. A `dry` call looks whether it can be done, and changes nothing.

    Raises:
        RequestError: it is not a child, or others need the base or the child as they are.
        ImageError: an image is not sound, or the base is not to be trusted.
        RefusedError: the base changed since the child was made, somebody uses an image, or the system refused.
    """
    if not dry:
        clear_folders(child)
    trust = trust_of_call(child, image_format, bases)
    child = behind_link(child)
    mark = mark_path(child)
    with exclusive_lock(child):
        begun = read_mark(mark)
        if begun is not None and not child.exists() and begun.phase == "removing":
            if not dry:
                _remove(child, mark, begun)
            return Path(begun.base)
        links = chain(child, trust, changed_too=True)
        if len(links) < 2:
            raise RequestError(f"{child}: it has no base to be folded into")
        base = behind_link(links[1].path)
        with exclusive_lock(base), metered(on_copied):
            mine = begun is not None and begun.base == os.path.realpath(base)
            _fold(links, base, mark, begun if mine else None, dry=dry)
    return base


def _fold(links: list[Link], base: Path, mark: Path, begun: FoldMark | None, *, dry: bool) -> None:
    top, below = links[0], links[1]
    _check_base(top, below, begun)
    for upper, lower in pairwise(links[1:]):
        if base_changed(upper, lower):
            raise RefusedError(
                f"{lower.path}: it was changed since {upper.path} was made from it; the two no longer fit together"
            )
    _check_relatives(top.path, base)
    files = (top.path, *own_parts_of(top.kind, top.path), base, *own_parts_of(below.kind, base))
    others = [file for link in links[2:] for file in link.files]
    gone = tuple((file.name, file.stat().st_dev, file.stat().st_ino) for file in files[: files.index(base)])
    with lease(*files, change=True) as held, lease(*others, change=False):
        if dry:
            return
        if begun is None or begun.phase != "removing":
            begun = _put_all(links, base, mark, begun or FoldMark(os.path.realpath(base), top.facts.base_link))
            begun = replace(begun, phase="removing", finished=state_of(base), gone=gone)
            write_mark(mark, begun)
        held.check()
        _remove(top.path, mark, begun)


def _check_base(top: Link, below: Link, begun: FoldMark | None) -> None:
    """Raise unless the base is what the child was made from, or what this very fold has made of it so far."""
    if top.facts.size > below.facts.size:
        raise RequestError(f"{top.path}: it is larger than its base {below.path}; recast it instead")
    sound = begun.explains(below.path, below.facts.link) if begun else not base_changed(top, below)
    if not sound:
        raise RefusedError(
            f"{below.path}: it was changed since {top.path} was made from it; folding would mix two disks"
        )


def _put_all(links: list[Link], base: Path, mark: Path, begun: FoldMark) -> FoldMark:
    """Write what the child holds into its base; return the mark as it stands then."""
    top, below = links[0], links[1]
    state = replace(begun, phase="writing", becomes="", until=time.time_ns() + _WRITES_FOR)
    write_mark(mark, state)

    def go_on() -> None:
        nonlocal state
        if time.time_ns() > state.until - _WRITES_FOR // 2:
            state = replace(state, until=time.time_ns() + _WRITES_FOR)
            write_mark(mark, state)

    with open_links(links) as disk, open_links(links[1:], top.facts.sector_size or 512, writable=True) as bottom:
        bottom.write(0, b"")  # what its children know it by changes with the first write, even of nothing
        facts = identify(base, Trust({os.path.realpath(base): below.kind.name})).facts
        if below.kind.renews_link and facts.link != below.facts.link:
            state = replace(state, becomes=facts.link)
            write_mark(mark, state)
        _put(disk, bottom, go_on)
        state = replace(state, until=time.time_ns() + _FLUSHES_FOR)
        write_mark(mark, state)
        bottom.flush()
    return state


def _check_relatives(child: Path, base: Path) -> None:
    folders = sorted({child.parent.resolve(), base.parent.resolve()})
    for one, whose in ((base, "base"), (child, "child")):
        others = [path for path in children_of(one, folders) if path.resolve() != child.resolve()]
        if others:
            raise RequestError(f"{one}: {others[0]} needs this {whose} as it is; fold or recast that first")


def _put(top: BlockDevice, bottom: BlockDevice, go_on: Callable[[], None]) -> None:
    if not offers(top, Layered):
        raise RequestError("the child does not tell its own blocks from its base's")
    runs = list(top.own_extents())
    expected(sum(run.length for run, zeros in runs if not zeros))
    for (start, length), zeros in runs:
        for offset in range(start, start + length, PIECE):
            go_on()
            size = min(PIECE, start + length - offset)
            if zeros:
                bottom.zero(offset, size)
            else:
                bottom.write(offset, top.read(offset, size))
                copied(size)


def _remove(child: Path, mark: Path, begun: FoldMark) -> None:
    """Remove the child, the file that names the others first, then the mark."""
    for name, device, inode in begun.gone:
        file = child.parent / name
        with suppress(FileNotFoundError):
            about = file.lstat()
            if (about.st_dev, about.st_ino) == (device, inode):
                file.unlink()
    sync_folder(child.parent)
    mark.unlink()
    sync_folder(mark.parent)
