"""The terminal: consoles for what is asked for and for messages, and the marks it can show."""

from __future__ import annotations

import io
import os
import sys
from collections.abc import Iterable
from typing import Literal, TextIO, cast

from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment
from rich.text import Text
from rich.theme import Theme

from narvet.ground.errors import flat, printable
from narvet.ground.units import NO_BREAK
from narvet.ground.values import Frozen, replace

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


class Marks(Frozen):
    """The signs of a core, which differ by their pattern, plain for plain terminals; and whether that is `narrow`."""

    filesystem: str
    table: str
    unused: str
    arrow: str
    narrow: bool = False


UNICODE = Marks("▓▓", "╳╳", "  ", "→")
PLAIN = Marks("##", "xx", "  ", "->")


_NARROW = 60
"""Columns; with fewer, there is no place for sizes in both units."""

_HELD = "\ue000"
"""What stands for a no-break space while lines are broken, as rich breaks lines at every kind of space."""


class SafeConsole(Console):
    """A console that keeps numbers and units on one line, and passes on nothing that a terminal might obey."""

    def render(self, renderable: RenderableType, options: ConsoleOptions | None = None) -> Iterable[Segment]:
        """Yield the segments of what is to be printed, their texts made harmless."""
        for segment in super().render(_held(renderable), options):
            harmless = segment.control or segment.text.isprintable()
            yield segment if harmless else Segment(_released(segment.text), segment.style)


def _held(renderable: RenderableType) -> RenderableType:
    if isinstance(renderable, str):
        return renderable.replace(NO_BREAK, _HELD)
    if isinstance(renderable, Text) and NO_BREAK in renderable.plain:
        renderable = renderable.copy()
        renderable.plain = renderable.plain.replace(NO_BREAK, _HELD)
    return renderable


def _released(text: str) -> str:
    return printable(text.replace(_HELD, NO_BREAK), keep="\n")


class Flattened(io.TextIOBase):
    """A stream away from a terminal: each line is passed on flat, for programs that read it."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream
        self._line = ""

    @property
    def encoding(self) -> str:  # type: ignore[override]
        """The encoding of the stream itself."""
        return self._stream.encoding

    def isatty(self) -> bool:
        """Return that this is no terminal."""
        return False

    def write(self, text: str) -> int:
        """Pass on the lines that are complete."""
        *lines, self._line = (self._line + text).split("\n")
        for line in lines:
            self._stream.write(flat(line) + "\n")
        return len(text)

    def flush(self) -> None:
        """Pass on what is left."""
        self._stream.write(flat(self._line))
        self._line = ""
        self._stream.flush()


def console() -> Console:
    """Return the console for what was asked for, on standard output."""
    return _console(sys.stdout, _width())


def message_console() -> Console:
    """Return the console for messages and progress, on standard error."""
    return _console(sys.stderr, None)


def _console(stream: TextIO, width: int | None) -> Console:
    file = stream if stream.isatty() else cast(TextIO, Flattened(stream))
    return SafeConsole(
        theme=THEME, highlight=False, markup=False, emoji=False, width=width, color_system=_colours(), file=file
    )


def plain() -> bool:
    """Return whether no escape codes are wanted at all (NO_COLOR)."""
    return bool(os.environ.get("NO_COLOR"))


def _colours() -> Literal["auto"] | None:
    return None if plain() else "auto"


def marks() -> Marks:
    """Return the marks that standard output can show."""
    encoding = (getattr(sys.stdout, "encoding", "") or "ascii").lower()
    return replace(UNICODE if "utf" in encoding else PLAIN, narrow=console().width < _NARROW)


def _width() -> int | None:
    """Return None to follow the terminal; away from one, COLUMNS or a width that keeps every row on its line."""
    if sys.stdout.isatty():
        return None
    columns = os.environ.get("COLUMNS", "")
    return int(columns) if columns.isdigit() and int(columns) >= 40 else 110
