"""The layout drawn: every disk as a core sample, every store as a measure, on paper that prints in grey.

Depth is the offset on the disk. What lies there is as tall as its size has digits, so that a gap of 1 MiB and a
filesystem of 2 TiB can both be read. Materials differ by pattern as well as by tone.
"""

from __future__ import annotations

import io
import math
import warnings
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from narvet.block.publish import replace_content
from narvet.ground.units import show_binary, show_bytes
from narvet.report.cores import Band, bands_found, bands_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from narvet.model.estate import Disk
    from narvet.model.layout import PlannedDisk, StoreCapacity

MOST_CORES = 60
"""More disks than this would be too small to be read; name those that matter."""

KINDS = ("png", "svg")
_CAPTION = "Depth is the offset on the disk; each run is drawn as tall as its size has digits."
_PAPER, _INK, _DIM, _EARTH, _STONE = "#fbfaf7", "#22211f", "#77736b", "#e6dac0", "#8d8577"
_PATTERNS = {"ext4": "...", "xfs": "///", "swap": "---", "ntfs": "\\\\\\", "exfat": "xxx", "fat32": "+++"}
_OTHER = "ooo"
_ACROSS, _STORES = 4, 2  # cells in a row, stores in a cell
_CELL, _HEAD, _UNIT = 3.45, 0.7, 0.056  # inches: width of a cell, its heading, and one unit of depth
_CORE_AT, _CORE_WIDTH = 1.05, 0.5
_LONGEST = 37  # letters beside a core
_LEAST = 2.4  # units that even the smallest run is tall
_TEXT = 6.8  # points
_LABEL = 0.25  # inches that labels of a store stand apart


@dataclass(frozen=True)
class Core:
    """A disk to be drawn: what stands above it, and its runs."""

    name: str
    lines: tuple[str, ...]
    bands: tuple[Band, ...]


def cores_of(disks: Sequence[PlannedDisk]) -> list[Core]:
    """Return disks as planned."""
    return [
        Core(
            disk.name,
            (_heading(disk.wanted), f"{disk.guest} at {disk.slot or 'no slot'}, in {disk.store}"),
            bands_of(disk),
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


def draw(title: str, cores: Sequence[Core], stores: Sequence[StoreCapacity], target: Path) -> None:
    """Draw cores and stores to `target`, whose ending tells the kind; the file appears when it is complete.

    Raises:
        OSError: the system refused.
    """
    import matplotlib as mpl
    from matplotlib.figure import Figure

    kept = [stores[at : at + _STORES] for at in range(0, len(stores), _STORES)]
    cells: list[Core | Sequence[StoreCapacity]] = [*cores, *kept]
    across = min(_ACROSS, len(cells))
    rows = [
        [_height(cell.bands) for cell in cells[start : start + across] if isinstance(cell, Core)]
        for start in range(0, len(cells), across)
    ]
    tall = [_HEAD + _UNIT * max(heights, default=30) + 0.35 for heights in rows]
    width, height = _CELL * across + 0.3, sum(tall) + 1.0
    style: Any = {
        "svg.hashsalt": "narvet",
        "hatch.linewidth": 0.5,
        "font.family": "DejaVu Sans",
        "svg.fonttype": "none",
        "text.parse_math": False,
    }
    with mpl.rc_context(style):
        figure = Figure(figsize=(width, height), facecolor=_PAPER, dpi=100)
        axes = figure.add_axes((0, 0, 1, 1))
        axes.set_xlim(0, width)
        axes.set_ylim(height, 0)
        axes.axis("off")
        axes.text(0.25, 0.4, title, size=13, weight="bold", color=_INK, va="center")
        for number, cell in enumerate(cells):
            left, top = 0.15 + _CELL * (number % across), 0.7 + sum(tall[: number // across])
            if isinstance(cell, Core):
                _core(axes, cell, left, top)
            else:
                _stores(axes, cell, left, top, tall[number // across] - _HEAD - 0.5)
        axes.text(0.25, height - 0.2, _CAPTION, size=_TEXT, color=_DIM, va="center")
        metadata: dict[str, Any] = {"Date": None} if target.suffix.lower() == ".svg" else {"Software": None}
        content = io.BytesIO()
        with warnings.catch_warnings():  # of letters that the font does not have: they become boxes
            warnings.simplefilter("ignore")
            figure.savefig(content, format=target.suffix[1:].lower(), metadata=metadata, facecolor=_PAPER)
        replace_content(target, content.getvalue())


def _tall(size: int) -> float:
    """Return how tall a run is drawn: by the digits of its size, counted in sectors."""
    return _LEAST + 0.55 * math.log2(max(size, 512) / 512)


def _height(bands: Sequence[Band]) -> float:
    return sum(_tall(band.size) for band in bands)


def _core(axes: Axes, core: Core, left: float, top: float) -> None:
    """Draw one disk: its heading, then its runs with depth on the left and what lies there on the right."""
    axes.text(left + 0.1, top + 0.12, core.name, size=9.5, weight="bold", color=_INK, va="center")
    for line, text in enumerate(core.lines):
        axes.text(left + 0.1, top + 0.32 + 0.15 * line, text, size=_TEXT, color=_DIM, va="center")
    at, start = left + _CORE_AT, top + _HEAD
    depth = start
    for band in core.bands:
        tall = _UNIT * _tall(band.size)
        _run(axes, band, at, depth, tall)
        axes.plot([at - 0.06, at], [depth, depth], color=_INK, linewidth=0.6)
        axes.text(at - 0.1, depth, show_bytes(band.start), size=_TEXT - 0.8, color=_DIM, ha="right", va="center")
        _say(axes, band, at + _CORE_WIDTH + 0.1, depth + tall / 2, tall)
        depth += tall
    for edge, sign in ((start, -1), (depth, 1)):
        _torn(axes, at, edge, sign)


def _say(axes: Axes, band: Band, x: float, middle: float, tall: float) -> None:
    """Write beside a run how long it is and what lies there, in as many lines as it has room for."""
    dim = _INK if band.name else _DIM
    what = f"{band.name}  {band.what}" if band.name else band.what
    lines = [(f"{show_binary(band.size)}  {what}", dim)]
    if band.mount_point:
        lines.append((_cut(f"at {band.mount_point.partition(', ')[0]}"), _DIM))
    step = min(0.14, tall / len(lines))
    for number, (text, color) in enumerate(lines):
        y = middle + step * (number - (len(lines) - 1) / 2)
        axes.text(x, y, _cut(text), size=_TEXT, color=color, va="center", weight="normal")


def _cut(text: str) -> str:
    return text if len(text) <= _LONGEST else f"{text[: _LONGEST - 1]}…"


def _run(axes: Axes, band: Band, at: float, depth: float, tall: float) -> None:
    from matplotlib.patches import Rectangle

    looks: dict[str, Any] = {
        "filesystem": {"facecolor": _EARTH, "hatch": _PATTERNS.get(band.kind, _OTHER), "edgecolor": _STONE},
        "table": {"facecolor": _STONE, "edgecolor": _STONE},
        "unused": {"facecolor": "white", "edgecolor": "none"},
    }[band.made_of]
    axes.add_patch(Rectangle((at, depth), _CORE_WIDTH, tall, linewidth=0, **looks))
    for side in (at, at + _CORE_WIDTH):
        dotted = ":" if band.made_of == "unused" else "-"
        axes.plot([side, side], [depth, depth + tall], color=_INK, linewidth=0.8, linestyle=dotted)
    axes.plot([at, at + _CORE_WIDTH], [depth, depth], color=_INK, linewidth=0.5)


def _torn(axes: Axes, at: float, edge: float, sign: int) -> None:
    """Draw the broken end of a core."""
    steps = 24
    across = [at + _CORE_WIDTH * step / steps for step in range(steps + 1)]
    waves = [
        edge + sign * (0.02 + 0.012 * math.sin(step * 1.7) + 0.008 * math.sin(step * 4.1)) for step in range(steps + 1)
    ]
    axes.fill_between(across, waves, edge, color=_PAPER, linewidth=0)
    axes.plot(across, waves, color=_INK, linewidth=0.9)


def _stores(axes: Axes, stores: Sequence[StoreCapacity], left: float, top: float, tall: float) -> None:
    """Draw each store as a measure: its room, what is kept free at the rim, promised to disks, and present."""
    axes.text(left + 0.1, top + 0.12, "stores", size=9.5, weight="bold", color=_INK, va="center")
    step = (_CELL - 0.3) / _STORES
    for number, store in enumerate(stores):
        _store(axes, store, left + 0.2 + number * step, top + _HEAD, tall, _CORE_WIDTH)


def _store(axes: Axes, store: StoreCapacity, at: float, top: float, tall: float, width: float) -> None:
    from matplotlib.patches import Rectangle

    most, foot = max(store.room, store.promised, 1), top + tall

    def y(size: int) -> float:
        return foot - tall * size / most

    def fill(upper: int, lower: int, **looks: Any) -> None:
        axes.add_patch(Rectangle((at, y(upper)), width, y(lower) - y(upper), linewidth=0, **looks))

    fill(store.promised, 0, facecolor=_EARTH)
    fill(store.present, 0, facecolor=_STONE)
    fill(store.room, store.room - store.kept, facecolor="none", hatch="....", edgecolor=_STONE)
    axes.plot([at, at, at + width, at + width], [y(store.room), foot, foot, y(store.room)], color=_INK, linewidth=1)
    marks = [(store.room, "room"), (store.promised, "promised"), (store.present, "present")]
    reach = top - _LABEL
    for size, word in sorted(marks, key=lambda mark: -mark[0]):
        reach = max(min(y(size), foot - 0.05), reach + _LABEL)
        axes.plot([at + width, at + width + 0.07], [y(size), reach], color=_INK, linewidth=0.6)
        axes.text(at + width + 0.1, reach, f"{show_binary(size)}\n{word}", size=_TEXT - 0.8, color=_INK, va="center")
    told = f"{show_binary(-store.left)} too much" if store.left < 0 else f"{show_binary(store.left)} left"
    axes.text(at, foot + 0.14, store.name, size=_TEXT, weight="bold", color=_INK, va="center")
    weight = "bold" if store.left < 0 else "normal"
    axes.text(at, foot + 0.28, told, size=_TEXT - 0.8, color=_INK, va="center", weight=weight)
