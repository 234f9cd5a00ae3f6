"""A thin image gives back what nothing in it uses: written anew without that, it takes the old one's place."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path
from uuid import NAMESPACE_URL

from narvet.block.contract import BlockDevice, Extent
from narvet.block.files import at_rest, partial_name, sync_file, take_place
from narvet.errors import RefusedError, RequestError
from narvet.identity import derive
from narvet.images.chain import chain, open_image
from narvet.images.contract import ImageFacts, Making
from narvet.images.files import stored
from narvet.images.mapped import Layered
from narvet.survey.probe import survey, unused
from narvet.units import align_down, align_up
from narvet.work.recast import GRANULE, PIECE, OnCopied, filled
from narvet.work.relatives import base_of, children_of


def reclaim(path: Path, on_copied: OnCopied = lambda _: None) -> tuple[int, int]:
    """Rewrite the image at `path`, as a thin one, without what is zero or unused in it; return the bytes stored before
    and after.

    What filesystems use stays bit for bit; what they do not use reads as zeros, or as what the base holds. Ids, block
    and sector sizes stay.

    Raises:
        RequestError: the image is in pieces or packed, or others need it as it is.
        RefusedError: its base changed, or the system refused.
    """
    _, kind, facts = chain(path)[0]
    _check(path, facts)
    known_as = facts.id or derive(NAMESPACE_URL, "reclaim", path.name, facts.size)
    base = base_of(Path(facts.base), path, kind)[0] if facts.base else None
    if base is not None and facts.base_link and base.link != facts.base_link:
        raise RefusedError(f"{facts.base}: it was changed since {path} was made from it; nothing here is certain")
    sector = facts.sector or 512
    making = Making(facts.size, sector, "thin", known_as, block=facts.block or None, base=base)
    before, partial = stored(path), partial_name(path)
    with at_rest(path):
        partial.unlink(missing_ok=True)
        try:
            with open_image(path, sector) as old, kind.create(partial, making) as new:
                _copy(old, new, unused(survey(str(path)), old), on_copied, child=base is not None)
            if stored(partial) >= before:  # nothing to be had: the old one stays as it is
                partial.unlink()
                return before, before
            sync_file(partial)
            take_place(partial, path)
        except BaseException:
            partial.unlink(missing_ok=True)
            raise
    return before, stored(path)


def _check(path: Path, facts: ImageFacts) -> None:
    if not facts.whole:
        raise RequestError(f"{path}: it is kept in pieces or packed; recast it to a thin image in one file instead")
    child = next(children_of(path, [path.parent]), None)
    if child is not None:
        raise RequestError(f"{path}: {child} is a child of it and needs it as it is; fold that first")


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
