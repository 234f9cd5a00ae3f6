"""Where partitions lie: whole-number arithmetic from what is asked to offsets and sizes, all in bytes.

Guaranteed, and tested as properties: partitions start on the alignment, do not overlap, lie inside the table's bounds
unless a finding says otherwise, and the pieces of a disk cover it once, without gaps unaccounted for.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import zip_longest
from typing import Literal

from narvet.layout.model import Piece
from narvet.tables.contract import Bounds, Reserved
from narvet.units import align_down, align_up

PartSize = int | Fraction | Literal["rest"]


@dataclass(frozen=True)
class Place:
    """A partition's bytes on its disk."""

    start: int
    size: int


def disk_size_for(
    sizes: Sequence[int], align: int, sector: int, head: int, tail: int, ahead: Sequence[int] = ()
) -> int:
    """Return the smallest aligned disk for partitions of the given sizes between `head` and `tail` bytes of table."""
    end = head
    for size, gap in zip_longest(sizes, ahead, fillvalue=0):
        end = align_up(align_up(end, align) + gap, align) + align_up(size, sector)
    return align_up(end + tail, align)


def place(sizes: Sequence[PartSize], bounds: Bounds, align: int, sector: int, ahead: Sequence[int] = ()) -> list[Place]:
    """Return the partitions' places in order; the rest may come out as 0, and what is asked may pass the end.

    `ahead` is what the table needs right ahead of each partition; the partition then starts on the next boundary.
    A size is rounded up to whole sectors, a share is one of the aligned span and rounded down to the alignment.
    """
    first = align_up(bounds.first, align)
    span = max(align_down(bounds.end, align) - first, 0)
    decided = [_decided(size, span, align, sector) for size in sizes]
    gaps = [align_up(gap, align) for gap, _ in zip_longest(ahead, sizes, fillvalue=0)][: len(sizes)]
    taken = sum(align_up(size, align) for size in decided if size is not None) + sum(gaps)
    rest = max(span - taken, 0)
    places, start = [], first
    for size, gap in zip(decided, gaps, strict=True):
        length = rest if size is None else size
        start += gap
        places.append(Place(start, length))
        start += align_up(length, align)
    return places


def _decided(size: PartSize, span: int, align: int, sector: int) -> int | None:
    if size == "rest":
        return None
    if isinstance(size, Fraction):
        return align_down(span * size.numerator // size.denominator, align)
    return align_up(size, sector)


def pieces(disk_size: int, reserved: Sequence[Reserved], places: Sequence[tuple[int, Place]]) -> tuple[Piece, ...]:
    """Return the runs that make up the disk, ascending; `places` come with their partition's number."""
    known = [Piece(run.start, run.size, run.what) for run in reserved if run.size]
    known += [Piece(place.start, place.size, "partition", number) for number, place in places if place.size]
    covered: list[Piece] = []
    reach = 0
    for piece in sorted(known, key=lambda piece: piece.start):
        if piece.start > reach:
            covered.append(Piece(reach, piece.start - reach, "unused"))
        covered.append(piece)
        reach = max(reach, piece.start + piece.size)
    if reach < disk_size:
        covered.append(Piece(reach, disk_size - reach, "unused"))
    return tuple(covered)
