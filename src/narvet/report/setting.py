"""A page set as one file that needs no other: HTML, Markdown or PDF."""

from __future__ import annotations

import base64
import io
import re
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any
from xml.sax.saxutils import escape

from narvet.block.publish import replace_content
from narvet.ground.errors import RequestError, flat, printable
from narvet.report.canvas import BOLD, DIM, FONT, INK, STONE, as_svg, know_fonts
from narvet.report.paper import Code, Figure, Heading, Part, Rows, Steps, Words

if TYPE_CHECKING:
    from reportlab.platypus import Flowable

ENDINGS = (".html", ".md", ".pdf")
_MARGIN = 40.0
_SIZES = {1: 17.0, 2: 12.0, 3: 10.0}
_TONES = {"plain": INK, "good": "#3d6b3a", "warning": "#8a5a00", "error": "#9c2a1f"}
_LINES_AT_ONCE = 60


def set_page(parts: Iterable[Part], to: Path) -> None:
    """Write a page to a file, all at once; its ending tells the form.

    Raises:
        RequestError: the ending is of none of the forms.
        OSError: the system refused.
    """
    check_ending(to)
    every = tuple(parts)
    content = {".html": _html, ".md": _markdown, ".pdf": _pdf}[to.suffix.lower()](every)
    replace_content(to, content)


def check_ending(to: Path) -> None:
    """Raise RequestError for a file whose ending tells no form."""
    if to.suffix.lower() not in ENDINGS:
        raise RequestError(f"{to}: a report ends in .html, .md or .pdf")


def _title(parts: Sequence[Part]) -> str:
    return next((part.text for part in parts if isinstance(part, Heading)), "")


def _html(parts: Sequence[Part]) -> bytes:
    from jinja2 import Environment, PackageLoader

    pages = Environment(loader=PackageLoader("narvet.report"), autoescape=True)
    pages.filters["svg"] = lambda figure: base64.b64encode(as_svg(figure.canvas)).decode()
    text = pages.get_template("handover.html").render(title=_title(parts), parts=parts)
    return printable(text, keep="\n").encode("utf-8", "backslashreplace")


def _markdown(parts: Sequence[Part]) -> bytes:
    text = "\n".join(line for part in parts for line in (*_lines(part), ""))
    return flat(printable(text, keep="\n")).encode("utf-8", "backslashreplace")


def _lines(part: Part) -> Iterator[str]:
    match part:
        case Heading():
            yield f"{'#' * part.level} {_plain(part.text)}"
        case Words():
            yield f"**{part.tone}:** {_plain(part.text)}" if part.tone in ("warning", "error") else _plain(part.text)
        case Steps():
            yield from (f"{number}. {_plain(step)}" for number, step in enumerate(part.steps, 1))
        case Code() | Figure():
            lines = part.lines if isinstance(part, Code) else part.instead
            longest = max((len(run) for line in lines for run in re.findall("`+", line)), default=0)
            fence = "`" * max(3, longest + 1)
            yield from (fence, *lines, fence)
        case Rows():
            yield f"| {' | '.join(part.headings)} |"
            yield "|" + "|".join("---:" if place in part.right else "---" for place in range(len(part.headings))) + "|"
            yield from (f"| {' | '.join(map(_plain, row))} |" for row in part.rows)


def _plain(text: str) -> str:
    """Return a text that Markdown shows as it is."""
    text = text.replace("\n", " ")
    return "".join(f"\\{sign}" if sign in "\\`*_[]<>|#" else sign for sign in text)


def _pdf(parts: Sequence[Part]) -> bytes:
    from reportlab.lib.pagesizes import A4, landscape
    from reportlab.platypus import SimpleDocTemplate

    know_fonts()
    content = io.BytesIO()
    size = landscape(A4)
    document = SimpleDocTemplate(
        content, pagesize=size, title=printable(_title(parts)), author="Narvet", invariant=1,
        leftMargin=_MARGIN, rightMargin=_MARGIN, topMargin=_MARGIN, bottomMargin=_MARGIN,
    )  # fmt: skip
    wide, high = size[0] - 2 * _MARGIN - 12, size[1] - 2 * _MARGIN - 12
    document.build(
        [one for part in parts for one in _flow(part, wide, high)], onFirstPage=_numbered, onLaterPages=_numbered
    )
    return content.getvalue()


def _numbered(canvas: Any, document: Any) -> None:
    canvas.setFont(FONT, 7)
    canvas.setFillColor(DIM)
    canvas.drawRightString(document.pagesize[0] - _MARGIN, _MARGIN / 2, str(canvas.getPageNumber()))


def _flow(part: Part, wide: float, high: float) -> Iterator[Flowable]:
    """Yield what a part is set as."""
    from reportlab.platypus import CondPageBreak, Paragraph, Preformatted, Spacer

    match part:
        case Heading():
            yield CondPageBreak(90)
            yield Spacer(1, 12)
            yield Paragraph(_markup(part.text), _style(_SIZES[part.level], bold=True))
            yield Spacer(1, 4)
        case Words():
            yield Paragraph(_markup(part.text), _style(8.5, color=_TONES[part.tone]))
            yield Spacer(1, 3)
        case Steps():
            for number, step in enumerate(part.steps, 1):
                yield Paragraph(f"{number}. {_markup(step)}", _style(8.5, indent=14))
        case Code():
            for at in range(0, len(part.lines), _LINES_AT_ONCE):
                lines = "\n".join(map(printable, part.lines[at : at + _LINES_AT_ONCE]))
                yield Preformatted(lines, _style(7), maxLineLength=150, newLineChars="  ")
            yield Spacer(1, 4)
        case Figure():
            scale = min(wide / part.canvas.width, high / part.canvas.height, 1)
            drawing = part.canvas.drawing
            drawing.scale(scale, scale)
            drawing.width, drawing.height = part.canvas.width * scale, part.canvas.height * scale
            yield drawing
            yield Spacer(1, 6)
        case Rows():
            yield _grid(part, wide)
            yield Spacer(1, 4)


def _grid(part: Rows, wide: float) -> Flowable:
    """Return a table whose columns are as wide as their texts, all of them together no wider than the page."""
    from reportlab.lib.colors import HexColor
    from reportlab.platypus import LongTable, Paragraph

    cells = [list(part.headings), *part.rows]
    longest = [max(min(len(row[place]), 46) for row in cells) + 2 for place in range(len(part.headings))]
    widths = [min(wide / sum(longest), 4.6) * count for count in longest]
    head = [
        Paragraph(_markup(text), _style(7, color=DIM, right=place in part.right))
        for place, text in enumerate(part.headings)
    ]
    body = [
        [
            Paragraph(_markup(text), _style(7, bold=place == 0, right=place in part.right))
            for place, text in enumerate(row)
        ]
        for row in part.rows
    ]
    table = LongTable([head, *body], colWidths=widths, repeatRows=1, hAlign="LEFT")
    table.setStyle(
        [
            ("VALIGN", (0, 0), (-1, -1), "TOP"),
            ("LINEBELOW", (0, 0), (-1, 0), 0.8, HexColor(INK)),
            ("LINEBELOW", (0, 1), (-1, -1), 0.3, HexColor(STONE)),
            ("LEFTPADDING", (0, 0), (-1, -1), 0),
            ("RIGHTPADDING", (0, 0), (-1, -1), 5),
            ("TOPPADDING", (0, 0), (-1, -1), 2),
            ("BOTTOMPADDING", (0, 0), (-1, -1), 2),
        ]
    )
    return table


def _markup(text: str) -> str:
    return escape(printable(text))


def _style(size: float, *, bold: bool = False, color: str = INK, indent: float = 0, right: bool = False) -> Any:
    from reportlab.lib.colors import HexColor
    from reportlab.lib.enums import TA_LEFT, TA_RIGHT
    from reportlab.lib.styles import ParagraphStyle

    return ParagraphStyle(
        "narvet", fontName=BOLD if bold else FONT, fontSize=size, leading=size * 1.35, textColor=HexColor(color),
        leftIndent=indent, firstLineIndent=-indent, alignment=TA_RIGHT if right else TA_LEFT, splitLongWords=1,
    )  # fmt: skip
