"""Image formats, and the registry that names them; a new format is a module and one line here."""

from __future__ import annotations

from functools import cache
from importlib import import_module
from typing import cast

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
