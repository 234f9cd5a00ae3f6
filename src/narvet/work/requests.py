"""Tables of requests, CSV or XLSX, read as rows of texts; and the sheet that they are put into."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any
from uuid import UUID

from narvet.block.publish import replace_content
from narvet.errors import RequestError
from narvet.sheet.draft import Drafted, Request, drafted, new_sheet
from narvet.sheet.read import parse_sheet, text_of

if TYPE_CHECKING:
    import pandas as pd

MOST_ROWS = 100_000
LARGEST = 64 << 20
_HEADER_ROWS = 1


def read_requests(path: Path) -> list[Request]:
    """Return the rows of a table whose first row names the keys; empty cells and rows are left out.

    Raises:
        RequestError: there is no such file, it is no table, or too large.
    """
    if not path.is_file():
        raise RequestError(f"{path}: there is no such file")
    if path.stat().st_size > LARGEST:
        raise RequestError(f"{path}: larger than {LARGEST} bytes, which no table of requests is")
    table = _table(path)
    if len(table) > MOST_ROWS:
        raise RequestError(f"{path}: it has {len(table)} rows; at most {MOST_ROWS} are taken at once")
    lines = table.itertuples(index=False)
    columns = [str(column).strip().lower().replace(" ", "_") for column in next(lines, ())]
    twice = sorted({column for column in columns if column and columns.count(column) > 1})
    if twice:
        raise RequestError(f'{path}: two columns are called "{twice[0]}"')
    rows = []
    for number, cells in enumerate(lines, _HEADER_ROWS + 1):
        keys = {column: str(cell).strip() for column, cell in zip(columns, cells, strict=True)}
        kept = {column: text for column, text in keys.items() if text}
        if kept:
            rows.append(Request(f"{path}, row {number}", kept))
    return rows


def _table(path: Path) -> pd.DataFrame:
    import pandas as pd

    try:
        if path.suffix.lower() == ".xlsx":
            return pd.read_excel(path, header=None, dtype=str, keep_default_na=False)
        kinds: Any = {"header": None, "dtype": str, "keep_default_na": False, "engine": "python"}
        rows: pd.DataFrame = pd.read_csv(path, sep=None, encoding="utf-8-sig", **kinds)
        return rows
    except Exception as error:  # pandas and what it reads with raise whatever the file makes them stumble over
        told = str(error).splitlines()[0] if str(error) else type(error).__name__
        raise RequestError(f"{path}: not a table of requests, CSV or XLSX: {told}") from None


def draft(sheet: Path, requests: Sequence[Request], title: str, identity: UUID) -> Drafted:
    """Put requests into a sheet, or start one with them; nothing is written unless all of them fit.

    Raises:
        RequestError: the sheet or a request is not valid.
        OSError: the system refused.
    """
    if sheet.exists():
        if title:
            raise RequestError(f"{sheet}: it is there already; change its title in it")
        text = text_of(sheet)
        parse_sheet(text, str(sheet))
    else:
        text = new_sheet(title, identity)
    made = drafted(text, requests, str(sheet))
    replace_content(sheet, made.text.encode())
    return made
