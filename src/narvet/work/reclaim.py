"""A thin image gives back what nothing in it uses: written anew without that, it takes the old one's place."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path
from uuid import NAMESPACE_URL

from narvet.block.contract import BlockDevice, Extent
from narvet.block.leases import lease
from narvet.block.locks import exclusive_lock
from narvet.block.names import behind_link, sync_file
from narvet.block.publish import recover, take_place, workspace
from narvet.errors import RefusedError, RequestError
from narvet.identity import derive
from narvet.images.chain import Link, base_changed, chain, open_chain
from narvet.images.contract import ImageFacts, Making
from narvet.images.files import stored
from narvet.images.mapped import Layered
from narvet.images.trust import NOTHING_SAID, Trust
from narvet.survey.gate import table_doubts, unused
from narvet.survey.probe import survey
from narvet.units import align_down, align_up
from narvet.work.children import base_of, children_of
from narvet.work.recast import GRANULE, PIECE, OnCopied, filled


@dataclass(frozen=True)
class Reclaimed:
    """The bytes stored before and after, and what was kept whole because something about it is not certain."""

    before: int
    after: int
    kept: tuple[str, ...] = ()


def reclaim(
    path: Path, on_copied: OnCopied = lambda _: None, trust: Trust = NOTHING_SAID, sector: int | None = None
) -> Reclaimed:
    """Rewrite the image at `path`, as a thin one, without what is zero or unused in it.

    What filesystems use stays bit for bit; what they do not use reads as zeros, or as what the base holds. Ids, block
    and sector sizes stay. `sector` is bytes, where the format does not record them.

    Raises:
        RequestError: the image is in pieces or packed, others need it as it is, or its table is not certain.
        ImageError: it is not sound.
        RefusedError: its base changed, somebody uses it, or the system refused.
    """
    path = behind_link(path)
    with exclusive_lock(path):
        recover(path)
        links = chain(path, trust, changed_too=True)
        _check(path, links)
        found = survey(str(path), trust=trust, sector=sector)
        doubts = table_doubts(found)
        if doubts:
            raise RequestError(f"{path}: what it uses is not certain, so nothing is given back: {doubts[0]}")
        making = _making(links, found.sector or sector or 512)
        bases = [file for link in links[1:] for file in (link.path, *link.kind.parts(link.path))]
        kept: list[str] = []
        with lease(path, change=True) as held, lease(*bases, change=False), workspace(path) as built:
            with open_chain(links, making.sector) as old, links[0].kind.create(built, making) as new:
                _copy(old, new, unused(found, old, kept), on_copied, child=len(links) > 1)
            sync_file(built)  # what it stores is known only once it is written
            before, after = stored(path), stored(built)
            if after < before:
                held.check()
                take_place(built, path)
    return Reclaimed(before, min(before, after), tuple(kept))


def _making(links: list[Link], sector: int) -> Making:
    path, kind, facts = links[0]
    native_id = facts.id or derive(NAMESPACE_URL, "reclaim", path.name, facts.size)
    base = base_of(links[1], path, kind)[0] if len(links) > 1 else None
    return Making(facts.size, facts.sector or sector, "thin", native_id, block=facts.block or None, base=base)


def _check(path: Path, links: list[Link]) -> None:
    facts: ImageFacts = links[0].facts
    if not facts.whole:
        raise RequestError(f"{path}: it is kept in pieces or packed; recast it to a thin image in one file instead")
    for child, base in pairwise(links):
        if base_changed(child, base):
            raise RefusedError(f"{base.path}: it was changed since {child.path} was made from it; nothing is certain")
    for child_path in children_of(path, [path.parent]):
        raise RequestError(f"{path}: {child_path} is a child of it and needs it as it is; fold that first")


def _copy(old: BlockDevice, new: BlockDevice, holes: Iterator[Extent], on_copied: OnCopied, *, child: bool) -> None:
    """Write to the new image what the old one decides itself and something uses; a child's zeros hide its base."""
    for run, zeros in _own(old):
        if zeros and child:
            new.zero(*run)
    for start, length in _without((run for run, zeros in _own(old) if not zeros), holes):
        for offset in range(start, start + length, PIECE):
            data = old.read(offset, min(PIECE, start + length - offset))
            done = 0
            for first, last in filled(data):
                if child and first > done:
                    new.zero(offset + done, first - done)
                new.write(offset + first, memoryview(data)[first:last])
                done = last
            if child and done < len(data):
                new.zero(offset + done, len(data) - done)
            on_copied(len(data))


def _own(device: BlockDevice) -> Iterator[tuple[Extent, bool]]:
    if isinstance(device, Layered):
        yield from device.own_extents()
    else:
        yield from ((extent, False) for extent in device.extents())


def _without(runs: Iterable[Extent], holes: Iterator[Extent]) -> Iterator[Extent]:
    """Yield what is left of ascending runs without ascending holes; holes too small to be worth it are left out."""
    large = (hole for hole in map(_inner, holes) if hole.length > 0)
    hole = next(large, None)
    for run in runs:
        reach, end = run.start, run.start + run.length
        while hole is not None and hole.start < end:
            if reach < hole.start:
                yield Extent(reach, hole.start - reach)
            reach = max(reach, hole.start + hole.length)
            if reach >= end:
                break
            hole = next(large, None)
        if reach < end:
            yield Extent(reach, end - reach)


def _inner(hole: Extent) -> Extent:
    start = align_up(hole.start, GRANULE)
    return Extent(start, align_down(hole.start + hole.length, GRANULE) - start)
