"""A disk as a core sample: its runs from the first byte to the last, for text and pictures alike."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from narvet.errors import printable
from narvet.layout.facts import PartitionFound, Survey
from narvet.layout.model import LaidDisk, LaidPartition
from narvet.layout.place import Place, pieces
from narvet.tables import table_format
from narvet.tables.contract import attribute_names

Material = Literal["filesystem", "table", "unused"]
ASIDE = "set aside for Windows itself"


@dataclass(frozen=True)
class Band:
    """A run of a disk: where it starts, how long it is, what it is made of, and what to say of it.

    `name` is empty where nobody gave one; `told` is said beside it, `place` is where a guest has it. `kind` is the
    filesystem, empty if there is none.
    """

    start: int
    size: int
    made_of: Material
    name: str
    told: str
    place: str = ""
    kind: str = ""


def bands_of(disk: LaidDisk) -> tuple[Band, ...]:
    """Return the runs of a disk as laid out, gaps included."""
    parts = {part.number: part for part in disk.partitions}
    return tuple(
        _band(parts[piece.partition], disk.table)
        if piece.partition is not None
        else Band(piece.start, piece.size, "unused" if piece.what == "unused" else "table", "", piece.what)
        for piece in disk.pieces
    )


def _band(part: LaidPartition, table: str) -> Band:
    if _is_aside(table, part.type):
        return Band(part.start, part.size, "table", "", ASIDE)
    place = ""
    if part.at:
        rights = "" if part.volume else f" {part.mode:04o}"
        place = f"{part.at}  {part.owner}{rights}" + "".join(f", {name} {right}" for name, right in part.access)
    made_of: Material = "filesystem" if part.filesystem else "unused"
    told = part.filesystem or "no filesystem"
    return Band(part.start, part.size, made_of, part.label, told, place, part.filesystem or "")


def bands_found(found: Survey) -> tuple[Band, ...]:
    """Return the runs of a disk as found, gaps included; partitions that leave the disk are cut at its end."""
    parts = {part.place.number: part for part in found.partitions}
    if found.table == "none" and not parts:
        return (Band(0, found.size, "unused", "", "no table"),)
    reserved = table_format(found.table).reserved(found.size, found.sector) if found.table != "none" else ()
    places = [
        (number, Place(part.place.start, min(part.place.size, max(found.size - part.place.start, 0))))
        for number, part in parts.items()
    ]
    return tuple(
        band_found(parts[piece.partition], found.table)
        if piece.partition is not None
        else Band(piece.start, piece.size, "unused" if piece.what == "unused" else "table", "", piece.what)
        for piece in pieces(found.size, reserved, places)
    )


def band_found(part: PartitionFound, table: str) -> Band:
    """Return a partition as found."""
    start, size, inside = part.place.start, part.place.size, part.filesystem
    if _is_aside(table, part.place.type):
        return Band(start, size, "table", "", ASIDE)
    known = table_format(table).attributes if table != "none" else {}
    told = ", ".join([inside.kind if inside else "nothing known", *attribute_names(known, part.place.attributes)])
    return Band(
        start, size, "filesystem" if inside else "unused", name_of(part), told, kind=inside.kind if inside else ""
    )


def name_of(part: PartitionFound) -> str:
    """Return what a partition as found is called: its label, its filesystem's, or its number."""
    return printable(part.place.label or (part.filesystem.label if part.filesystem else "")) or str(part.place.number)


def _is_aside(table: str, kind: str) -> bool:
    return table != "none" and bool(kind) and kind == table_format(table).aside
