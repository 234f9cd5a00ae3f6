"""The volumes of disks: each partition with the filesystem on it, the whole disk where it has no table, and those of
pools.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress

from narvet.block.contract import BlockDevice
from narvet.block.sectors import WithSectors
from narvet.block.window import Window
from narvet.formats.filesystems import candidates
from narvet.formats.filesystems.contract import Filesystem, FilesystemState
from narvet.formats.pools.device import volume_device
from narvet.formats.pools.member import MemberState, read_member
from narvet.formats.pools.tree import Pool
from narvet.formats.seals.header import Seal
from narvet.formats.seals.keyring import opened
from narvet.formats.seals.volume import is_sealed, read_seal
from narvet.formats.tables import NAMES as TABLES
from narvet.formats.tables import table_format
from narvet.formats.tables.contract import PartitionEntry, Table
from narvet.ground.errors import ImageError
from narvet.ground.findings import image_place
from narvet.ground.values import Frozen

_SECTOR_SIZES = (512, 4096)  # tried in turn where nothing says it
_WHOLE = 0


class Volume(Frozen):
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
    for name, device in _pooled(devices, sector_sizes):
        filled = _filled(device)
        if filled is not None:
            found.append(Volume(0, filled[2].label, "", "", "", 0, *filled, name))
    return tuple(found)


def places_over(devices: Sequence[BlockDevice], sector_sizes: Sequence[int]) -> Iterator[tuple[int | str, BlockDevice]]:
    """Yield the partitions of the first of some disks by their numbers, and volumes of its pools by their names."""
    yield from _windows(devices[0], sector_sizes[0])
    yield from _pooled(devices, sector_sizes)


def sealed_over(
    devices: Sequence[BlockDevice], sector_sizes: Sequence[int]
) -> Iterator[tuple[int | str, BlockDevice, Seal]]:
    """Yield what is sealed among `places_over`; what does not read is left out."""
    for place, device in places_over(devices, sector_sizes):
        with suppress(ImageError):
            seal = read_seal(device)
            if seal is not None:
                yield place, device, seal


def _pooled(devices: Sequence[BlockDevice], sector_sizes: Sequence[int]) -> Iterator[tuple[str, BlockDevice]]:
    """Yield the volumes of the pools that the first of some disks is a member of, by their names."""
    members: dict[str, MemberState] = {}
    windows: dict[str, BlockDevice] = {}
    own: set[str] = set()
    for at, (device, size) in enumerate(zip(devices, sector_sizes, strict=True)):
        for _, window in _windows(device, size):
            with suppress(ImageError):
                state = read_member(window) if _filesystem(window, 0) is None else None
                if state is not None and state.shape.id not in members:
                    members[state.shape.id], windows[state.shape.id] = state, window
                    own |= {state.pool.id} if at == 0 and state.pool else set()
    for pool in newest_of(members.values()):
        by_name = {one.name: windows[one.id] for one in pool.members if one.id in windows}
        for volume in pool.shown if pool.id in own else ():
            with suppress(ImageError):
                sector_size = max(device.sector_size for device in windows.values())
                yield f"{pool.name}.{volume.name}", volume_device(pool, volume, by_name, sector_size)


def _filled(device: BlockDevice, number: int = 0) -> tuple[BlockDevice, Filesystem, FilesystemState] | None:
    """Return the filesystem on a device, or the one inside if it is sealed and a passphrase opens it, with its device.

    A filesystem goes before a header of something sealed, which may be left over from what was there before it.
    """
    found = _filesystem(device, number)
    if found is not None or not is_sealed(device):
        return found
    try:
        within = opened(device)
    except ImageError:  # neither header reads
        return None
    return _filesystem(within, number) if within is not None else None


def _filesystem(device: BlockDevice, number: int) -> tuple[BlockDevice, Filesystem, FilesystemState] | None:
    for kind in candidates(device):
        state = kind.read(device, image_place("").part(number), deep=False)
        if state is not None:
            return device, kind, state
    return None


def newest_of(members: Iterable[MemberState]) -> tuple[Pool, ...]:
    """Return the newest text of each pool that members tell of."""
    texts: dict[str, Pool] = {}
    for one in members:
        if one.pool is not None and (one.pool.id not in texts or texts[one.pool.id].seqno < one.pool.seqno):
            texts[one.pool.id] = one.pool
    return tuple(texts.values())


def _windows(device: BlockDevice, sector_size: int) -> Iterator[tuple[int, BlockDevice]]:
    """Yield the partitions of a disk by their numbers, and the whole of one without a table."""
    table = _first_table(device, sector_size)
    for entry in table.partitions if table else (PartitionEntry(_WHOLE, 0, device.size, "", ""),):
        with suppress(ImageError):
            yield entry.number, Window(device, entry.start, entry.size)


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
            window = Window(device, entry.start, entry.size)
        except ImageError:
            continue
        filled = _filled(window, entry.number)
        if filled is not None:
            ids = table.kind, table.id, entry.id, entry.start
            yield Volume(entry.number, entry.label or filled[2].label, *ids, *filled)
