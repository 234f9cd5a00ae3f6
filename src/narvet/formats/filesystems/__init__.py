"""Filesystems, and the registry that names them; a new filesystem is a folder and one line here."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache
from importlib import import_module
from typing import NamedTuple, cast

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import Filesystem


class _Known(NamedTuple):
    """A filesystem's module, and the bytes by which a disk may hold it, so that others need not be loaded."""

    module: str
    offset: int
    signature: bytes


_REGISTRY = {
    "ext4": _Known("narvet.formats.filesystems.ext4", 1080, b"\x53\xef"),
    "xfs": _Known("narvet.formats.filesystems.xfs", 0, b"XFSB"),
    "swap": _Known("narvet.formats.filesystems.swap", 4086, b"SWAPSPACE2"),
    "ntfs": _Known("narvet.formats.filesystems.ntfs", 3, b"NTFS    "),
    "exfat": _Known("narvet.formats.filesystems.fat.exfat", 3, b"EXFAT   "),
    "fat32": _Known("narvet.formats.filesystems.fat.fat32", 510, b"\x55\xaa"),
}

NAMES = tuple(_REGISTRY)


@cache
def filesystem(name: str) -> Filesystem:
    """Return the filesystem called `name`."""
    return cast(Filesystem, import_module(_REGISTRY[name].module).FILESYSTEM)


def candidates(device: BlockDevice) -> Iterator[Filesystem]:
    """Yield the filesystems whose signature a device carries."""
    start = device.read(0, min(device.size, 4096))
    for name, known in _REGISTRY.items():
        if start[known.offset : known.offset + len(known.signature)] == known.signature:
            yield filesystem(name)
