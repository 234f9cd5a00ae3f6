"""The layout drawn: every disk as a core sample, every store as a measure, on paper that prints in grey.

Depth is the offset on the disk. What lies there is as tall as its size has digits, so that a gap of 1 MiB and a
filesystem of 2 TiB can both be read. Materials differ by pattern as well as by tone.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from narvet.block.publish import replace_content
from narvet.ground.units import show_binary, show_bytes
from narvet.ground.values import Frozen
from narvet.report.canvas import DIM, EARTH, INK, PAPER, STONE, Canvas, as_pdf, as_pngs, as_svg
from narvet.report.cores import Band, bands_found, bands_of

if TYPE_CHECKING:
    from narvet.model.estate import Disk
    from narvet.model.layout import PlannedDisk, StoreCapacity
    from narvet.model.pools import PlannedPool

ON_A_PAGE = 60
"""More disks than this are drawn on several pages."""

KINDS = ("png", "svg", "pdf")
_CAPTION = "Depth is the offset on the disk; each run is drawn as tall as its size has digits."
_PATTERNS = {"ext4": "dots", "xfs": "/", "swap": "-", "ntfs": "\\", "exfat": "/\\", "fat32": "-|"}
_OTHER = "|"
_ACROSS, _STORES = 4, 2  # cells in a row, stores in a cell
_CELL, _HEAD, _UNIT = 248.0, 50.0, 4.0  # points: width of a cell, its heading, and one unit of depth
_CORE_AT, _CORE_WIDTH = 76.0, 36.0
_TITLE, _FOOT = 50.0, 22.0
_LONGEST = 37  # letters beside a core
_LEAST = 2.4  # units that even the smallest run is tall
_TEXT = 6.8
_LABEL = 18.0  # that labels of a store stand apart


class Core(Frozen):
    """A disk to be drawn: what stands above it, and its runs."""

    name: str
    lines: tuple[str, ...]
    bands: tuple[Band, ...]


Cell = Core | tuple["StoreCapacity", ...]


def cores_of(disks: Sequence[PlannedDisk], pools: Sequence[PlannedPool] = ()) -> list[Core]:
    """Return disks as planned, with what pools have on them."""
    return [
        Core(
            disk.name,
            (_heading(disk.wanted), f"{disk.guest} at {disk.slot or 'no slot'}, in {disk.kept_in}"),
            bands_of(disk, pools),
        )
        for disk in disks
    ]


def cores_found(found: Sequence[Disk]) -> list[Core]:
    """Return images as found."""
    return [
        Core(Path(one.path).name, (_heading(one), f"{show_binary(one.image.stored)} stored"), bands_found(one))
        for one in found
    ]


def _heading(disk: Disk) -> str:
    image = disk.image
    return f"{show_binary(image.size)}, {image.format}, {image.space}; {disk.table_name}"


def targets(target: Path, cores: int, stores: int) -> list[Path]:
    """Return the files that a picture of so many disks and stores goes to: several if it has several pages."""
    pages = -(-(cores + -(-stores // _STORES)) // ON_A_PAGE)
    if pages <= 1 or target.suffix.lower() == ".pdf":
        return [target]
    return [target.with_name(f"{target.stem}-{number}{target.suffix}") for number in range(1, pages + 1)]


def draw(title: str, cores: Sequence[Core], stores: Sequence[StoreCapacity], target: Path) -> None:
    """Draw cores and stores to `target`, whose ending tells the kind; each file appears when it is complete.

    Raises:
        OSError: the system refused.
    """
    drawn = list(pages(title, cores, stores, ON_A_PAGE))
    if target.suffix.lower() == ".pdf":
        replace_content(target, as_pdf(drawn))
        return
    kept = map(as_svg, drawn) if target.suffix.lower() == ".svg" else as_pngs(drawn)
    for content, path in zip(kept, targets(target, len(cores), len(stores)), strict=True):
        replace_content(path, content)


def pages(title: str, cores: Sequence[Core], stores: Sequence[StoreCapacity], on_a_page: int) -> Iterator[Canvas]:
    """Yield cores and stores drawn, so many cells on a page; without a title there is no caption either."""
    cells: list[Cell] = [*cores, *(tuple(stores[at : at + _STORES]) for at in range(0, len(stores), _STORES))]
    for at in range(0, max(len(cells), 1), on_a_page):
        number = f", page {at // on_a_page + 1}" if len(cells) > on_a_page else ""
        yield _page(f"{title}{number}" if title else "", cells[at : at + on_a_page])


def _page(title: str, cells: Sequence[Cell]) -> Canvas:
    across = max(min(_ACROSS, len(cells)), 1)
    rows = [cells[at : at + across] for at in range(0, len(cells), across)]
    tall = [
        _HEAD + _UNIT * max((_height(one.bands) for one in row if isinstance(one, Core)), default=30) + 25
        for row in rows
    ]
    above, below = (_TITLE, _FOOT) if title else (8.0, 4.0)
    canvas = Canvas(_CELL * across + 22, math.ceil(above + sum(tall) + below))
    if title:
        canvas.text(18, 29, title, size=13, bold=True)
        canvas.text(18, canvas.height - 14, _CAPTION, size=_TEXT, color=DIM)
    top = above
    for row, height in zip(rows, tall, strict=True):
        headed = False
        for place, cell in enumerate(row):
            left = 11 + _CELL * place
            if isinstance(cell, Core):
                _core(canvas, cell, left, top)
                continue
            if not headed:
                canvas.text(left + 7, top + 9, "stores", size=9.5, bold=True)
            _stores(canvas, cell, left, top, height - _HEAD - 36)
            headed = True
        top += height
    return canvas


def _tall(size: int) -> float:
    """Return how tall a run is drawn: by the digits of its size, counted in sectors."""
    return _LEAST + 0.55 * math.log2(max(size, 512) / 512)


def _height(bands: Sequence[Band]) -> float:
    return sum(_tall(band.size) for band in bands)


def _core(canvas: Canvas, core: Core, left: float, top: float) -> None:
    """Draw one disk: its heading, then its runs with depth on the left and what lies there on the right."""
    canvas.text(left + 7, top + 9, core.name, size=9.5, bold=True)
    for line, text in enumerate(core.lines):
        canvas.text(left + 7, top + 23 + 11 * line, text, size=_TEXT, color=DIM)
    at, start = left + _CORE_AT, top + _HEAD
    depth = start
    for band in core.bands:
        tall = _UNIT * _tall(band.size)
        _run(canvas, band, at, depth, tall)
        canvas.line([(at - 4.5, depth), (at, depth)])
        canvas.text(at - 7, depth, show_bytes(band.start), size=_TEXT - 0.8, color=DIM, anchor="end")
        _say(canvas, band, at + _CORE_WIDTH + 7, depth + tall / 2, tall)
        depth += tall
    for edge, sign in ((start, -1), (depth, 1)):
        _torn(canvas, at, edge, sign)


def _say(canvas: Canvas, band: Band, x: float, middle: float, tall: float) -> None:
    """Write beside a run how long it is and what lies there, in as many lines as it has room for."""
    what = f"{band.name}  {band.what}" if band.name else band.what
    lines = [(f"{show_binary(band.size)}  {what}", INK if band.name else DIM)]
    if band.mount_point:
        lines.append((f"at {band.mount_point.partition(', ')[0]}", DIM))
    step = min(10.0, tall / len(lines))
    for number, (text, color) in enumerate(lines):
        canvas.text(x, middle + step * (number - (len(lines) - 1) / 2), _cut(text), size=_TEXT, color=color)


def _cut(text: str) -> str:
    return text if len(text) <= _LONGEST else f"{text[: _LONGEST - 1]}…"


def _run(canvas: Canvas, band: Band, at: float, depth: float, tall: float) -> None:
    fill = {"filesystem": EARTH, "table": STONE, "unused": "#ffffff"}[band.made_of]
    canvas.rectangle(at, depth, _CORE_WIDTH, tall, fill=fill)
    if band.made_of == "filesystem":
        canvas.pattern(_PATTERNS.get(band.kind, _OTHER), at, depth, _CORE_WIDTH, tall)
    for side in (at, at + _CORE_WIDTH):
        canvas.line([(side, depth), (side, depth + tall)], width=0.8, dotted=band.made_of == "unused")
    canvas.line([(at, depth), (at + _CORE_WIDTH, depth)], width=0.5)


def _torn(canvas: Canvas, at: float, edge: float, sign: int) -> None:
    """Draw the broken end of a core."""
    steps = 24
    waves = [
        (at + _CORE_WIDTH * step / steps, edge + sign * (1.4 + 0.9 * math.sin(step * 1.7) + 0.6 * math.sin(step * 4.1)))
        for step in range(steps + 1)
    ]
    canvas.area([*waves, (at + _CORE_WIDTH, edge), (at, edge)], fill=PAPER)
    canvas.line(waves, width=0.9)


def _stores(canvas: Canvas, stores: Sequence[StoreCapacity], left: float, top: float, tall: float) -> None:
    """Draw each store as a measure: its room, what is kept free at the rim, promised to disks, and present."""
    for number, store in enumerate(stores):
        _store(canvas, store, left + 14 + number * (_CELL - 22) / _STORES, top + _HEAD, tall)


def _store(canvas: Canvas, store: StoreCapacity, at: float, top: float, tall: float) -> None:
    most, foot, right = max(store.room, store.promised, 1), top + tall, at + _CORE_WIDTH

    def y(size: int) -> float:
        return foot - tall * size / most

    canvas.rectangle(at, y(store.promised), _CORE_WIDTH, foot - y(store.promised), fill=EARTH)
    canvas.rectangle(at, y(store.present), _CORE_WIDTH, foot - y(store.present), fill=STONE)
    rim = y(store.room - store.kept) - y(store.room)
    if store.kept:
        canvas.pattern("dots", at, y(store.room), _CORE_WIDTH, rim)
    canvas.line([(at, y(store.room)), (at, foot), (right, foot), (right, y(store.room))], width=1)
    marks = sorted(
        [(store.room, "room"), (store.promised, "promised"), (store.present, "present")], key=lambda mark: -mark[0]
    )
    for (size, word), reach in zip(marks, _apart([y(size) for size, _ in marks], top, foot - 4), strict=True):
        canvas.line([(right, y(size)), (right + 5, reach)])
        canvas.text(right + 7, reach - 4, show_binary(size), size=_TEXT - 0.8)
        canvas.text(right + 7, reach + 4, word, size=_TEXT - 0.8)
    told = f"{show_binary(-store.left)} too much" if store.left < 0 else f"{show_binary(store.left)} left"
    canvas.text(at, foot + 10, store.name, size=_TEXT, bold=True)
    if store.host:
        canvas.text(at, foot + 20, f"on {store.host}", size=_TEXT - 0.8, color=DIM)
    canvas.text(at, foot + (30 if store.host else 20), told, size=_TEXT - 0.8, bold=store.left < 0)


def _apart(places: Sequence[float], top: float, foot: float) -> list[float]:
    """Return where labels stand that are to be at ascending places: none above the top, below the foot, or too near."""
    found: list[float] = []
    for number, place in enumerate(places):
        least = found[-1] + _LABEL if found else top
        most = foot - _LABEL * (len(places) - 1 - number)
        found.append(min(max(place, least), most))
    return found
