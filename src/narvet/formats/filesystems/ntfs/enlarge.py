"""Writing a grown NTFS: its map of clusters, the records that tell how large things are, and both boot sectors."""

from __future__ import annotations

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.ntfs.grow import PlannedGrowth
from narvet.formats.filesystems.ntfs.parse import Volume, content, volume_of
from narvet.formats.filesystems.ntfs.resize import Resizer, Runs
from narvet.ground.errors import ImageError
from narvet.ground.units import Cluster, align_up
from narvet.ground.values import replace

_CHUNK = 1 << 20


def enlarge(device: BlockDevice, grown: PlannedGrowth) -> None:
    """Write a grown NTFS to a device that still holds it as it was found.

    Raises:
        ImageError: it is not what was found, or not sound.
        CannotChangeError: its own files are in a form that is not written to here.
    """
    volume = volume_of(device)
    if volume is None or volume.shape != grown.old:
        raise ImageError("the filesystem was changed while it was being made larger")
    if grown.new != grown.old:
        _Enlarger(volume, grown).run()


class _Enlarger(Resizer):
    def __init__(self, volume: Volume, grown: PlannedGrowth) -> None:
        super().__init__(volume, grown.old, grown.new)
        self._moves = grown.map_moves

    def run(self) -> None:
        """Write everything, the first boot sector last."""
        # The copy of the first sector may lie where the map goes to, so it goes first.
        self._device.zero(self._old.sectors * self._old.sector_size, self._old.sector_size)
        self._change_sizes(self._write_map())
        self._write_boot()

    def _write_map(self) -> Runs:
        """Write the map of clusters for the larger volume; return its runs."""
        old, new = self._old, self._new
        attribute = self._map()
        there = content(self._volume, attribute, old.map_size)
        runs: Runs = attribute.runs
        if self._moves:
            runs = ((Cluster(old.clusters), -(-new.map_size // new.unit)),)
        target = content(self._volume_of_new, replace(attribute, runs=runs, size=new.map_size), new.map_size)
        if self._moves:
            target.zero(0, target.size)
            for start, length in list(there.extents()):
                for offset in range(start, start + length, _CHUNK):
                    size = min(_CHUNK, start + length - offset)
                    target.write(offset, there.read(offset, size))
        elif target.size > old.map_size:
            target.zero(old.map_size, target.size - old.map_size)
        self._set(target, old.clusters, align_up(old.clusters, 64), used=False)
        self._set(target, new.clusters, 8 * new.map_size, used=True)
        if self._moves:
            for cluster, count in attribute.runs:
                self._set(target, int(cluster or 0), int(cluster or 0) + count, used=False)
            self._set(target, old.clusters, old.clusters + runs[0][1], used=True)
        return runs

    @property
    def _volume_of_new(self) -> Volume:
        return replace(self._volume, shape=self._new)
