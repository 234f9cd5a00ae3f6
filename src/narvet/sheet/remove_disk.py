"""A disk, or a volume of a pool, taken out of a sheet's text: its tables go, with the comments right above them and
between their keys.

Every other byte stays, comments behind the last key among them. Pure.
"""

from __future__ import annotations

import tomllib
from itertools import pairwise
from typing import Any

from narvet.ground.errors import RequestError
from narvet.sheet.lines import KeyPath, headers_of


def without_disk(text: str, disk: str, name: str) -> str:
    """Return the text of a valid sheet without a disk; `name` is what errors call the sheet.

    Raises:
        RequestError: the disk is written in a way that cannot be taken out line by line.
    """
    expected = tomllib.loads(text)
    del expected["disk"][disk]
    result = _without(text, ("disk", disk))
    if not _agrees(result, {"disk": {}, **expected}):
        raise RequestError(f"{name}: disk {disk} cannot be taken out line by line; take it out by hand")
    return result


def without_volume_of(text: str, pool: str, volume: str, name: str) -> str:
    """Return the text of a valid sheet without a volume of a pool; `name` is what errors call the sheet.

    Raises:
        RequestError: the volume is written in a way that cannot be taken out line by line.
    """
    expected = tomllib.loads(text)
    volumes = expected["pool"][pool]["volume"]
    index = next(at for at, one in enumerate(volumes) if one["name"] == volume)
    del volumes[index]
    if not volumes:
        del expected["pool"][pool]["volume"]
    result = _without(text, ("pool", pool, "volume", index))
    if not _agrees(result, expected):
        raise RequestError(f"{name}: volume {volume} cannot be taken out line by line; take it out by hand")
    return result


def _agrees(text: str, expected: dict[str, Any]) -> bool:
    """Return whether a text has a content, but for tables of disks that are not there at all."""
    try:
        return {"disk": {}, **tomllib.loads(text)} == {"disk": {}, **expected}
    except tomllib.TOMLDecodeError:
        return False


def _without(text: str, what: KeyPath) -> str:
    """Return a text without the tables whose paths begin with `what`."""
    lines, size = text.splitlines(keepends=True), len(what)
    headers = [*headers_of(text), (len(lines) + 1, ())]
    kept, reach = list[str](), 0
    for (line, path), (following, after) in pairwise(headers):
        if path[:size] != what:
            continue
        first = max(_above(lines, line - 1), reach)
        end = following - 1 if after[:size] == what else _last(lines, line - 1, following - 1)
        kept += lines[reach:first]
        reach = max(end, reach)
        if kept and not kept[-1].strip() and reach < len(lines) and not lines[reach].strip():
            reach += 1
    return "".join([*kept, *lines[reach:]])


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
