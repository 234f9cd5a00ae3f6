"""Writing an NTFS that became smaller: its map of clusters, what tells how large things are, boot sectors."""

from __future__ import annotations

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import FilesystemState
from narvet.formats.filesystems.ntfs.maps import map_pieces
from narvet.formats.filesystems.ntfs.parse import Volume, content, volume_of
from narvet.formats.filesystems.ntfs.relocate import relocate
from narvet.formats.filesystems.ntfs.resize import Resizer
from narvet.formats.filesystems.ntfs.shape import Account
from narvet.formats.filesystems.ntfs.shrink import PlannedShrinking
from narvet.ground.errors import ImageError
from narvet.ground.extents import runs_of_set
from narvet.ground.values import replace


def reached(device: BlockDevice, state: FilesystemState) -> FilesystemState:
    """Return the state of a clean NTFS with the fewest clusters that it can have; as it is where that is not known."""
    if state.unclean or state.shape is None or state.size > device.size or not isinstance(state.account, Account):
        return state
    try:
        volume = volume_of(device)
        least = _least(volume) if volume is not None else None
    except ImageError:
        return state
    return replace(state, account=replace(state.account, least=least))


def _least(volume: Volume) -> int:
    """Return the number of clusters up to the last one in use."""
    least = 0
    for first, bits in map_pieces(volume):
        runs = runs_of_set(bits)
        least = first + int(runs[-1, 1]) if len(runs) else least
    return least


def shorten(device: BlockDevice, planned: PlannedShrinking) -> None:
    """Write a smaller NTFS to a device that still holds it as it was found.

    Raises:
        ImageError: it is not what was found, or not sound.
        CannotChangeError: its own files are in a form that is not written to here.
    """
    volume = volume_of(device)
    if volume is not None and planned.moves:
        relocate(volume, planned.new.clusters)
        volume = volume_of(device)
    if volume is None or volume.shape != planned.old or _least(volume) > planned.new.clusters:
        raise ImageError("the filesystem was changed while it was being made smaller")
    if planned.new != planned.old:
        _Shortener(volume, planned.old, planned.new).run()


class _Shortener(Resizer):
    def run(self) -> None:
        """Write everything, the first boot sector last."""
        new, attribute = self._new, self._map()
        target = content(self._volume, attribute, self._old.map_size)
        self._set(target, new.clusters, 8 * new.map_size, used=True)
        self._change_sizes(attribute.runs)
        self._write_boot()
