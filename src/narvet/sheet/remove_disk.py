"""A disk taken out of a sheet's text: its tables go, with the comments right above them and between their keys.

Every other byte stays, comments behind the last key among them. Pure.
"""

from __future__ import annotations

import tomllib
from itertools import pairwise

from narvet.ground.errors import RequestError
from narvet.sheet.lines import headers_of


def without_disk(text: str, disk: str, name: str) -> str:
    """Return the text of a valid sheet without a disk; `name` is what errors call the sheet.

    Raises:
        RequestError: the disk is written in a way that cannot be taken out line by line.
    """
    lines = text.splitlines(keepends=True)
    headers = [*headers_of(text), (len(lines) + 1, ())]
    kept, reach = list[str](), 0
    for (line, path), (following, after) in pairwise(headers):
        if path[:2] != ("disk", disk):
            continue
        first = max(_above(lines, line - 1), reach)
        end = following - 1 if after[:2] == ("disk", disk) else _last(lines, line - 1, following - 1)
        kept += lines[reach:first]
        reach = max(end, reach)
        if kept and not kept[-1].strip() and reach < len(lines) and not lines[reach].strip():
            reach += 1
    result = "".join([*kept, *lines[reach:]])
    expected = tomllib.loads(text)
    del expected["disk"][disk]
    try:
        agrees = {"disk": {}, **tomllib.loads(result)} == {"disk": {}, **expected}
    except tomllib.TOMLDecodeError:
        agrees = False
    if not agrees:
        raise RequestError(f"{name}: disk {disk} cannot be taken out line by line; take it out by hand")
    return result


def _last(lines: list[str], first: int, end: int) -> int:
    """Return the line (from 0) behind the last one of some that holds more than blanks or a comment."""
    while end > first + 1 and (not lines[end - 1].strip() or lines[end - 1].lstrip().startswith("#")):
        end -= 1
    return end


def _above(lines: list[str], line: int) -> int:
    """Return the first of the comment lines right above a line (both from 0), or the line itself."""
    while line > 0 and lines[line - 1].lstrip().startswith("#"):
        line -= 1
    return line
