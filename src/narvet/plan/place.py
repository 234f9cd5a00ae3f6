"""Where partitions lie: whole-number arithmetic from what is asked to offsets and sizes, all in bytes.

Guaranteed, and tested as properties: partitions start on the alignment, do not overlap, lie inside the table's bounds
unless a finding says otherwise, and the pieces of a disk cover it once, without gaps unaccounted for.
"""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from functools import lru_cache
from itertools import zip_longest
from operator import attrgetter
from typing import Literal

from narvet.formats.tables.contract import Bounds, Reserved
from narvet.ground.extents import Extent
from narvet.ground.units import align_down, align_up
from narvet.model.layout import Piece

PartSize = int | Fraction | Literal["rest"]


def disk_size_for(
    sizes: Sequence[int], align: int, sector_size: int, head: int, tail: int, ahead: Sequence[int] = ()
) -> int:
    """Return the smallest aligned disk for partitions of the given sizes between `head` and `tail` bytes of table."""
    end = head
    for size, gap in zip_longest(sizes, ahead, fillvalue=0):
        end = align_up(align_up(end, align) + gap, align) + align_up(size, sector_size)
    return align_up(end + tail, align)


def place(
    sizes: Sequence[PartSize], bounds: Bounds, align: int, sector_size: int, ahead: Sequence[int] = ()
) -> tuple[Extent, ...]:
    """Return the bytes of the partitions in order; the rest may come out as 0, and what is asked may pass the end.

    `ahead` is what the table needs right ahead of each partition; the partition then starts on the next boundary.
    A size is rounded up to whole sectors, a share is one of the aligned span and rounded down to the alignment.
    """
    first = align_up(bounds.first, align)
    span = max(align_down(bounds.end, align) - first, 0)
    decided = tuple([_decided(size, span, align, sector_size) for size in sizes])
    return _placed(decided, first, span, align, tuple(ahead))


@lru_cache(maxsize=1024)
def _placed(
    decided: tuple[int | None, ...], first: int, span: int, align: int, ahead: tuple[int, ...]
) -> tuple[Extent, ...]:
    """Return where partitions of these sizes lie in a span, None taking the rest; many disks have the same."""
    before = [align_up(gap, align) for gap, _ in zip_longest(ahead, decided, fillvalue=0)][: len(decided)]
    taken = sum(align_up(size, align) for size in decided if size is not None) + sum(before)
    rest = max(span - taken, 0)
    places, start = [], first
    for size, gap in zip(decided, before, strict=True):
        length = rest if size is None else size
        start += gap
        places.append(Extent(start, length))
        start += align_up(length, align)
    return tuple(places)


def _decided(size: PartSize, span: int, align: int, sector_size: int) -> int | None:
    if size == "rest":
        return None
    if isinstance(size, Fraction):
        return align_down(span * size.numerator // size.denominator, align)
    return align_up(size, sector_size)


@lru_cache(maxsize=1024)
def pieces(disk_size: int, reserved: tuple[Reserved, ...], places: tuple[tuple[int, Extent], ...]) -> tuple[Piece, ...]:
    """Return the runs that make up the disk, ascending; `places` come with their partition's number."""
    known = [Piece(run.start, run.size, run.what) for run in reserved if run.size]
    known += [Piece(run.start, run.length, "partition", number) for number, run in places if run.length]
    known.sort(key=_start)
    covered, reach = list[Piece](), 0
    for piece in known:
        start = min(piece.start, disk_size)
        if start > reach:
            covered.append(Piece(reach, start - reach, "unused"))
        covered.append(piece)
        reach = max(reach, piece.start + piece.size)
    if reach < disk_size:
        covered.append(Piece(reach, disk_size - reach, "unused"))
    return tuple(covered)


_start = attrgetter("start")
