"""The volumes of disks: each partition with the filesystem on it, the whole disk where it has no table, and those of
pools.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass

from narvet.block.contract import BlockDevice
from narvet.block.sectors import WithSectors
from narvet.block.window import Window
from narvet.formats.filesystems import candidates
from narvet.formats.filesystems.contract import Filesystem, FilesystemState
from narvet.formats.pools.device import volume_device
from narvet.formats.pools.member import MemberState, read_member
from narvet.formats.pools.tree import Pool
from narvet.formats.seals.keyring import opened
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
    One of a pool has no number, but a `name`, with that of its pool before it.
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
    name: str = ""

    @property
    def place(self) -> int | str:
        """What tells it from the others: its number, or its name."""
        return self.name or self.number


def volumes_over(devices: Sequence[BlockDevice], sector_sizes: Sequence[int]) -> tuple[Volume, ...]:
    """Return the volumes of the first of some disks, and those of the pools that it and the others are members of.

    Sector sizes are bytes, 0 where an image does not tell. Nothing on the disks is trusted.
    """
    found = list(volumes_on(devices[0], sector_sizes[0]))
    members: dict[str, MemberState] = {}
    windows: dict[str, BlockDevice] = {}
    own: set[str] = set()
    for at, (device, size) in enumerate(zip(devices, sector_sizes, strict=True)):
        for window in _windows(device, size):
            with suppress(ImageError):
                state = read_member(window)
                if state is not None and state.shape.id not in members:
                    members[state.shape.id], windows[state.shape.id] = state, window
                    own |= {state.pool.id} if at == 0 and state.pool else set()
    for pool in newest_of(members.values()):
        if pool.id in own:
            by_name = {one.name: windows[one.id] for one in pool.members if one.id in windows}
            found += _of_pool(pool, by_name, max(device.sector_size for device in windows.values()))
    return tuple(found)


def _within(device: BlockDevice) -> BlockDevice | None:
    """Return a device, or what is inside if it is sealed, None where no passphrase opens it."""
    try:
        return opened(device)
    except ImageError:
        return None


def newest_of(members: Iterable[MemberState]) -> tuple[Pool, ...]:
    """Return the newest text of each pool that members tell of."""
    texts: dict[str, Pool] = {}
    for one in members:
        if one.pool is not None and (one.pool.id not in texts or texts[one.pool.id].seqno < one.pool.seqno):
            texts[one.pool.id] = one.pool
    return tuple(texts.values())


def _of_pool(pool: Pool, devices: Mapping[str, BlockDevice], sector_size: int) -> Iterator[Volume]:
    for one in pool.shown:
        with suppress(ImageError):
            device = _within(volume_device(pool, one, devices, sector_size))
            if device is None:
                continue
            for kind in candidates(device):
                state = kind.read(device, image_place(""), deep=False)
                if state is not None:
                    yield Volume(0, state.label, "", "", "", 0, device, kind, state, f"{pool.name}.{one.name}")
                    break


def _windows(device: BlockDevice, sector_size: int) -> Iterator[BlockDevice]:
    """Yield the partitions of a disk, and the whole of one without a table."""
    table = _first_table(device, sector_size)
    for entry in table.partitions if table else (PartitionEntry(_WHOLE, 0, device.size, "", ""),):
        with suppress(ImageError):
            yield Window(device, entry.start, entry.size)


def volumes_on(device: BlockDevice, sector_size: int) -> tuple[Volume, ...]:
    """Return the volumes of a disk that hold a filesystem which is known; nothing on it is trusted.

    `sector_size` is bytes, 0 where the image does not tell.
    """
    table = _first_table(device, sector_size)
    return tuple(_volumes(device, table or Table("", "", (PartitionEntry(_WHOLE, 0, device.size, "", ""),))))


def _first_table(device: BlockDevice, sector_size: int) -> Table | None:
    for size in (sector_size,) if sector_size else _SECTOR_SIZES:
        table = _table(WithSectors(device, size))
        if table is not None:
            return table
    return None


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
            window = _within(Window(device, entry.start, entry.size))
        except ImageError:
            continue
        if window is None:
            continue
        for kind in candidates(window):
            state = kind.read(window, image_place("").part(entry.number), deep=False)
            if state is not None:
                label = entry.label or state.label
                ids = table.kind, table.id, entry.id, entry.start
                yield Volume(entry.number, label, *ids, window, kind, state)
                break
