"""Guests' systems, and the registry that names them; a new system is a folder and one line here."""

from __future__ import annotations

from functools import cache
from importlib import import_module
from typing import cast

from narvet.guests.contract import GuestSystem

_REGISTRY = {"linux": "narvet.guests.linux.system", "windows": "narvet.guests.windows.system"}


SYSTEMS = tuple(_REGISTRY)


@cache
def guest_system(name: str) -> GuestSystem:
    """Return the system that a guest which runs `name` has."""
    return cast(GuestSystem, import_module(_REGISTRY[name]).SYSTEM)
