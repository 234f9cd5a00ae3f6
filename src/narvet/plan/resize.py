"""A disk that exists made larger or smaller without a sheet: its size, a partition, and what lies on that. Pure."""

from __future__ import annotations

from narvet.formats.tables import table_format
from narvet.ground.errors import RequestError
from narvet.ground.findings import Finding, image_place
from narvet.ground.units import MIB, align_down, show_apart, show_bytes
from narvet.ground.values import replace
from narvet.model.estate import NO_TABLE, Disk, Partition
from narvet.plan.existing import next_start, onto


def enlarged(found: Disk, size: int, number: int | None = None) -> tuple[Disk, tuple[Finding, ...]]:
    """Return a disk of `size` bytes, and what keeps its partition from growing.

    A partition takes what is free behind it: the one with this number, or else the last one on the disk.

    Raises:
        RequestError: the disk would be smaller, there is no such partition, or nothing is free behind it.
    """
    if size < found.size:
        there, asked = show_apart(found.size, size)
        raise RequestError(f"{found.path}: the disk has {there}; {asked} are less; shrink it")
    part = _partition(found, number)
    wanted = replace(found, image=replace(found.image, size=size), findings=())
    if part is not None:
        grown = replace(part, entry=replace(part.entry, size=_room(found, size, part) - part.start))
        wanted = replace(wanted, partitions=tuple(grown if one is part else one for one in wanted.partitions))
    return onto(wanted, found, image_place(found.path))


def shortened(found: Disk, size: int, *, moving: bool = False) -> tuple[Disk, tuple[Finding, ...]]:
    """Return a disk of no more than `size` bytes, and what keeps it from getting smaller.

    The partition that reaches behind the new end is cut there, and what lies on it; with `moving` its files may get
    other places for that.

    Raises:
        RequestError: the disk is smaller than that, or partitions start behind the new end.
    """
    if size > found.size:
        there, asked = show_apart(found.size, size)
        raise RequestError(f"{found.path}: the disk has {there}, and {asked} are more; enlarge it")
    end = size
    if found.table != NO_TABLE:
        end = table_format(found.table).bounds(size, found.image.sector_size or 512).end
    late = [one for one in found.partitions if one.start >= end]
    if late or end <= 0:
        reach = max((one.start for one in late), default=0)
        raise RequestError(
            f"{found.path}: a partition starts at {show_bytes(reach)}; {show_bytes(size)} end before it; ask for more"
        )
    parts = tuple(_cut(one, end, moving=moving) if one.end > end else one for one in found.partitions)
    wanted = replace(found, image=replace(found.image, size=size), partitions=parts, findings=())
    return onto(wanted, found, image_place(found.path))


def _cut(part: Partition, end: int, *, moving: bool) -> Partition:
    unit = MIB if part.start % MIB == 0 and align_down(end, MIB) > part.start else 1
    size = align_down(end, unit) - part.start
    return replace(part, entry=replace(part.entry, size=size), may_move=moving)


def _partition(found: Disk, number: int | None) -> Partition | None:
    if number is None:
        return max(found.partitions, key=lambda part: part.start, default=None)
    part = next((part for part in found.partitions if part.number == number), None)
    if part is None:
        known = ", ".join(str(one.number) for one in found.partitions) or "none"
        raise RequestError(f"{found.path}: there is no partition {number}; it has {known}")
    return part


def _room(found: Disk, size: int, part: Partition) -> int:
    """Return the byte up to which a partition can reach on a disk of `size` bytes."""
    if found.table == NO_TABLE:
        return size
    sector_size = found.image.sector_size or 512
    end = table_format(found.table).bounds(size, sector_size).end
    later = next_start(found, part.number, part.start, end)
    if later < end:
        if later - part.end < MIB:
            raise RequestError(
                f"{found.path}: partition {part.number} ends where another one starts, so it cannot become larger; "
                "enlarge the last one, or make a new disk and copy the files"
            )
        end = later
    unit = MIB if part.start % MIB == 0 else sector_size
    return max(align_down(end, unit), part.end)
