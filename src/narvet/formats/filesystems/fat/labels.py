"""Labels of FAT32 and exFAT, changed where they stand: in the root, and in the boot sectors of a FAT32."""

from __future__ import annotations

from collections.abc import Callable

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import CannotChangeError
from narvet.formats.filesystems.fat.exfat_read import boot_of as exfat_boot
from narvet.formats.filesystems.fat.exfat_shape import LabelEntry
from narvet.formats.filesystems.fat.exfat_shape import shape_of as exfat_shape
from narvet.formats.filesystems.fat.fat32_read import boot_of as fat32_boot
from narvet.formats.filesystems.fat.fat32_shape import NO_LABEL, VOLUME_LABEL, BootSector, DirEntry
from narvet.formats.filesystems.fat.fat32_shape import shape_of as fat32_shape
from narvet.ground.errors import ImageError
from narvet.ground.units import MIB
from narvet.ground.values import replace

_ENTRY = 32
_LABEL, _NO_LABEL = 0x83, 0x03
_DELETED, _KINDS = 0xE5, 0x3F


def exfat_label(device: BlockDevice, label: str) -> None:
    """Write the label of an exFAT, in the root's first cluster."""
    boot = exfat_boot(device)
    if boot is None:
        raise ImageError("this is not exfat")
    shape = exfat_shape(boot)
    start = shape.start_of(boot.first_cluster_of_root)
    data = device.read(start, min(shape.unit, MIB))
    place = _first(data, lambda entry: entry[0] in (_LABEL, _NO_LABEL))
    place = _first(data, lambda entry: not entry[0] & 0x80) if place is None else place
    if place is None:
        raise CannotChangeError("the exfat has no place for a label in the start of its root", "let its guest do it")
    count = len(label.encode("utf-16-le")) // 2
    entry = LabelEntry(entry_type=_LABEL if label else _NO_LABEL, character_count=count, volume_label=label).encode()
    if data[place : place + _ENTRY] != entry:
        device.write(start + place, entry)


def fat32_label(device: BlockDevice, label: str) -> None:
    """Write the label of a FAT32, in the root's first cluster and in both boot sectors."""
    boot = fat32_boot(device)
    if boot is None:
        raise ImageError("this is not fat32")
    shape = fat32_shape(boot)
    name = label.encode().ljust(11) if label else NO_LABEL
    for sector in (boot.bk_boot_sec, 0) if boot.bk_boot_sec else (0,):
        copy = BootSector.decode(device.read(sector * shape.sector_size, BootSector.size))
        if copy.vol_lab != name:
            device.write(sector * shape.sector_size, replace(copy, vol_lab=name).encode())
    start = shape.start_of(boot.root_clus)
    data = device.read(start, shape.unit)
    place = _first(data, lambda entry: entry[0] not in (0, _DELETED) and entry[11] & _KINDS == VOLUME_LABEL)
    if place is None and not label:
        return
    place = _first(data, lambda entry: entry[0] in (0, _DELETED)) if place is None else place
    if place is None:
        raise CannotChangeError("the fat32 has no place for a label in the start of its root", "let its guest do it")
    old = DirEntry.decode(data[place : place + _ENTRY])
    kept = old if old.attr & _KINDS == VOLUME_LABEL else DirEntry()
    entry = replace(kept, name=name, attr=VOLUME_LABEL) if label else replace(old, name=b"\xe5" + old.name[1:])
    if entry.encode() != data[place : place + _ENTRY]:
        device.write(start + place, entry.encode())


def _first(data: bytes, fits: Callable[[bytes], bool]) -> int | None:
    """Return where the first entry lies that fits; behind the first one that was never used there are none."""
    for place in range(0, len(data), _ENTRY):
        entry = data[place : place + _ENTRY]
        if fits(entry):
            return place
        if not entry[0]:
            return None
    return None
