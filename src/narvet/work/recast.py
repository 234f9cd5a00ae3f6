"""The same disk in another format, thin or full, or larger: only what holds data is copied."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from uuid import NAMESPACE_URL

import numpy as np

from narvet.block.contract import BlockDevice, Extent
from narvet.block.files import at_rest
from narvet.errors import RefusedError, RequestError
from narvet.identity import derive
from narvet.images.chain import identify, open_image
from narvet.images.contract import ImageFormat, Making, Space, misfits
from narvet.tables import NAMES as TABLES
from narvet.tables import table_format
from narvet.units import KIB, MIB, align_up, show_both

PIECE = 2 * MIB  # read and written at once
GRANULE = 64 * KIB  # the least run of zeros worth leaving out

OnCopied = Callable[[int], object]


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


def making_for(
    source: Path,
    kind: ImageFormat,
    new: Path,
    *,
    space: Space = "thin",
    size: int | None = None,
    block: int | None = None,
    pieces: int | None = None,
    packed: bool = False,
) -> Making:
    """Return the wish for the disk of the image at `source` in an image of another kind, or of another size.

    A guest may know the disk by its image's id, which is kept where there is one.

    Raises:
        RequestError: the format cannot hold the disk so, or `size` is smaller than it.
    """
    _, facts = identify(source)
    wanted, sector = facts.size if size is None else size, facts.sector or 512
    if wanted < facts.size:
        raise RequestError(
            f"the disk has {show_both(facts.size)}; it cannot be made smaller, {show_both(wanted)} were asked for"
        )
    fitting = align_up(kind.fit(align_up(wanted, sector)), sector)
    known_as = facts.id or derive(NAMESPACE_URL, "recast", new.name, fitting)
    making = Making(fitting, sector, space, known_as, block=block, pieces=pieces, packed=packed)
    check_fits(kind, making)
    return making


def check_fits(kind: ImageFormat, making: Making) -> None:
    """Raise RequestError with the first thing that an image format does not allow of a wish."""
    for misfit in misfits(kind, making):
        raise RequestError(f"{misfit.message}; {misfit.remedy}")


def recast(
    source: Path, partial: Path, kind: ImageFormat, making: Making, on_copied: OnCopied = lambda _: None
) -> None:
    """Write the disk of the image at `source`, with all of its bases, to a new image.

    The caller gives the image its name (see `making.new_image`). Where the new disk is larger, its table's second copy
    is moved to the new end.
    """
    with _at_rest(source), open_image(source, making.sector) as old, kind.create(partial, making) as new:
        for offset, data in data_runs(old, old.extents()):
            new.write(offset, data)
            on_copied(len(data))
        if making.size > old.size:
            move_table(new, old.size)


@contextmanager
def _at_rest(source: Path) -> Iterator[None]:
    """Hold an image and its parts, which nobody may be writing to: a copy of what changes meanwhile is torn."""
    kind, _ = identify(source)
    with at_rest(source, *kind.parts(source)):
        yield


def move_table(device: BlockDevice, old_size: int) -> None:
    """Move the second copy of a disk's table from where the disk ended before to where it ends now."""
    for name in TABLES:
        kind = table_format(name)
        table, _ = kind.read(device, "")
        if table is not None:
            old = kind.reserved(old_size, device.sector)[-1]
            if max((part.end for part in table.partitions), default=0) <= old.start:
                device.zero(old.start, old.size)
            kind.write(device, table)
            return


def verify(source: Path, copy: Path, kind: ImageFormat, making: Making, on_read: OnCopied = lambda _: None) -> None:
    """Read both images and compare them byte for byte, but for the places of a moved table.

    Raises:
        RefusedError: they differ.
    """
    with open_image(source, making.sector) as old, kind.open(copy, making.sector) as new:
        left_out = _table_places(old, new.size) if new.size != old.size else []
        for device, other in ((old, new), (new, old)):
            for start, length in device.extents(0, old.size):
                for offset in range(start, min(start + length, old.size), PIECE):
                    held_there = min(PIECE, min(start + length, old.size) - offset)
                    mine, its = device.read(offset, held_there), other.read(offset, held_there)
                    if mine != its and _differ(offset, mine, its, left_out):
                        raise RefusedError(f"{copy}: what was written does not read back as it is in {source}")
                    on_read(held_there)


def _table_places(device: BlockDevice, new_size: int) -> list[Extent]:
    kind = table_format(TABLES[0])
    places = [*kind.reserved(device.size, device.sector), *kind.reserved(new_size, device.sector)]
    return [Extent(place.start, place.size) for place in places]


def _differ(offset: int, mine: bytes, its: bytes, left_out: list[Extent]) -> bool:
    unlike = np.flatnonzero(np.frombuffer(mine, dtype=np.uint8) != np.frombuffer(its, dtype=np.uint8)) + offset
    for start, length in left_out:
        unlike = unlike[(unlike < start) | (unlike >= start + length)]
    return bool(len(unlike))
