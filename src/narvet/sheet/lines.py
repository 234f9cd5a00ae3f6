"""Where the keys of a sheet stand, for error messages: the TOML readers at hand do not tell.

A line scanner, not a parser: it runs on text that a parser has already accepted, and where it does not understand a
line (an inline table, a key over several lines) the error names the table's line instead.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator, Mapping
from typing import Any

KeyPath = tuple[int | str, ...]

_HEADER = re.compile(r"\s*(?P<open>\[\[?)(?P<key>[^\[\]]+)\]\]?\s*(?:#.*)?")
_KEY = re.compile(r"""\s*(?P<key>(?:[A-Za-z0-9_.\s-]|"[^"]*"|'[^']*')+?)\s*=""")
_TRIPLE = re.compile(r'"""|' + "'''")


def key_lines(text: str) -> dict[KeyPath, int]:
    """Return the line, from 1, of every table header and key: ("disk", "trials", "partition", 0, "size") → 12."""
    lines: dict[KeyPath, int] = {}
    for number, path, _ in _scanned(text):
        lines.setdefault(path, number)
    return lines


def headers_of(text: str) -> list[tuple[int, KeyPath]]:
    """Return the line, from 1, and the table of every header, in order."""
    return [(number, path) for number, path, is_header in _scanned(text) if is_header]


def _scanned(text: str) -> Iterator[tuple[int, KeyPath, bool]]:
    """Yield line and path of every header and key, and whether it is a header."""
    counts: dict[KeyPath, int] = {}
    table: KeyPath = ()
    inside = ""
    for number, line in enumerate(text.splitlines(), 1):
        was_inside, inside = inside, _still_inside(line, inside)
        if was_inside:
            continue
        if header := _HEADER.fullmatch(line):
            table = _resolved(_parts(header["key"]), counts)
            if header["open"] == "[[":
                counts[table] = counts.get(table, -1) + 1
                table = (*table, counts[table])
            yield number, table, True
        elif key := _KEY.match(line):
            yield number, table + _parts(key["key"]), False


def nearest_line(lines: Mapping[KeyPath, int], path: KeyPath) -> int:
    """Return the line of the key at `path`, or of the nearest table around it; 0 if there is none."""
    for length in range(len(path), 0, -1):
        if path[:length] in lines:
            return lines[path[:length]]
    return next((line for known, line in lines.items() if known[: len(path)] == path), 0)


def _still_inside(line: str, inside: str) -> str:
    """Return the quotes of the multi-line text that the end of this line lies in, or nothing."""
    for match in _TRIPLE.finditer(line):
        if not inside:
            inside = match[0]
        elif inside == match[0]:
            inside = ""
    return inside


def _parts(key: str) -> KeyPath:
    """Return the parts of a dotted key."""
    try:
        content: Any = tomllib.loads(f"{key} = 0")
    except tomllib.TOMLDecodeError:
        return ()
    parts: list[str] = []
    while isinstance(content, dict):
        (part, content), *_ = content.items()
        parts.append(part)
    return tuple(parts)


def _resolved(parts: KeyPath, counts: Mapping[KeyPath, int]) -> KeyPath:
    """Return a header's path with the index of the current item after each array on the way, but the last part."""
    path: KeyPath = ()
    for index, part in enumerate(parts):
        path = (*path, part)
        if index < len(parts) - 1 and path in counts:
            path = (*path, counts[path])
    return path
