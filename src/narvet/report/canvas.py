"""A sheet of paper to draw on, with the origin at its upper left, kept as PDF, PNG or SVG. Lengths are points."""

from __future__ import annotations

import io
import math
from collections.abc import Iterator, Sequence
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

if TYPE_CHECKING:
    from reportlab.graphics.shapes import Drawing

PAPER, INK, DIM, EARTH, STONE = "#fbfaf7", "#22211f", "#77736b", "#e6dac0", "#8d8577"
FONT, BOLD = "DejaVuSans", "DejaVuSans-Bold"
Anchor = Literal["start", "middle", "end"]
_DOTS_PER_POINT = 4 / 3 * 1.5
_STEP = 4.2  # points between the lines of a pattern
_FAMILY = "'DejaVu Sans',Verdana,sans-serif"


@lru_cache
def know_fonts() -> None:
    """Have the fonts known that are drawn and set with."""
    from reportlab.lib.fonts import addMapping
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFont

    folder = Path(__file__).with_name("fonts")
    for name in (FONT, BOLD):
        pdfmetrics.registerFont(TTFont(name, folder / f"{name}.ttf"))
    for bold in (0, 1):
        for italic in (0, 1):
            addMapping(FONT, bold, italic, BOLD if bold else FONT)


class Canvas:
    """Paper of a width and a height, and what is drawn on it."""

    def __init__(self, width: float, height: float) -> None:
        from reportlab.graphics.shapes import Drawing

        know_fonts()
        self.width, self.height = width, height
        self.drawing: Drawing = Drawing(width, height)
        self.rectangle(0, 0, width, height, fill=PAPER)

    def text(
        self, x: float, y: float, text: str, *, size: float, color: str = INK, bold: bool = False,
        anchor: Anchor = "start",
    ) -> None:  # fmt: skip
        """Write a line of text, its middle at the height `y`."""
        from reportlab.graphics.shapes import String

        font = BOLD if bold else FONT
        low = self.height - y - size * 0.36
        self.drawing.add(String(x, low, text, fontName=font, fontSize=size, fillColor=_color(color), textAnchor=anchor))

    def line(
        self, points: Sequence[tuple[float, float]], *, color: str = INK, width: float = 0.6, dotted: bool = False
    ) -> None:
        """Draw a line through points."""
        from reportlab.graphics.shapes import PolyLine

        flat = [value for x, y in points for value in (x, self.height - y)]
        looks: dict[str, Any] = {"strokeDashArray": (width, width * 2)} if dotted else {}
        self.drawing.add(PolyLine(flat, strokeColor=_color(color), strokeWidth=width, **looks))

    def area(self, points: Sequence[tuple[float, float]], *, fill: str) -> None:
        """Fill what points enclose."""
        from reportlab.graphics.shapes import Polygon

        flat = [value for x, y in points for value in (x, self.height - y)]
        self.drawing.add(Polygon(flat, fillColor=_color(fill), strokeColor=None, strokeWidth=0))

    def rectangle(self, x: float, y: float, width: float, height: float, *, fill: str) -> None:
        """Fill a rectangle, given by its upper left corner."""
        from reportlab.graphics.shapes import Rect

        low = self.height - y - height
        looks: dict[str, Any] = {"strokeColor": None, "strokeWidth": 0}
        self.drawing.add(Rect(x, low, width, height, fillColor=_color(fill), **looks))

    def pattern(self, kind: str, x: float, y: float, width: float, height: float, *, color: str = STONE) -> None:
        """Draw a pattern in a rectangle: any of / \\ - | for lines that way, or dots."""
        from reportlab.graphics.shapes import Path as Strokes

        dots = kind == "dots"
        looks: dict[str, Any] = {"strokeDashArray": (0.9, _STEP - 0.9)} if dots else {}
        strokes = Strokes(fillColor=None, strokeColor=_color(color), strokeWidth=0.9 if dots else 0.5, **looks)
        for sign in "." if dots else kind:
            for (left, top), (right, low) in _lines(sign, width, height):
                strokes.moveTo(x + left, self.height - y - top)
                strokes.lineTo(x + right, self.height - y - low)
        self.drawing.add(strokes)


def _lines(sign: str, width: float, height: float) -> Iterator[tuple[tuple[float, float], tuple[float, float]]]:
    """Yield the lines of a pattern within a rectangle."""
    match sign:
        case ".":
            rows = [(row + 0.5) * _STEP for row in range(int(height / _STEP))]
            yield from (((_STEP / 2 * (number % 2), at), (width, at)) for number, at in enumerate(rows))
        case "-":
            count = max(int(height / _STEP), 1)
            yield from (
                ((0, (row + 0.5) * height / count), (width, (row + 0.5) * height / count)) for row in range(count)
            )
        case "|":
            count = max(int(width / _STEP), 1)
            yield from (((at, 0), (at, height)) for at in ((column + 0.5) * width / count for column in range(count)))
        case _:
            step = _STEP * math.sqrt(2)
            for number in range(1, int((width + height) / step) + 1):
                reach = number * step
                low = (max(0.0, reach - height), min(reach, height))
                high = (min(reach, width), max(0.0, reach - width))
                yield (low, high) if sign == "/" else ((width - low[0], low[1]), (width - high[0], high[1]))


def as_pdf(pages: Sequence[Canvas]) -> bytes:
    """Return pages as one PDF."""
    from reportlab.graphics.renderPDF import draw
    from reportlab.pdfgen.canvas import Canvas as Pdf

    content = io.BytesIO()
    pdf = Pdf(content, invariant=1, pageCompression=1)
    pdf.setTitle("Narvet")
    for page in pages:
        pdf.setPageSize((page.width, page.height))
        draw(page.drawing, pdf, 0, 0)
        pdf.showPage()
    pdf.save()
    return content.getvalue()


def as_pngs(pages: Sequence[Canvas]) -> Iterator[bytes]:
    """Yield each page as a PNG."""
    import pypdfium2

    document = pypdfium2.PdfDocument(as_pdf(pages))
    for page in document:
        content = io.BytesIO()
        page.render(scale=_DOTS_PER_POINT if len(pages) == 1 else _DOTS_PER_POINT * 0.75).to_pil().save(
            content, "PNG", compress_level=1
        )
        yield content.getvalue()
    document.close()


def as_svg(page: Canvas) -> bytes:
    """Return a page as an SVG."""
    from reportlab.graphics.renderSVG import drawToString

    text = str(drawToString(page.drawing))
    return text.replace(f"{BOLD};", f"{_FAMILY}; font-weight: bold;").replace(f"{FONT};", f"{_FAMILY};").encode()


@lru_cache
def _color(name: str) -> Any:
    from reportlab.lib.colors import HexColor

    return HexColor(name)
