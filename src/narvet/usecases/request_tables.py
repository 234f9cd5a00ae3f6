"""Tables of requests, CSV or XLSX, read as rows of texts within bounds: what is in them is not trusted."""

from __future__ import annotations

import csv
import io
import zipfile
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

from narvet.ground.errors import RequestError

MOST_ROWS = 100_000
MOST_COLUMNS = 256
LONGEST_CELL = 4096  # characters; the longest sensible one is a path
LARGEST = 64 << 20  # bytes of the file
_LARGEST_UNPACKED = 256 << 20  # bytes of an XLSX unpacked: 100,000 rows of some columns
_MOST_MEMBERS = 1000
_LAST_ROW = 2 * MOST_ROWS  # empty rows counted
_DELIMITERS = ",;\t|"

Row = tuple[int, tuple[str, ...]]
"""A row's number, from 1, and its cells as texts."""


def rows_of(path: Path) -> Iterator[Row]:
    """Yield the rows of a table that hold anything.

    Raises:
        RequestError: there is no such file, it is no table, or larger than any table of requests.
    """
    if not path.is_file():
        raise RequestError(f"{path}: there is no such file")
    if path.stat().st_size > LARGEST:
        raise RequestError(f"{path}: it is larger than {LARGEST} bytes, the most that a table of requests may have")
    read = _xlsx if path.suffix.lower() == ".xlsx" else _csv
    filled = 0
    for number, cells in read(path):
        texts = tuple(_bounded(cell, path, number) for cell in cells)
        if not any(texts):
            continue
        filled += 1
        if filled > MOST_ROWS + 1:
            raise RequestError(f"{path}: it has more than {MOST_ROWS} rows; split it into smaller tables")
        yield number, texts


def _bounded(cell: str, path: Path, number: int) -> str:
    text = cell.strip()
    if len(text) > LONGEST_CELL:
        raise RequestError(f"{path}, row {number}: a cell has {len(text)} characters, at most {LONGEST_CELL} are taken")
    return text


def _csv(path: Path) -> Iterator[tuple[int, list[str]]]:
    try:
        text = path.read_bytes().decode("utf-8-sig")
    except UnicodeDecodeError:
        raise RequestError(f"{path}: not a table of requests, CSV or XLSX: it is no UTF-8 text") from None
    head = text.partition("\n")[0]
    delimiter = max(_DELIMITERS, key=head.count)
    csv.field_size_limit(LARGEST)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    try:
        for cells in reader:
            if len(cells) > MOST_COLUMNS and any(cells[MOST_COLUMNS:]):
                raise RequestError(f"{path}, row {reader.line_num}: more than {MOST_COLUMNS} columns")
            yield reader.line_num, cells[:MOST_COLUMNS]
    except csv.Error as error:
        raise RequestError(f"{path}: not a table of requests, CSV or XLSX: {error}") from None


def _xlsx(path: Path) -> Iterator[tuple[int, list[str]]]:
    import openpyxl

    _check_unpacked(path)
    try:
        book = openpyxl.load_workbook(path, read_only=True, data_only=True)
        sheet = book.worksheets[0]
        sheet.reset_dimensions()  # rows as long as they are, not as the file says
        rows = sheet.iter_rows(max_row=_LAST_ROW + 1, values_only=True)
        for number, cells in enumerate(rows, 1):
            if number > _LAST_ROW:
                raise RequestError(f"{path}: it goes on behind row {_LAST_ROW}, where no request is looked for")
            if len(cells) > MOST_COLUMNS:
                raise RequestError(f"{path}, row {number}: more than {MOST_COLUMNS} columns")
            yield number, ["" if cell is None else str(cell) for cell in cells[:MOST_COLUMNS]]
        book.close()
    except RequestError:
        raise
    except Exception as error:  # openpyxl raises whatever the file makes it stumble over
        told = str(error).splitlines()[0] if str(error) else type(error).__name__
        raise RequestError(f"{path}: not a table of requests, CSV or XLSX: {told}") from None


def _check_unpacked(path: Path) -> None:
    """Raise RequestError for an archive whose members are more, or larger, than those of any table of requests."""
    try:
        with zipfile.ZipFile(path) as archive:
            members = list(islice(archive.infolist(), _MOST_MEMBERS + 1))
    except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError) as error:
        raise RequestError(f"{path}: not a table of requests, CSV or XLSX: {error}") from None
    if len(members) > _MOST_MEMBERS or sum(member.file_size for member in members) > _LARGEST_UNPACKED:
        raise RequestError(
            f"{path}: unpacked it has more than {_LARGEST_UNPACKED} bytes, the most that a table of requests may have"
        )
