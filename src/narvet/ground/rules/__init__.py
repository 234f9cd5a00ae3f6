"""The rules that findings follow, a module for each thing they are about; docs/findings.md is made from them."""

from __future__ import annotations

from narvet.ground.findings import declared
from narvet.ground.rules import (
    devices,
    disks,
    filesystems,
    guests,
    images,
    plugs,
    pools,
    seals,
    services,
    stores,
    tables,
)

_HEAD = """# The findings

A finding has a level (error, warning, note), a rule, a place, a message with the numbers, and a remedy. An error stops
`write` before anything is written. `narvet explain RULE` tells the same.

| rule | what it means | the way out |
|---|---|---|"""

RULES = declared()
__all__ = [
    "RULES",
    "devices",
    "disks",
    "filesystems",
    "guests",
    "images",
    "plugs",
    "pools",
    "seals",
    "services",
    "stores",
    "table",
    "tables",
]


def table() -> str:
    """Return docs/findings.md."""
    rows = [f"| `{name}` | {rule.meaning} | {rule.way_out} |" for name, rule in RULES.items()]
    return "\n".join([_HEAD, *rows, ""])
