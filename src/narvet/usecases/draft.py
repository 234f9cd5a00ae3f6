"""Requests from tables, and the sheet that requests are put into."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from uuid import UUID, uuid4

from narvet.apply.execute import sheet_lock
from narvet.block.names import make_folders
from narvet.block.publish import replace_content
from narvet.ground.errors import RequestError
from narvet.sheet.blank import blank_sheet
from narvet.sheet.draft import Drafted, Request, drafted, new_sheet
from narvet.sheet.files import tables_beside, text_of
from narvet.sheet.read import parse_sheet
from narvet.usecases.request_tables import Headings, Row, headings_in, worksheets_of


def read_requests(path: Path, worksheet: str | None = None) -> list[Request]:
    """Return the rows of a table below the row that names the keys; empty cells and rows are left out.

    What stands above that row is skipped, and so are worksheets without one, unless a `worksheet` is named.

    Raises:
        RequestError: there is no such file or worksheet, it is no table, too large, or without a row of requests.
    """
    for title, rows in worksheets_of(path, worksheet):
        where = f"{path}, {title}" if title else str(path)
        headings = headings_in(rows, where)
        if headings is None:
            continue
        requests = [_request(row, headings, where) for row in rows]
        if requests:
            return requests
        raise RequestError(f"{where}: it has no rows below its headings, so there is nothing to put into the sheet")
    raise RequestError(
        f"{path}: no row in it names keys such as guest, store and size, so it is not a table of requests; "
        "narvet draft --help lists the keys"
    )


def _request(row: Row, headings: Headings, where: str) -> Request:
    number, cells = row
    if any(cells[len(headings.keys) :]):
        raise RequestError(f"{where}, row {number}: it has more cells than row {headings.row} has headings")
    keys = {key: cell for key, cell in zip(headings.keys, cells, strict=False) if cell and key}
    return Request(f"{where}, row {number}", keys, headings.columns)


def draft(
    sheet: Path, requests: Sequence[Request], *, title: str = "", identity: UUID | None = None, dry: bool = False
) -> Drafted:
    """Put requests into a sheet, or start one with them; nothing is written unless all of them fit.

    `title` and `identity` are those of a new sheet; without an identity it gets a fresh one.

    The folders of stores that are new are made too. A `dry` call writes and makes nothing.

    Raises:
        RequestError: the sheet or a request is not valid.
        OSError: the system refused.
    """
    with sheet_lock(sheet):
        made = _draft(sheet, requests, title, identity or uuid4())
        if not dry:
            for path in made.store_paths:
                make_folders(sheet.parent / path)
            replace_content(sheet, made.text.encode())
    return made


def start_blank(sheet: Path, *, identity: UUID | None = None, dry: bool = False) -> Drafted:
    """Write a sheet to be filled in, with every key and its meaning; the folder of its store is made too.

    A `dry` call writes and makes nothing.

    Raises:
        RequestError: there is a sheet already.
        OSError: the system refused.
    """
    if sheet.exists():
        raise RequestError(f"{sheet} is there already; choose another name")
    text = blank_sheet(identity or uuid4())
    form = parse_sheet(text, sheet)
    if not dry:
        for store in form.store.values():
            make_folders(sheet.parent / store.path)
        replace_content(sheet, text.encode())
    paths = tuple(store.path for store in form.store.values())
    return Drafted(text, "", tuple(form.disk), tuple(form.guest), tuple(form.store), paths)


def _draft(sheet: Path, requests: Sequence[Request], title: str, identity: UUID) -> Drafted:
    if sheet.exists():
        if title:
            raise RequestError(f"{sheet}: it is there already; change its title in it")
        text = text_of(sheet)
        parse_sheet(text, sheet)
    else:
        text = new_sheet(title, identity)
    return drafted(text, requests, str(sheet), tables_beside(text, sheet))
