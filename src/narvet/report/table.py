"""A layout as a table for spreadsheets: a row for each partition, in CSV or XLSX. Sizes are bytes."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from narvet.block.publish import replace_content
from narvet.ground.errors import RequestError, flat, printable

if TYPE_CHECKING:
    from narvet.model.estate import Partition
    from narvet.model.layout import PlannedDisk
    from narvet.model.pools import PlannedPool

Cell = str | int | None
HEADINGS = (
    "disk", "guest", "store", "host", "state", "path", "format", "space", "disk_size", "slot", "serial", "table",
    "table_id", "number", "label", "start", "size", "id", "filesystem", "uuid", "at", "owner", "mode", "total",
    "available",
)  # fmt: skip
ENDINGS = (".csv", ".xlsx", ".parquet")
_NUMBERS = {"disk_size", "number", "start", "size", "total", "available"}
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def rows_of(disks: Iterable[PlannedDisk], pools: Iterable[PlannedPool] = ()) -> list[tuple[Cell, ...]]:
    """Return a row under HEADINGS for each partition of disks, one for a disk without any, and one for each volume."""
    rows = [row for disk in disks for row in _rows(disk)]
    for pool in pools:
        for one in pool.volumes:
            own = pool.guest, None, None, pool.state, None, "volume", None, one.wanted.size
            of_pool = (one.name, *own, None, None, None, pool.becomes.id)
            rows.append((*of_pool, *_partition(one.wanted.partitions[0])))
    return rows


def _rows(disk: PlannedDisk) -> Iterator[tuple[Cell, ...]]:
    image, wanted = disk.wanted.image, disk.wanted
    of_disk = (
        disk.name, disk.guest, disk.store, image.host or None, disk.state, image.path, image.format, image.space,
        image.size, disk.slot, disk.plug.serial, wanted.table, wanted.table_id or None,
    )  # fmt: skip
    for part in wanted.partitions:
        yield (*of_disk, *_partition(part))
    if not wanted.partitions:
        yield (*of_disk, *([None] * (len(HEADINGS) - len(of_disk))))


def _partition(part: Partition) -> tuple[Cell, ...]:
    inside, mount, capacity = part.filesystem, part.mount, part.capacity
    label = part.entry.label or (inside.label if inside else "")
    owner, mode = (mount.owner, "" if mount.volume else f"{mount.mode:04o}") if mount else (None, None)
    return (
        part.number, label, part.start, part.size, part.entry.id or None, inside.kind if inside else None,
        inside.uuid if inside else None, part.at, owner, mode, capacity.total if capacity else None,
        capacity.available if capacity else None,
    )  # fmt: skip


def write_rows(to: Path, rows: Sequence[tuple[Cell, ...]]) -> None:
    """Write rows under HEADINGS to a file, all at once; its ending tells whether it is CSV, XLSX or Parquet.

    In the first two, a text that a spreadsheet might take for a formula gets an apostrophe before it.

    Raises:
        RequestError: the ending is none of these.
        OSError: the system refused.
    """
    if to.suffix.lower() not in ENDINGS:
        raise RequestError(f"{to}: a table ends in {', '.join(ENDINGS[:-1])} or {ENDINGS[-1]}")
    if to.suffix.lower() == ".parquet":
        replace_content(to, _parquet(rows))
        return
    safe = [[_safe(cell) for cell in row] for row in rows]
    replace_content(to, _xlsx(safe) if to.suffix.lower() == ".xlsx" else _csv(safe))


def _safe(cell: Cell) -> Cell:
    if not isinstance(cell, str):
        return cell
    text = flat(printable(cell))
    return f"'{text}" if text.startswith(_FORMULA) else text


def _parquet(rows: Sequence[tuple[Cell, ...]]) -> bytes:
    """Return rows as columns of numbers and texts (Apache Parquet)."""
    import pyarrow
    from pyarrow import parquet

    columns = list(zip(*rows, strict=True)) if rows else [()] * len(HEADINGS)
    kinds = [pyarrow.int64() if heading in _NUMBERS else pyarrow.string() for heading in HEADINGS]
    plain = [[flat(printable(one)) if isinstance(one, str) else one for one in column] for column in columns]
    made = pyarrow.table(
        [pyarrow.array(column, kind) for column, kind in zip(plain, kinds, strict=True)], names=list(HEADINGS)
    )
    content = io.BytesIO()
    parquet.write_table(made, content, compression="zstd")
    return content.getvalue()


def _csv(rows: Iterable[Sequence[Cell]]) -> bytes:
    text = io.StringIO(newline="")
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(HEADINGS)
    writer.writerows(rows)
    return text.getvalue().encode("utf-8", "backslashreplace")


def _xlsx(rows: Iterable[Sequence[Cell]]) -> bytes:
    import openpyxl
    from openpyxl.cell import WriteOnlyCell
    from openpyxl.styles import Font
    from openpyxl.utils import get_column_letter

    book = openpyxl.Workbook(write_only=True)
    page = book.create_sheet("disks")
    page.freeze_panes = "B2"
    widths = {"path": 40, "table_id": 38, "id": 38, "uuid": 38, "serial": 22, "at": 22}
    for number, heading in enumerate(HEADINGS):
        page.column_dimensions[get_column_letter(number + 1)].width = widths.get(heading, 16)
    head = [WriteOnlyCell(page, heading) for heading in HEADINGS]
    for cell in head:
        cell.font = Font(bold=True)
    page.append(head)
    for row in rows:
        page.append(list(row))
    content = io.BytesIO()
    book.save(content)
    return content.getvalue()
