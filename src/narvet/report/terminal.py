"""The terminal: consoles for what is asked for and for messages, and the marks it can show."""

from __future__ import annotations

import os
import sys
from dataclasses import dataclass

from rich.console import Console
from rich.theme import Theme

THEME = Theme(
    {
        "error": "bold red",
        "warning": "bold yellow",
        "note": "cyan",
        "dim": "bright_black",
        "name": "bold",
        "filesystem": "green",
        "table": "magenta",
        "unused": "bright_black",
    }
)


@dataclass(frozen=True)
class Marks:
    """The signs of a core: told apart by their pattern, so that they print in grey; plain ones where need be."""

    filesystem: str
    table: str
    unused: str
    arrow: str


UNICODE = Marks("▓▓", "╳╳", "  ", "→")
PLAIN = Marks("##", "xx", "  ", "->")


def console() -> Console:
    """Return the console for what was asked for, on standard output."""
    return Console(theme=THEME, highlight=False, markup=False, emoji=False, width=_width())


def message_console() -> Console:
    """Return the console for messages and progress, on standard error."""
    return Console(theme=THEME, highlight=False, markup=False, emoji=False, stderr=True)


def marks() -> Marks:
    """Return the marks that standard output can show."""
    encoding = (getattr(sys.stdout, "encoding", "") or "ascii").lower()
    return UNICODE if "utf" in encoding else PLAIN


def _width() -> int | None:
    """Return None to follow the terminal; away from one, COLUMNS or a width that keeps every row on its line."""
    if sys.stdout.isatty():
        return None
    columns = os.environ.get("COLUMNS", "")
    return int(columns) if columns.isdigit() and int(columns) >= 40 else 110
