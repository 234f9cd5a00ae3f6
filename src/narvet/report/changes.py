"""What is there and what it becomes, side by side, or one below the other where the values are long."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Literal

from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

from narvet.ground.units import show_both, show_bytes
from narvet.report.facts import where_of

if TYPE_CHECKING:
    from narvet.ground.findings import Place
    from narvet.model.estate import Partition
    from narvet.model.moves import Difference
    from narvet.report.terminal import Marks

_LONG = 48
"""Signs of two values above which they stand one below the other."""


def grid(*columns: Literal["left", "right"]) -> Table:
    """Return a table without lines whose columns are aligned as said."""
    table = Table(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    for justify in columns:
        table.add_column(justify=justify, overflow="fold", no_wrap=justify == "right")
    return table


def before_and_after(
    changes: Iterable[Difference], where: Place, partitions: Iterable[tuple[str, Partition]], marks: Marks
) -> RenderableType:
    """Return a row for each thing at a place that changes, and for what a guest can then fill, by the parts' names."""
    table, long = grid("left", "right", "left", "right", "left"), grid("right", "left")
    for one in changes:
        place = where_of(one).removeprefix(str(where)).strip(". ") or "size"
        becomes, was = one.shown
        if len(was) + len(becomes) > _LONG:
            long.add_row(place, was)
            long.add_row(marks.arrow, becomes)
            continue
        more = _more(one.asked - one.found) if isinstance(one.asked, int) and isinstance(one.found, int) else ""
        table.add_row(place, was, marks.arrow, becomes, Text(more, "dim"))
    for name, part in partitions:
        if part.resizing is not None and part.there is not None and part.filesystem is not None:
            before, after = part.there.available, part.filesystem.available
            what = f"{name} available to fill".strip()
            table.add_row(what, show_bytes(before), marks.arrow, show_bytes(after), Text(_more(after - before), "dim"))
    return Group(*(one for one in (long, table) if one.row_count))


def _more(size: int) -> str:
    """Return bytes that are won or lost."""
    return f"+ {show_both(size)}" if size >= 0 else f"- {show_both(-size)}"
