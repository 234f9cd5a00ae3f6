"""Image formats, and the registry that names them; a new format is a module and one row here."""

from __future__ import annotations

from functools import cache
from importlib import import_module
from pathlib import Path
from typing import NamedTuple, cast

from narvet.block.contract import BlockDevice
from narvet.formats.images.contract import ImageFormat
from narvet.ground.errors import RequestError


class _Known(NamedTuple):
    """A format's module, so that others need not be loaded, and how its images are recognised.

    `endings` stand for the format, the first is that of new images. `signatures` are bytes at an offset, from the end
    where that is negative.
    """

    module: str
    endings: tuple[str, ...]
    signatures: tuple[tuple[int, bytes], ...] = ()


_REGISTRY = {
    "raw": _Known("narvet.formats.images.raw", (".raw",)),
    "vhd": _Known("narvet.formats.images.vhd", (".vhd", ".avhd", ".vpc"), ((-512, b"conectix"), (0, b"conectix"))),
    "vhdx": _Known("narvet.formats.images.vhdx", (".vhdx", ".avhdx"), ((0, b"vhdxfile"),)),
    "qcow2": _Known("narvet.formats.images.qcow2", (".qcow2",), ((0, b"QFI\xfb"),)),
    "vmdk": _Known("narvet.formats.images.vmdk", (".vmdk",), ((0, b"KDMV"), (0, b"# Disk DescriptorFile"))),
}

NAMES = tuple(_REGISTRY)
_ORDERED = {"volume": _Known("narvet.formats.images.volume", (".volume",))}
"""What nobody chooses: it follows from a store with a service."""
_ALL = {**_REGISTRY, **_ORDERED}


@cache
def image_format(name: str) -> ImageFormat:
    """Return the image format called `name`."""
    return cast(ImageFormat, import_module(_ALL[name].module).FORMAT)


def ending_of(name: str) -> str:
    """Return the ending of new images of a format."""
    return _ALL[name].endings[0]


def format_by_ending(path: Path) -> str | None:
    """Return the name of the format that a name's ending stands for, None where it stands for none."""
    ending = path.suffix.lower()
    return next((name for name, known in _ALL.items() if ending in known.endings), None)


def format_by_content(file: BlockDevice) -> str | None:
    """Return the name of the format that a file's content claims to be of, sound or not; None if it claims nothing."""
    for name, known in _REGISTRY.items():
        for offset, signature in known.signatures:
            start = offset if offset >= 0 else file.size + offset
            if 0 <= start <= file.size - len(signature) and file.read(start, len(signature)) == signature:
                return name
    return None


def format_for(path: Path, asked: str | None) -> ImageFormat:
    """Return the format asked for, or else the one that the ending of `path` names.

    Raises:
        RequestError: neither names one.
    """
    name = asked or format_by_ending(path)
    if name is not None:
        return image_format(name)
    endings = ", ".join(known.endings[0] for known in _REGISTRY.values())
    raise RequestError(f"{path}: its ending names no format; use one of {endings}, or --format")
