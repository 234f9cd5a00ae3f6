"""Filesystems, and the registry that names them; a new filesystem is a folder and one line here."""

from __future__ import annotations

from functools import cache
from importlib import import_module
from typing import Any, cast

from narvet.filesystems.contract import Filesystem

_REGISTRY = {
    "ext4": "narvet.filesystems.ext4",
    "xfs": "narvet.filesystems.xfs",
    "swap": "narvet.filesystems.swap",
    "fat32": "narvet.filesystems.fat.fat32",
    "exfat": "narvet.filesystems.fat.exfat",
}

NAMES = tuple(_REGISTRY)


@cache
def filesystem(name: str) -> Filesystem[Any]:
    """Return the filesystem called `name`."""
    return cast("Filesystem[Any]", import_module(_REGISTRY[name]).FILESYSTEM)
