"""A disk as a core sample: its runs from the first byte to the last, for text and pictures alike."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from narvet.formats.tables import table_format
from narvet.ground.errors import printable
from narvet.ground.extents import Extent
from narvet.model.estate import NO_TABLE, Disk, Partition
from narvet.plan.place import pieces

if TYPE_CHECKING:
    from narvet.formats.tables.contract import Reserved
    from narvet.model.layout import Piece, PlannedDisk

Material = Literal["filesystem", "table", "unused"]
ASIDE = "set aside for Windows itself"


@dataclass(frozen=True)
class Band:
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


def bands_of(disk: PlannedDisk) -> tuple[Band, ...]:
    """Return the runs of a disk as planned, gaps included."""
    return bands_with(disk.wanted, disk.pieces)


def bands_found(found: Disk) -> tuple[Band, ...]:
    """Return the runs of a disk as found, gaps included; partitions that leave the disk are cut at its end."""
    if found.table == NO_TABLE and not found.partitions:
        return (Band(0, found.size, "unused", "", "no table"),)
    reserved: tuple[Reserved, ...] = ()
    if found.table != NO_TABLE:
        reserved = table_format(found.table).reserved(found.size, found.image.sector_size)
    places = [
        (part.number, Extent(part.start, min(part.size, max(found.size - part.start, 0)))) for part in found.partitions
    ]
    return bands_with(found, pieces(found.size, reserved, places))


def bands_with(disk: Disk, runs: tuple[Piece, ...]) -> tuple[Band, ...]:
    """Return the runs of a disk, by the pieces that cover it."""
    parts = {part.number: part for part in disk.partitions}
    return tuple(
        band_of(parts[piece.partition], disk)
        if piece.partition is not None
        else Band(piece.start, piece.size, "unused" if piece.what == "unused" else "table", "", piece.what)
        for piece in runs
    )


def band_of(part: Partition, disk: Disk) -> Band:
    """Return a partition, wanted or found."""
    if disk.is_set_aside(part):
        return Band(part.start, part.size, "table", "", ASIDE)
    made_of: Material = "filesystem" if part.filesystem else "unused"
    kind = part.filesystem.kind if part.filesystem else ""
    words = kind or ("no filesystem" if part.mount else "nothing known")
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
