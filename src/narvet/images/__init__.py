"""Image formats, and the registry that names them; a new format is a module and one line here."""

from __future__ import annotations

from functools import cache
from importlib import import_module
from pathlib import Path
from typing import cast

from narvet.errors import RequestError
from narvet.images.contract import ImageFormat

_REGISTRY = {
    "raw": "narvet.images.raw",
    "vhd": "narvet.images.vhd",
    "vhdx": "narvet.images.vhdx",
    "qcow2": "narvet.images.qcow2",
    "vmdk": "narvet.images.vmdk",
}

NAMES = tuple(_REGISTRY)


@cache
def image_format(name: str) -> ImageFormat:
    """Return the image format called `name`."""
    return cast(ImageFormat, import_module(_REGISTRY[name]).FORMAT)


def format_for(path: Path, asked: str | None) -> ImageFormat:
    """Return the format asked for, or else the one that the ending of `path` names.

    Raises:
        RequestError: neither names one.
    """
    if asked is not None:
        return image_format(asked)
    for name in NAMES:
        if path.suffix.lower() in image_format(name).endings:
            return image_format(name)
    endings = ", ".join(image_format(name).suffix for name in NAMES)
    raise RequestError(f"{path}: its ending names no format; use one of {endings}, or --format")
