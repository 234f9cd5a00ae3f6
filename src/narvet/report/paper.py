"""A page to be handed over, as parts that can be set in any form: headings, texts, tables, steps, code, figures."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

if TYPE_CHECKING:
    from narvet.report.canvas import Canvas

Tone = Literal["plain", "good", "warning", "error"]


@dataclass(frozen=True)
class Heading:
    """A heading: the page's own at level 1, those of its parts at 2, of what is in them at 3."""

    text: str
    level: int = 2


@dataclass(frozen=True)
class Words:
    """A paragraph; its tone says whether it is good news."""

    text: str
    tone: Tone = "plain"


@dataclass(frozen=True)
class Rows:
    """A table; the columns whose numbers are in `right` are set to the right."""

    headings: Sequence[str]
    rows: Sequence[Sequence[str]]
    right: frozenset[int] = frozenset()


@dataclass(frozen=True)
class Steps:
    """Numbered steps."""

    steps: Sequence[str]


@dataclass(frozen=True)
class Code:
    """Lines that stand in a file, or are typed."""

    lines: Sequence[str]


@dataclass(frozen=True)
class Figure:
    """A picture, and what stands for it where none can be shown."""

    canvas: Canvas
    instead: Sequence[str]


Part = Heading | Words | Rows | Steps | Code | Figure
