"""A layout as a table that shows itself in notebooks."""

from __future__ import annotations

from collections.abc import Iterable
from html import escape

from narvet.ground.values import Frozen
from narvet.model.layout import Layout
from narvet.report.table import HEADINGS, Cell, rows_of


class Table(Frozen):
    """Rows of cells under headings; sizes are bytes."""

    headings: tuple[str, ...]
    rows: tuple[tuple[Cell, ...], ...]

    def _repr_html_(self) -> str:
        """Return the table as notebooks show it."""
        head = "".join(f"<th>{escape(one)}</th>" for one in self.headings)
        body = "".join(f"<tr>{''.join(f'<td>{_shown(cell)}</td>' for cell in row)}</tr>" for row in self.rows)
        return f"<table><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>"

    def __str__(self) -> str:
        rows = [self.headings, *(tuple(map(_text, row)) for row in self.rows)]
        widths = [max(map(len, column)) for column in zip(*rows, strict=True)]
        return "\n".join("  ".join(map(str.ljust, row, widths)).rstrip() for row in rows)


def table(layout: Layout, disks: Iterable[str] = ()) -> Table:
    """Return a row for each partition of a layout, of the disks of these names if any are given."""
    names = set(disks)
    chosen = [disk for disk in layout.disks if not names or disk.name in names]
    return Table(HEADINGS, tuple(rows_of(chosen, () if names else layout.pools)))


def _text(cell: Cell) -> str:
    return "" if cell is None else str(cell)


def _shown(cell: Cell) -> str:
    return escape(f"{cell:,}".replace(",", "\N{NO-BREAK SPACE}") if isinstance(cell, int) else _text(cell))
