"""The map of clusters of an NTFS that is not trusted: what it says is in use, and what is free."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.parse import Volume, content, one_of, system_file, volume_of
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent, gaps, joined_runs, runs_of_set

_LARGEST_MAP = 1 << 29  # bytes, for the most clusters there can be
_CHUNK = 1 << 20


def map_pieces(volume: Volume) -> Iterator[tuple[int, NDArray[np.uint8]]]:
    """Yield first cluster and bits of the parts of the map of clusters that may have any set."""
    attribute = one_of(system_file(volume, r.MAP), r.DATA, "", "$Bitmap")
    length = -(-volume.shape.clusters // 8)
    if attribute.size < length:
        raise ImageError(f"$Bitmap has {attribute.size} bytes, {length} expected")
    there = content(volume, attribute, _LARGEST_MAP)
    for start, run in there.extents(0, length):
        for offset in range(start, start + run, _CHUNK):
            data = there.read(offset, min(_CHUNK, start + run - offset))
            bits = np.unpackbits(np.frombuffer(data, dtype=np.uint8), bitorder="little")
            yield 8 * offset, bits[: volume.shape.clusters - 8 * offset]


def used_runs(volume: Volume) -> NDArray[np.int64]:
    """Return first and end of the runs of clusters that the map says are used, shape (n, 2), joined."""
    found = []
    for first, bits in map_pieces(volume):
        found.append(runs_of_set(bits) + first)
    return joined_runs(np.concatenate(found) if found else np.zeros((0, 2), dtype=np.int64))


def unused(device: BlockDevice) -> Iterator[Extent]:
    """Yield the runs of free clusters of a filesystem that was read without a finding."""
    volume = volume_of(device)
    if volume is None:
        return
    used = (Extent(start, end - start) for start, end in used_runs(volume).tolist())
    for start, count in gaps(used, volume.shape.clusters):
        yield Extent(start * volume.shape.cluster_size, count * volume.shape.cluster_size)
