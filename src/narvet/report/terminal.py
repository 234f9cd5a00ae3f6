"""The terminal: consoles for what is asked for and for messages, and the marks it can show."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment
from rich.theme import Theme

from narvet.errors import printable

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


class SafeConsole(Console):
    """A console that passes on nothing of a text that a terminal might obey, wherever the text comes from."""

    def render(self, renderable: RenderableType, options: ConsoleOptions | None = None) -> Iterable[Segment]:
        """Yield the segments of what is to be printed, their texts made harmless."""
        for segment in super().render(renderable, options):
            harmless = segment.control or segment.text.isprintable()
            yield segment if harmless else Segment(printable(segment.text, keep="\n"), segment.style)


def console() -> Console:
    """Return the console for what was asked for, on standard output."""
    return SafeConsole(
        theme=THEME, highlight=False, markup=False, emoji=False, width=_width(), color_system=_colours()
    )  # fmt: skip


def message_console() -> Console:
    """Return the console for messages and progress, on standard error."""
    return SafeConsole(theme=THEME, highlight=False, markup=False, emoji=False, stderr=True, color_system=_colours())


def plain() -> bool:
    """Return whether no escape codes are wanted at all (NO_COLOR)."""
    return bool(os.environ.get("NO_COLOR"))


def _colours() -> Literal["auto"] | None:
    return None if plain() else "auto"


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
