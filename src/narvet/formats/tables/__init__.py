"""Partition tables, and the registry that names them; a new table is a module and one line here."""

from __future__ import annotations

from functools import cache
from importlib import import_module
from typing import cast

from narvet.formats.tables.contract import TableFormat

_REGISTRY = {"gpt": "narvet.formats.tables.gpt", "mbr": "narvet.formats.tables.mbr"}

NAMES = tuple(_REGISTRY)


@cache
def table_format(name: str) -> TableFormat:
    """Return the table format called `name`."""
    return cast(TableFormat, import_module(_REGISTRY[name]).FORMAT)
