"""The same disk in another format, thin or full, or larger: only what holds data is copied."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from uuid import NAMESPACE_URL

import numpy as np

from narvet.block.contract import BlockDevice, Extent
from narvet.block.leases import lease
from narvet.errors import RefusedError, RequestError
from narvet.identity import derive
from narvet.images.chain import Link, chain, open_chain
from narvet.images.contract import ImageFormat, Making, Space, misfits
from narvet.images.trust import NOTHING_SAID, Trust
from narvet.layout.facts import Survey
from narvet.survey.gate import table_doubts
from narvet.survey.probe import survey
from narvet.tables import table_format
from narvet.units import KIB, MIB, align_up, show_both, show_bytes

PIECE = 2 * MIB  # read and written at once
GRANULE = 64 * KIB  # the least run of zeros worth leaving out

OnCopied = Callable[[int], object]


@dataclass(frozen=True)
class Source:
    """An image to be copied: with its bases, what is on it, and the bytes of its sectors.

    `sure` is whether the sector size is recorded, said or told by what is on the disk, not just assumed.
    """

    links: tuple[Link, ...]
    found: Survey
    sector: int
    sure: bool

    @property
    def path(self) -> Path:
        """Where it lies."""
        return self.links[0].path

    @property
    def size(self) -> int:
        """Bytes of the disk."""
        return self.links[0].facts.size

    @property
    def files(self) -> tuple[Path, ...]:
        """Every file that the disk is read from: of the image and of its bases."""
        return tuple(file for link in self.links for file in (link.path, *link.kind.parts(link.path)))


def data_runs(device: BlockDevice, extents: Iterable[Extent]) -> Iterator[tuple[int, memoryview]]:
    """Yield offset and content of the runs that are not zero, in pieces."""
    for start, length in extents:
        for offset in range(start, start + length, PIECE):
            data = device.read(offset, min(PIECE, start + length - offset))
            for first, last in filled(data):
                yield offset + first, memoryview(data)[first:last]


def filled(data: bytes) -> Iterator[tuple[int, int]]:
    """Yield first and last byte of the runs of granules that hold anything."""
    whole = len(data) // GRANULE * GRANULE
    rows = np.frombuffer(data, dtype=np.uint64, count=whole // 8).reshape(-1, GRANULE // 8)
    # A few words tell of nearly every granule that holds anything.
    filled = np.asarray(rows[:, :: GRANULE // 64].any(axis=1))
    filled[~filled] = rows[~filled].any(axis=1)
    if whole < len(data):
        filled = np.append(filled, any(data[whole:]))
    edges = np.flatnonzero(np.diff(np.concatenate(([False], filled, [False])).astype(np.int8)))
    for first, last in edges.reshape(-1, 2).tolist():
        yield first * GRANULE, min(last * GRANULE, len(data))


def source_of(path: Path, trust: Trust = NOTHING_SAID, sector: int | None = None) -> Source:
    """Return an image that is to be copied, once it is clear what it is.

    `sector` is bytes, where its format does not record them; None lets the disk tell.

    Raises:
        RequestError: there is no such image, nothing says of which format it is, or it is cut short.
        ImageError: it or one of its bases is not sound.
    """
    links = chain(path, trust)
    found = survey(str(path), deep=False, trust=trust, sector=sector)
    facts = links[0].facts
    said = str(path.resolve()) in trust.formats
    cut = next((one for one in found.findings if one.rule in ("image-empty", "table-cut-short")), None)
    if cut is not None and not (said and links[0].kind.name == "raw"):
        raise RequestError(f"{path}: {cut.message}; to copy it as it is, add --image-format {links[0].kind.name}")
    told = facts.sector or sector or found.sector
    return Source(tuple(links), found, told or 512, bool(told))


def making_for(
    source: Source,
    kind: ImageFormat,
    new: Path,
    *,
    space: Space = "thin",
    size: int | None = None,
    block: int | None = None,
    pieces: int | None = None,
    packed: bool = False,
) -> Making:
    """Return the wish for a disk in an image of another kind, or of another size in bytes.

    A guest may know the disk by its image's id, which is kept where there is one.

    Raises:
        RequestError: the format cannot hold the disk so, or `size` is smaller than it, or its table cannot follow.
    """
    facts = source.links[0].facts
    wanted = facts.size if size is None else size
    if wanted < facts.size:
        raise RequestError(
            f"the disk has {show_both(facts.size)}; it cannot be made smaller, {show_both(wanted)} were asked for"
        )
    fitting = align_up(kind.fit(align_up(wanted, source.sector), block), source.sector)
    if fitting > facts.size:
        _check_can_grow(source)
    native_id = facts.id or derive(NAMESPACE_URL, "recast", new.name, fitting)
    making = Making(fitting, source.sector, space, native_id, block=block, pieces=pieces, packed=packed)
    check_fits(kind, making)
    return making


def remarks(source: Source, kind: ImageFormat, making: Making, asked: int | None) -> Iterator[str]:
    """Yield what a person should know of the new image: a size that was rounded up, sectors that it does not record."""
    wanted = source.size if asked is None else asked
    if making.size != wanted:
        yield (
            f"{kind.name} cannot have exactly {show_bytes(wanted)}; the disk gets {show_bytes(making.size)}, "
            f"{show_bytes(making.size - wanted)} more"
        )
    if source.sure and making.sector != 512 and not kind.records_sector:
        yield f"{kind.name} does not record the sector size; attach the disk with sectors of {making.sector} bytes"


def _check_can_grow(source: Source) -> None:
    if source.found.table == "none":
        return
    doubts = table_doubts(source.found)
    if doubts:
        raise RequestError(
            f"{source.path}: its table cannot follow to the end of a larger disk: {doubts[0]}; recast it to a format "
            "and size that it has, or repair it first"
        )


def check_fits(kind: ImageFormat, making: Making) -> None:
    """Raise RequestError with the first thing that an image format does not allow of a wish."""
    for misfit in misfits(kind, making):
        raise RequestError(f"{misfit.message}; {misfit.remedy}")


def recast(
    source: Source, built: Path, kind: ImageFormat, making: Making, on_copied: OnCopied = lambda _: None
) -> tuple[Extent, ...]:
    """Write a disk, with all that its bases hold, to a new image; return the runs where its table was changed.

    The caller gives the image its name (see `making.new_image`). Where the new disk is larger, its table follows to
    the new end.

    Raises:
        RefusedError: somebody writes to the image or to one of its bases.
    """
    changed: tuple[Extent, ...] = ()
    with lease(*source.files, change=False) as held:
        with open_chain(list(source.links), making.sector) as old, kind.create(built, making) as new:
            for offset, data in data_runs(old, old.extents()):
                new.write(offset, data)
                on_copied(len(data))
            if making.size > old.size and source.found.table != "none":
                changed = table_format(source.found.table).follow_end(new, old.size)
        held.check()
    return changed


def verify(
    source: Source,
    copy: Path,
    kind: ImageFormat,
    making: Making,
    changed: Iterable[Extent] = (),
    on_read: OnCopied = lambda _: None,
) -> None:
    """Read every byte of both disks anew and compare them, whatever their maps say; only `changed` runs may differ.

    What is found on the new disk, with the sectors that its image records, must be what is on the old one.

    Raises:
        RefusedError: they differ.
    """
    allowed = list(changed)
    with open_chain(list(source.links), source.sector) as old, kind.open(copy, making.sector) as new:
        for offset in range(0, new.size, PIECE):
            length = min(PIECE, new.size - offset)
            mine = old.read(offset, min(length, max(old.size - offset, 0))) if offset < old.size else b""
            its = new.read(offset, length)
            if mine.ljust(length, b"\0") != its and _differ(offset, mine.ljust(length, b"\0"), its, allowed):
                raise RefusedError(f"{copy.name}: what was written does not read back as it is in {source.path}")
            on_read(length)
    there = survey(str(copy), deep=False, sector=making.sector, trust=Trust({str(copy.resolve()): kind.name}))
    parts = [[(part.place.start, part.place.id) for part in one.partitions] for one in (source.found, there)]
    if (source.found.table_id, parts[0]) != (there.table_id, parts[1]):
        raise RefusedError(f"{copy.name}: its partitions are not those of {source.path}")


def _differ(offset: int, mine: bytes, its: bytes, allowed: list[Extent]) -> bool:
    unlike = np.flatnonzero(np.frombuffer(mine, dtype=np.uint8) != np.frombuffer(its, dtype=np.uint8)) + offset
    for start, length in allowed:
        unlike = unlike[(unlike < start) | (unlike >= start + length)]
    return bool(len(unlike))
