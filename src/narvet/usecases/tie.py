"""A child tied to its base anew: the base got another place or name, was copied, or was merely touched.

A child fits only the content that it was made from. So the base must have the id or the time that the child recorded,
or the same bytes as another image that has.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from uuid import NAMESPACE_URL

from narvet.block.contract import BlockDevice
from narvet.block.granules import PIECE
from narvet.block.leases import lease
from narvet.block.locks import exclusive_lock
from narvet.block.names import behind_link, sync_file
from narvet.block.publish import clear_folders, recover, take_place, workspace
from narvet.formats.images.chain import Link, base_changed, chain, identify, new_image_file, open_links
from narvet.formats.images.children import base_of, refuse_with_children
from narvet.formats.images.contract import ImageSpec
from narvet.formats.images.mapped import Layered
from narvet.formats.images.trust import Trust, trust_of_call
from narvet.ground.errors import NarvetError, RefusedError, RequestError
from narvet.ground.ids import derive
from narvet.ground.meter import OnCopied, copied, expected, metered
from narvet.ground.offers import offers
from narvet.ground.values import Frozen


class Tied(Frozen):
    """A child that was tied to a base, and how it was made sure that it is the right one."""

    path: Path
    base: Path
    proof: str


def tie(
    child: Path,
    base: Path,
    *,
    same_as: Path | None = None,
    sure: bool = False,
    image_format: str | None = None,
    bases: Sequence[Path] = (),
    dry: bool = False,
    on_copied: OnCopied | None = None,
) -> Tied:
    """Have `child` keep its differences from `base` from now on; what the disk reads as stays the same.

    `same_as` is an image that the child was made from, wherever that lies, with which the base is compared; otherwise
    it is the base that the child names, if that is still there. With `sure` the caller answers for the base.
    `image_format` is what the child is read by where its ending does not tell, `bases` are bases of the base that may
    lie elsewhere. `on_copied` is called with numbers of bytes compared. A `dry` call compares, and changes nothing.

    Raises:
        RequestError: it is not a child, or its format has no such base.
        ImageError: an image is not sound.
        RefusedError: the base is not what the child was made from, or nothing tells, or somebody uses an image.
    """
    if not dry:
        clear_folders(child)
    child = behind_link(child)
    trust = trust_of_call(child, image_format, bases)
    with exclusive_lock(child), metered(on_copied):
        if not dry:
            recover(child)
        top, below = identify(child, trust), chain(base, trust)
        if top.facts.base is None:
            raise RequestError(f"{child}: it is not a child, so there is nothing to tie")
        if len(top.files) > 1:
            raise RequestError(f"{child}: it is kept in pieces; recast it to a single file first")
        refuse_with_children(child, [])
        files = [file for link in below for file in link.files]
        with lease(*top.files, change=True) as held, lease(*files, change=False) as unchanged:
            proof = _proof(top, below, same_as, sure=sure, trust=trust)
            if dry:
                return Tied(child, base, proof)
            with workspace(child) as built:
                _make_anew(top, below, child, built)
                sync_file(built)
                held.check()
                unchanged.check()
                take_place(built, child)
    return Tied(child, base, proof)


def _proof(top: Link, below: list[Link], same_as: Path | None, *, sure: bool, trust: Trust) -> str:
    """Return how it is known that a base is what a child was made from.

    Raises:
        RefusedError: it is not, or nothing tells.
    """
    base = below[0]
    if top.facts.base_link and not base_changed(top, base):
        return "it is the base that the child recorded"
    known = same_as or Path(top.facts.base or "")
    other = _original(top, known, trust)
    if other is not None and os.path.realpath(known) != os.path.realpath(base.path):
        _compare(below, other)
        return f"it is the same as {known}, byte for byte"
    if same_as is not None:
        raise RefusedError(f"{same_as}: it is not what {top.path} was made from either; nothing was changed")
    if sure:
        return "you are sure of it"
    raise RefusedError(
        f"{base.path}: it is not the base that {top.path} recorded: it was changed, or is another image; "
        "name an image that the child was made from with --same-as, or, if you know that it is right, add --sure"
    )


def _original(top: Link, path: Path, trust: Trust) -> list[Link] | None:
    """Return an image with its bases if it is the base that a child recorded, None if not."""
    try:
        links = chain(path, Trust(trust.formats, trust.bases, by_content=True))
    except (NarvetError, OSError):
        return None
    return links if top.facts.base_link and not base_changed(top, links[0]) else None


def _compare(one: list[Link], other: list[Link]) -> None:
    """Raise RefusedError unless two disks have the same content."""
    with open_links(one) as first, open_links(other) as second:
        if first.size != second.size:
            raise RefusedError(f"{one[0].path}: its disk has not the size of {other[0].path}; nothing was changed")
        runs = sorted({start for device in (first, second) for start in _pieces(device)})
        expected(len(runs) * PIECE)
        for start in runs:
            length = min(PIECE, first.size - start)
            mine, its = first.read(start, length), second.read(start, length)
            if mine != its:
                at = start + next(index for index, both in enumerate(zip(mine, its, strict=True)) if both[0] != both[1])
                raise RefusedError(f"{one[0].path}: it is not the same as {other[0].path}: they differ at byte {at}")
            copied(length)


def _pieces(device: BlockDevice) -> set[int]:
    """Return where the pieces of a disk start that may hold data."""
    return {
        place for start, length in device.extents() for place in range(start // PIECE * PIECE, start + length, PIECE)
    }


def _make_anew(top: Link, below: list[Link], child: Path, built: Path) -> None:
    """Write a child's own blocks to a new one over another base, and compare what both decide themselves."""
    about, sector_size = base_of(below[0], child, top.kind)
    facts = top.facts
    own_id = facts.id or derive(NAMESPACE_URL, "child", child.name, about.link)
    spec = ImageSpec(
        facts.size, facts.sector_size or sector_size, "thin", own_id, block_size=facts.block_size or None, base=about
    )
    with new_image_file(top.kind, built, spec):
        pass
    made = [identify(built, Trust({os.path.realpath(built): top.kind.name})), *below]
    with open_links([top, *below], spec.sector_size) as old:
        with open_links(made, spec.sector_size, writable=True) as new:
            for start, length, zeros in _own(old):
                if zeros:
                    new.zero(start, length)
                else:
                    new.write(start, old.read(start, length))
        made[0] = identify(built, Trust({os.path.realpath(built): top.kind.name}))
        with open_links(made, spec.sector_size) as new:
            for start, length, _ in (*_own(old), *_own(new)):
                if old.read(start, length) != new.read(start, length):
                    raise RefusedError(f"{child}: what was written does not read back as it is; nothing was changed")


def _own(device: BlockDevice) -> list[tuple[int, int, bool]]:
    """Return the pieces that a child decides itself: start, length, and whether they read as zeros."""
    if not offers(device, Layered):
        raise RequestError("the child does not tell its own blocks from its base's")
    return [
        (place, min(PIECE, start + length - place), zeros)
        for (start, length), zeros in device.own_extents()
        for place in range(start, start + length, PIECE)
    ]
