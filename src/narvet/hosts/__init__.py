"""Doors: the ways to a guest's hypervisor, and the registry that names them; a new door is a module and one line here.

A guest without a door has its disks plugged in by hand, which `plan.by_hand` lists.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, cast

if TYPE_CHECKING:
    from narvet.hosts.contract import DoorKind
    from narvet.model.plugs import Plug
    from narvet.sheet.machines import DoorForm

_REGISTRY = {"qmp": "narvet.hosts.qmp.door", "ovf": "narvet.hosts.ovf.door"}


@cache
def door_kind(name: str) -> DoorKind:
    """Return a kind of door by the key that a sheet has for it."""
    return cast("DoorKind", import_module(_REGISTRY[name]).DOOR)


def door_of(form: DoorForm, folder: Path) -> tuple[DoorKind, Path]:
    """Return the kind of a guest's door, and where it is; a relative path starts in `folder`."""
    key, place = next((key, place) for key in _REGISTRY if (place := getattr(form, key)) is not None)
    return door_kind(key), folder / place


def unkept_by(form: DoorForm, plug: Plug) -> Iterator[str]:
    """Yield the keys of a disk that say something which its guest's door cannot pass on."""
    kind, _ = door_of(form, Path())
    yield from kind.unkept(plug)
