"""A page to be handed over, as parts that can be set in any form: headings, texts, tables, steps, code, figures."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Literal

from narvet.ground.values import Frozen

if TYPE_CHECKING:
    from narvet.report.canvas import Canvas

Tone = Literal["plain", "good", "warning", "error"]


class Heading(Frozen):
    """A heading: the page's own at level 1, those of its parts at 2, of what is in them at 3."""

    text: str
    level: int = 2


class Words(Frozen):
    """A paragraph; its tone says whether it is good news."""

    text: str
    tone: Tone = "plain"


class Rows(Frozen):
    """A table; the columns whose numbers are in `right` are set to the right."""

    headings: Sequence[str]
    rows: Sequence[Sequence[str]]
    right: frozenset[int] = frozenset()


class Steps(Frozen):
    """Numbered steps."""

    steps: Sequence[str]


class Code(Frozen):
    """Lines that stand in a file, or are typed."""

    lines: Sequence[str]


class Figure(Frozen):
    """A picture, and what stands for it where none can be shown."""

    canvas: Canvas
    instead: Sequence[str]


Part = Heading | Words | Rows | Steps | Code | Figure
