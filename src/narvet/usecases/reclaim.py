"""A thin image gives back what nothing in it uses: written anew without that, it takes the old one's place."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import pairwise
from pathlib import Path
from uuid import NAMESPACE_URL

from narvet.block.contract import BlockDevice
from narvet.block.files import stored_at
from narvet.block.granules import GRANULE, PIECE, filled
from narvet.block.leases import lease
from narvet.block.locks import exclusive_lock
from narvet.block.names import behind_link, sync_file
from narvet.block.publish import clear_folders, recover, take_place, workspace
from narvet.formats.images.chain import Link, base_changed, chain, new_image_file, open_links
from narvet.formats.images.children import base_of, children_of
from narvet.formats.images.contract import ImageFacts, ImageSpec
from narvet.formats.images.mapped import Layered
from narvet.formats.images.trust import trust_of_call
from narvet.ground.errors import RefusedError, RequestError
from narvet.ground.extents import Extent, without
from narvet.ground.ids import derive
from narvet.ground.meter import OnCopied, copied, expected, metered
from narvet.ground.offers import offers
from narvet.ground.units import align_down, align_up
from narvet.ground.values import Frozen
from narvet.observe.certainty import doubts_inside, table_doubts, unused
from narvet.observe.images import survey


class Reclaimed(Frozen):
    """The bytes stored before and after, and what was kept whole because something about it is not certain."""

    before: int
    after: int
    kept: tuple[str, ...] = ()


def reclaim(
    path: Path,
    on_copied: OnCopied | None = None,
    *,
    image_format: str | None = None,
    bases: Sequence[Path] = (),
    sector_size: int | None = None,
    dry: bool = False,
) -> Reclaimed:
    """Rewrite the image at `path`, as a thin one, without what is zero or unused in it.

    What filesystems use stays bit for bit; what they do not use reads as zeros, or as what the base holds. Ids, block
    and sector sizes stay. `sector_size` is bytes, where the format does not record them. `image_format` is what
    the image is read by where its ending does not tell, `bases` are bases that may lie elsewhere. `on_copied` is called
    with numbers of bytes done. A `dry` call changes nothing; it gives the most that can be stored after, as blocks that
    are zero are only seen once they are read.

    Raises:
        RequestError: the image is in pieces or packed, others need it as it is, or its table is not certain.
        ImageError: it is not sound.
        RefusedError: its base changed, somebody uses it, or the system refused.
    """
    if not dry:
        clear_folders(path)
    trust = trust_of_call(path, image_format, bases)
    path = behind_link(path)
    with exclusive_lock(path):
        if not dry:
            recover(path)
        links = chain(path, trust, changed_too=True)
        _check(path, links)
        found = survey(str(path), trust=trust, sector_size=sector_size)
        unsure = table_doubts(found)
        if unsure:
            raise RequestError(f"{path}: what it uses is not certain, so nothing is given back: {unsure[0]}")
        spec = _spec(links, found.image.sector_size or sector_size or 512)
        bases = [file for link in links[1:] for file in link.files]
        if dry:
            with lease(path, change=True), lease(*bases, change=False), open_links(links, spec.sector_size) as old:
                doubts = doubts_inside(found, old)
                before, used = stored_at(path), _used(old, unused(found, old, doubts))
            return Reclaimed(before, min(before, used), _kept(doubts))
        held_bases = lease(*bases, change=False)
        with lease(path, change=True) as held, held_bases, workspace(path) as built, metered(on_copied):
            with open_links(links, spec.sector_size) as old, new_image_file(links[0].kind, built, spec) as new:
                doubts = doubts_inside(found, old)
                _copy(old, new, unused(found, old, doubts), child=len(links) > 1)
            sync_file(built)  # what it stores is known only once it is written
            before, after = stored_at(path), stored_at(built)
            if after < before:
                held.check()
                take_place(built, path)
    return Reclaimed(before, min(before, after), _kept(doubts))


def _kept(doubts: Mapping[int, str]) -> tuple[str, ...]:
    return tuple(f"partition {number} is kept whole: {doubt}" for number, doubt in doubts.items() if doubt)


def _used(old: BlockDevice, holes: Iterator[Extent]) -> int:
    """Return how many bytes an image decides itself that something uses."""
    return sum(run.length for run in without((run for run, zeros in _own(old) if not zeros), _worthwhile(holes)))


def _spec(links: list[Link], sector_size: int) -> ImageSpec:
    path, kind, facts = links[0]
    native_id = facts.id or derive(NAMESPACE_URL, "reclaim", path.name, facts.size)
    base = base_of(links[1], path, kind)[0] if len(links) > 1 else None
    return ImageSpec(
        facts.size, facts.sector_size or sector_size, "thin", native_id, block_size=facts.block_size or None, base=base
    )


def _check(path: Path, links: list[Link]) -> None:
    facts: ImageFacts = links[0].facts
    if not facts.whole:
        raise RequestError(f"{path}: it is kept in pieces or packed; recast it to a thin image in one file instead")
    for child, base in pairwise(links):
        if base_changed(child, base):
            raise RefusedError(
                f"{base.path}: it was changed since {child.path} was made from it; the two no longer fit together"
            )
    for child_path in children_of(path, [path.parent]):
        raise RequestError(f"{path}: {child_path} is a child of it and needs it as it is; fold that first")


def _copy(old: BlockDevice, new: BlockDevice, holes: Iterator[Extent], *, child: bool) -> None:
    """Write to the new image what the old one decides itself and something uses; a child's zeros hide its base."""
    for run, zeros in _own(old):
        if zeros and child:
            new.zero(*run)
    runs = list(without((run for run, zeros in _own(old) if not zeros), _worthwhile(holes)))
    expected(sum(run.length for run in runs))
    for start, length in runs:
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
            copied(len(data))


def _own(device: BlockDevice) -> Iterator[tuple[Extent, bool]]:
    if offers(device, Layered):
        yield from device.own_extents()
    else:
        yield from ((extent, False) for extent in device.extents())


def _worthwhile(holes: Iterable[Extent]) -> Iterator[Extent]:
    """Yield the whole granules of holes, which are what can be given back."""
    for hole in holes:
        start, end = align_up(hole.start, GRANULE), align_down(hole.end, GRANULE)
        if start < end:
            yield Extent(start, end - start)
