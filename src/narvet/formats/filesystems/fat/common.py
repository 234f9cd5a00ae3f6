"""What fat32 and exfat share: serial numbers, mount options in place of owner and mode, and tables of clusters."""

from __future__ import annotations

from collections.abc import Iterator
from uuid import UUID

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import ForWindows, OwnedOptions, owner_mount_options
from narvet.ground.extents import Extent, gaps, runs_of_set
from narvet.ground.units import Cluster, counted
from narvet.ground.values import Frozen

FIRST_CLUSTER = Cluster(2)


class ClusterShape(Frozen):
    """What the shapes of these filesystems share: bytes of a sector, and in sectors the whole and a cluster."""

    sector_size: int
    sectors: int
    per_cluster: int

    @property
    def size(self) -> int:
        """Bytes of all sectors."""
        return self.sectors * self.sector_size

    @property
    def unit(self) -> int:
        """Bytes of a cluster."""
        return self.per_cluster * self.sector_size

    @property
    def held_back(self) -> int:
        """Nothing: ordinary users can fill what is free."""
        return 0


def start_of(cluster: Cluster, heap: int, unit: int) -> int:
    """Return the byte at which a cluster of `unit` bytes starts; the first one is at byte `heap`."""
    return heap + (cluster - FIRST_CLUSTER) * unit


_CHUNK = 1 << 20
_MOST_AT_ONCE = 1 << 24  # entries: a table of 64 MiB
_MOST_CHECKED = 1 << 28  # clusters of a volume whose files are followed; only what is in use takes memory


class PortableOptions(OwnedOptions, kw_only=True):
    """What fat32 and exfat are made with; owner and mode go into the mount, as files of theirs have none."""

    unit: int | None = None
    chunk: int = 0

    def mount_options(self) -> tuple[str, ...]:
        """Return the options that give the root, and all in it, the owner and mode asked for."""
        return (*super().mount_options(), *owner_mount_options(self, usual=0o755))


class Portable(ForWindows):
    """A filesystem without owners: the mount gives every file the same."""

    label_limit = 11

    def native_id(self, uuid: UUID) -> str:
        """Return the serial number as guests write it, but in small letters."""
        return serial_text(serial(uuid))


def serial(uuid: UUID) -> int:
    """Return the 32-bit serial number that stands in for a UUID."""
    return uuid.int >> 96


def serial_text(number: int) -> str:
    """Return a serial number as guests write it, but in small letters."""
    return f"{number >> 16:04x}-{number & 0xFFFF:04x}"


def pieces(device: BlockDevice, start: int, length: int) -> Iterator[tuple[int, bytes]]:
    """Yield offset from `start` and content of the parts of a range that may hold data, 1 MiB at most at once."""
    for first, run in device.extents(start, start + length):
        low, high = (first - start) // 4 * 4 + start, min(-(-(first + run - start) // 4) * 4 + start, start + length)
        for offset in range(low, high, _CHUNK):
            yield offset - start, device.read(offset, min(_CHUNK, high - offset))


def table_entries(device: BlockDevice, start: int, count: int, mask: int) -> Iterator[tuple[int, NDArray[np.uint32]]]:
    """Yield number and values of the runs of table entries that may hold anything; all others are free."""
    for offset, data in pieces(device, start, 4 * count):
        yield offset // 4, np.frombuffer(data, dtype="<u4") & np.uint32(mask)


def free_between(taken: Iterator[tuple[int, NDArray[np.bool_]]], count: int) -> Iterator[Extent]:
    """Yield the free runs of `count` clusters; `taken` has those parts of them that may be in use."""
    used = (Extent(low, high - low) for first, bits in taken for low, high in (runs_of_set(bits) + first).tolist())
    yield from gaps(used, count)


def chain_faults(entries: NDArray[np.uint32], last: int, bad: int) -> Iterator[str]:
    """Yield what is wrong with the chains of a whole table: `entries` start at entry 0, `last` is the last cluster.

    Entries above `bad` end a chain, `bad` itself marks a cluster that cannot be used. It is for tables whose free
    entries are zero, and of a size that is looked at as a whole.
    """
    if len(entries) > _MOST_AT_ONCE:
        return
    links = entries[FIRST_CLUSTER : last + 1]
    links = links[(links != 0) & (links < bad)]
    wild = int(((links < FIRST_CLUSTER) | (links > last)).sum())
    if wild:
        yield f"{counted(wild, 'entry of the table leads', 'entries of the table lead')} to clusters that do not exist"
        return
    if shared := len(links) - len(np.unique(links)):
        yield f"{counted(shared, 'cluster belongs', 'clusters belong')} to more than one file"
    if (entries[links] == 0).any():
        yield f"{counted(int((entries[links] == 0).sum()), 'file goes', 'files go')} on in clusters marked as free"


def whole_table(device: BlockDevice, start: int, count: int, mask: int) -> NDArray[np.uint32]:
    """Return a table of at most `_MOST_CHECKED` entries; a longer one is not read, and none is returned."""
    if count > _MOST_CHECKED:
        return np.zeros(0, dtype=np.uint32)
    table = np.zeros(count, dtype=np.uint32)
    for first, values in table_entries(device, start, count, mask):
        table[first : first + len(values)] = values
    return table
