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
from narvet.sheet.read import parse_sheet, text_of
from narvet.usecases.request_tables import rows_of


def read_requests(path: Path) -> list[Request]:
    """Return the rows of a table whose first row names the keys; empty cells and rows are left out.

    Raises:
        RequestError: there is no such file, it is no table, too large, or without a row of requests.
    """
    rows = rows_of(path)
    _, head = next(rows, (0, ()))
    columns = [text.lower().replace(" ", "_") for text in head]
    twice = sorted({column for column in columns if column and columns.count(column) > 1})
    if twice:
        raise RequestError(f'{path}: two columns are called "{twice[0]}"')
    requests = []
    for number, cells in rows:
        if any(cells[len(columns) :]):
            raise RequestError(f"{path}, row {number}: it has more cells than the first row has headings")
        keys = {column: cell for column, cell in zip(columns, cells, strict=False) if cell}
        requests.append(Request(f"{path}, row {number}", keys))
    if not requests:
        raise RequestError(f"{path}: it has no rows below its headings, so there is nothing to put into the sheet")
    return requests


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
    form = parse_sheet(text, str(sheet))
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
        parse_sheet(text, str(sheet))
    else:
        text = new_sheet(title, identity)
    return drafted(text, requests, str(sheet))
