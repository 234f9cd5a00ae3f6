"""A disk as a core sample: its runs from the first byte to the last, for text and pictures alike."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import TYPE_CHECKING, Literal

from narvet.formats.tables import table_format
from narvet.ground.errors import printable
from narvet.ground.extents import Extent
from narvet.ground.values import Frozen
from narvet.model.estate import NO_TABLE, Disk, Partition
from narvet.plan.place import pieces

if TYPE_CHECKING:
    from narvet.formats.pools.member import MemberShape
    from narvet.formats.pools.tree import Pool, PoolVolume
    from narvet.formats.tables.contract import Reserved
    from narvet.model.layout import Piece, PlannedDisk
    from narvet.model.pools import PlannedPool

Material = Literal["filesystem", "table", "unused"]
ASIDE = "set aside for Windows itself"


class Band(Frozen):
    """A run of a disk: where it starts, how long it is, what it is made of, and what to say of it.

    `name` is empty where nobody gave one; `what` is said beside it, `mount_point` is where a guest has it, with whom it
    belongs to. `kind` is the filesystem, empty if there is none.
    """

    start: int
    size: int
    made_of: Material
    name: str
    what: str
    mount_point: str = ""
    kind: str = ""


def bands_of(disk: PlannedDisk, pools: Iterable[PlannedPool] = ()) -> tuple[Band, ...]:
    """Return the runs of a disk as planned, gaps included; those of volumes, too, where it is in one of the pools."""
    members: dict[int, list[Band]] = {}
    for pool in pools:
        volumes = {one.volume: one.wanted.partitions[0] for one in pool.volumes}
        for place in pool.members.values():
            if place.disk == disk.name:
                shape = place.shape.resized(place.size) if place.size > place.shape.size else place.shape
                members[place.partition] = list(_runs_of(pool.becomes, shape, place.start, place.size, volumes))
    return bands_with(disk.wanted, disk.pieces, members)


def member_bands(part: Partition) -> list[Band]:
    """Return the runs of a member of a pool that was found, none where no pool has it."""
    member = part.member
    if member is None or member.pool is None:
        return []
    return list(_runs_of(member.pool, member.shape, part.start, part.size, {}))


def _runs_of(pool: Pool, shape: MemberShape, start: int, size: int, volumes: Mapping[str, Partition]) -> Iterator[Band]:
    """Yield what a pool has on a member from byte `start` of a disk: its texts, runs of volumes, what is free."""
    member = next((one for one in pool.members if one.id == shape.id), None)
    if member is None:
        return
    whose = {part.name: volume for volume in pool.shown for part in (volume, *pool.inner_volumes(volume))}
    runs: list[tuple[int, int, str]] = []
    for volume in pool.volumes:
        for segment in volume.segments:
            for name, first in segment.parts if segment.kind == "striped" else ():
                if name == member.name:
                    runs.append((first, segment.count // len(segment.parts), volume.name))
    reach, end = 0, member.count
    text = f"label and texts of pool {printable(pool.name)}"
    yield Band(start, member.start, "table", "", text)
    at = start + member.start
    for first, count, name in [*sorted(runs), (end, 0, "")]:
        if first > reach:
            yield Band(
                at + reach * pool.extent, (first - reach) * pool.extent, "unused", "", f"free in {printable(pool.name)}"
            )
        if count:
            yield _run_of(pool, name, whose.get(name), volumes, at + first * pool.extent, count * pool.extent)
        reach = max(reach, first + count)
    tail = at + end * pool.extent
    if start + size > tail:
        yield Band(tail, start + size - tail, "table", "", text if shape.end < size else "less than an extent")


def _run_of(
    pool: Pool, name: str, outer: PoolVolume | None, volumes: Mapping[str, Partition], at: int, size: int
) -> Band:
    shown = printable(outer.name if outer else name)
    part = volumes.get(outer.name) if outer else None
    kind = part.filesystem.kind if part and part.filesystem else ""
    kind = f"sealed, {kind}" if part and part.seal else kind
    called = f"{printable(pool.name)}.{shown}"
    if outer is not None and outer.name != name:
        copy = name.rpartition("_")
        what = f"copy {int(copy[2]) + 1}" if "_rimage_" in name and copy[2].isdecimal() else "state of its copies"
        return Band(at, size, "filesystem", called, f"{kind} {what}".strip(), _mount_point(part) if part else "", kind)
    return Band(at, size, "filesystem", called, kind or "volume", _mount_point(part) if part else "", kind)


def bands_found(found: Disk) -> tuple[Band, ...]:
    """Return the runs of a disk as found, gaps included; partitions that leave the disk are cut at its end."""
    if found.table == NO_TABLE and not found.partitions:
        return (Band(0, found.size, "unused", "", "no table"),)
    reserved: tuple[Reserved, ...] = ()
    if found.table != NO_TABLE:
        reserved = table_format(found.table).reserved(found.size, found.image.sector_size)
    places = tuple(
        (part.number, Extent(part.start, min(part.size, max(found.size - part.start, 0)))) for part in found.partitions
    )
    return bands_with(found, pieces(found.size, reserved, places))


def bands_with(
    disk: Disk, runs: tuple[Piece, ...], members: Mapping[int, list[Band]] | None = None
) -> tuple[Band, ...]:
    """Return the runs of a disk, by the pieces that cover it; `members` are runs of partitions that are in pools."""
    parts, bands = {part.number: part for part in disk.partitions}, list[Band]()
    for piece in runs:
        if piece.partition is None:
            made_of: Material = "unused" if piece.what == "unused" else "table"
            bands.append(Band(piece.start, piece.size, made_of, "", piece.what))
        else:
            own = (members or {}).get(piece.partition) or member_bands(parts[piece.partition])
            bands += own or [band_of(parts[piece.partition], disk)]
    return tuple(bands)


def band_of(part: Partition, disk: Disk) -> Band:
    """Return a partition, wanted or found."""
    if disk.is_set_aside(part):
        return Band(part.start, part.size, "table", "", ASIDE)
    made_of: Material = "filesystem" if part.filesystem else "unused"
    kind = part.filesystem.kind if part.filesystem else ""
    words = kind or ("no filesystem" if part.mount else "nothing known")
    if part.seal is not None:
        words, made_of = f"sealed, {kind}" if kind else "sealed", "filesystem"
    flags = () if part.mount else disk.attributes(part)
    return Band(part.start, part.size, made_of, name_of(part), ", ".join([words, *flags]), _mount_point(part), kind)


def name_of(part: Partition) -> str:
    """Return what a partition is called: its label, its filesystem's, or its number."""
    inside = part.filesystem.label if part.filesystem else ""
    return printable(part.entry.label or inside) or str(part.number)


def _mount_point(part: Partition) -> str:
    mount = part.mount
    if mount is None or mount.at is None:
        return ""
    mode = "" if mount.volume else f" {mount.mode:04o}"
    return f"{mount.at}  {mount.owner}{mode}" + "".join(f", {name} {right}" for name, right in mount.access)
