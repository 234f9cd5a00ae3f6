"""Tables of requests, CSV or XLSX, read as rows of texts within bounds: what is in them is not trusted."""

from __future__ import annotations

import csv
import io
import zipfile
from collections.abc import Iterator, Mapping
from itertools import islice
from pathlib import Path
from typing import Any

from narvet.ground.errors import RequestError, nearest
from narvet.ground.values import Frozen
from narvet.sheet.draft import request_keys

MOST_ROWS = 100_000
MOST_COLUMNS = 256
LONGEST_CELL = 4096  # characters; the longest sensible one is a path
LARGEST = 64 << 20  # bytes of the file
_LARGEST_UNPACKED = 256 << 20  # bytes of an XLSX unpacked: 100,000 rows of some columns
_MOST_MEMBERS = 1000
_LAST_ROW = 2 * MOST_ROWS  # empty rows counted
_HEADINGS_BY = 60  # rows; further down nobody looks for headings
_FEWEST_KEYS = 2  # in a row of headings that has other cells too
_DELIMITERS = ",;\t|"

Row = tuple[int, tuple[str, ...]]
"""A row's number, from 1, and its cells as texts."""


class Headings(Frozen):
    """The row that names the keys: its number, from 1, and the key of each column, empty for none."""

    row: int
    keys: tuple[str, ...]

    @property
    def columns(self) -> Mapping[str, str]:
        """The columns by their keys, as people find them."""
        return {key: f"{_letters(place)} ({key})" for place, key in enumerate(self.keys) if key}


def headings_in(rows: Iterator[Row], where: str) -> Headings | None:
    """Return the headings among the first rows, which are used up; None where no row names keys.

    Raises:
        RequestError: a heading names no key, or two name the same.
    """
    for number, cells in islice(rows, _HEADINGS_BY):
        keys = tuple(cell.lower().replace(" ", "_").replace("-", "_") for cell in cells)
        known, filled = sum(key in request_keys() for key in keys), sum(map(bool, keys))
        if known < _FEWEST_KEYS and known < filled:
            continue
        for place, key in enumerate(keys):
            at = f"{where}, row {number}, column {_letters(place)}"
            if key and key not in request_keys():
                raise RequestError(f'{at}: there is no key "{key}"{nearest(key, request_keys())}')
            if key and key in keys[:place]:
                raise RequestError(f'{at}: two columns are called "{key}"')
        return Headings(number, keys)
    return None


def _letters(place: int) -> str:
    """Return the name of a column by its place, from 0, as spreadsheets have it: A to Z, then AA."""
    text = ""
    place += 1
    while place:
        place, rest = divmod(place - 1, 26)
        text = chr(ord("A") + rest) + text
    return text


def worksheets_of(path: Path, worksheet: str | None = None) -> Iterator[tuple[str, Iterator[Row]]]:
    """Yield the title of each worksheet, or of the one that is named, and its rows that hold anything.

    A file in CSV is one worksheet, without a title.

    Raises:
        RequestError: there is no such file or worksheet, it is no table, or larger than any table of requests.
    """
    if not path.is_file():
        raise RequestError(f"{path}: there is no such file")
    if path.stat().st_size > LARGEST:
        raise RequestError(f"{path}: it is larger than {LARGEST} bytes, the most that a table of requests may have")
    if path.suffix.lower() == ".xlsx":
        yield from ((title, _filled(rows, path)) for title, rows in _xlsx(path, worksheet))
    elif worksheet is not None:
        raise RequestError(f"{path}: only a workbook, XLSX, has worksheets; leave --worksheet out")
    else:
        yield "", _filled(_csv(path), path)


def _filled(rows: Iterator[tuple[int, list[str]]], path: Path) -> Iterator[Row]:
    filled = 0
    for number, cells in rows:
        texts = tuple(_bounded(cell, path, number) for cell in cells)
        if not any(texts):
            continue
        filled += 1
        if filled > MOST_ROWS + _HEADINGS_BY:
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
        raise RequestError(f"{path}: not a table of requests, CSV or XLSX: it is not UTF-8 text") from None
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


def _xlsx(path: Path, worksheet: str | None) -> Iterator[tuple[str, Iterator[tuple[int, list[str]]]]]:
    import openpyxl

    _check_unpacked(path)
    try:
        book = openpyxl.load_workbook(path, read_only=True, data_only=True)
        pages = {page.title: page for page in book.worksheets}
    except Exception as error:  # openpyxl raises whatever the file makes it stumble over
        raise _no_table(path, error) from None
    if worksheet is not None and worksheet not in pages:
        raise RequestError(f'{path}: there is no worksheet "{worksheet}"{nearest(worksheet, pages)}')
    for title in pages if worksheet is None else [worksheet]:
        yield title, _page(pages[title], path)
    book.close()


def _page(page: Any, path: Path) -> Iterator[tuple[int, list[str]]]:
    try:
        page.reset_dimensions()  # rows as long as they are, not as the file says
        for number, cells in enumerate(page.iter_rows(max_row=_LAST_ROW + 1, values_only=True), 1):
            if number > _LAST_ROW:
                raise RequestError(f"{path}: it goes on behind row {_LAST_ROW}, where no request is looked for")
            if len(cells) > MOST_COLUMNS:
                raise RequestError(f"{path}, row {number}: more than {MOST_COLUMNS} columns")
            yield number, ["" if cell is None else str(cell) for cell in cells[:MOST_COLUMNS]]
    except RequestError:
        raise
    except Exception as error:  # openpyxl raises whatever the file makes it stumble over
        raise _no_table(path, error) from None


def _no_table(path: Path, error: Exception) -> RequestError:
    told = str(error).splitlines()[0] if str(error) else type(error).__name__
    return RequestError(f"{path}: not a table of requests, CSV or XLSX: {told}")


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
