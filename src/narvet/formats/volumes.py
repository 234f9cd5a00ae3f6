"""The volumes of a disk: each partition with the filesystem on it, or the whole disk where it has no table."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from narvet.block.contract import BlockDevice
from narvet.block.sectors import WithSectors
from narvet.block.window import Window
from narvet.formats.filesystems import candidates
from narvet.formats.filesystems.contract import Filesystem, FilesystemState
from narvet.formats.tables import NAMES as TABLES
from narvet.formats.tables import table_format
from narvet.formats.tables.contract import PartitionEntry, Table
from narvet.ground.errors import ImageError
from narvet.ground.findings import image_place

_SECTOR_SIZES = (512, 4096)  # tried in turn where nothing says it
_WHOLE = 0


@dataclass(frozen=True)
class Volume:
    """A filesystem on a disk: the number of its partition, 0 for the whole disk, its bytes, and what it is.

    `table` is the disk's table, `table_id` its id, both empty without one; `id` is the partition's, `start` its byte.
    """

    number: int
    label: str
    table: str
    table_id: str
    id: str
    start: int
    device: BlockDevice
    kind: Filesystem
    state: FilesystemState


def volumes_on(device: BlockDevice, sector_size: int) -> tuple[Volume, ...]:
    """Return the volumes of a disk that hold a filesystem which is known; nothing on it is trusted.

    `sector_size` is bytes, 0 where the image does not tell.
    """
    for size in (sector_size,) if sector_size else _SECTOR_SIZES:
        table = _table(WithSectors(device, size))
        if table is not None:
            return tuple(_volumes(device, table))
    return tuple(_volumes(device, Table("", "", (PartitionEntry(_WHOLE, 0, device.size, "", ""),))))


def _table(device: BlockDevice) -> Table | None:
    """Return the first table that is found, None where there is none."""
    for name in TABLES:
        table, _ = table_format(name).read(device, image_place(""))
        if table is not None:
            return table
    return None


def _volumes(device: BlockDevice, table: Table) -> Iterator[Volume]:
    for entry in table.partitions:
        try:
            window = Window(device, entry.start, entry.size)
        except ImageError:
            continue
        for kind in candidates(window):
            state = kind.read(window, image_place("").part(entry.number), deep=False)
            if state is not None:
                label = entry.label or state.label
                ids = table.kind, table.id, entry.id, entry.start
                yield Volume(entry.number, label, *ids, window, kind, state)
                break
