"""The words of a pool's text: sections, numbers, texts and lists, read from what is not trusted, and written again.

A text is `key = value` and `name { … }`, a value is a number, a text in quotes, or a list of them in brackets; a `#`
starts a remark. What is not known is kept, so that what others wrote survives a change.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

from narvet.ground.errors import ImageError

Value = int | str | tuple["int | str", ...]
Section = dict[str, "Value | Section"]
"""A section: keys with values, and names with further sections, in order."""

MOST_TEXT = 32 << 20
"""Bytes of the longest text that is read: some hundred thousand volumes."""
_MOST_TOKENS = 8_000_000
_DEEPEST = 16
_TOKEN = re.compile(
    r"(?:\s|#[^\n]*)*(?:(?P<text>\"(?:[^\"\\]|\\.)*\")|(?P<number>-?\d{1,20}(?![\w.+-]))|(?P<name>[\w.+-]+)"
    r"|(?P<sign>[{}=\[\],])|(?P<end>\Z))",
    re.ASCII,
)


class _Token(NamedTuple):
    kind: str
    text: str


def parse(data: bytes) -> Section:
    """Return what a text says.

    Raises:
        ImageError: it is none.
    """
    if len(data) > MOST_TEXT:
        raise ImageError(f"the text of a pool has {len(data)} bytes, more than any pool needs")
    tokens = _tokens(data.rstrip(b"\0").decode("utf-8", "surrogateescape"))
    return _section(tokens, 0)


def _tokens(text: str) -> Iterator[_Token]:
    place = 0
    for _ in range(_MOST_TOKENS):
        match = _TOKEN.match(text, place)
        if match is None or match.lastgroup is None:
            raise ImageError(f"the text of a pool makes no sense at its byte {place}")
        yield _Token(match.lastgroup, match[match.lastgroup])
        if match.lastgroup == "end":
            return
        place = match.end()
    raise ImageError("the text of a pool has more words than any pool needs")


def _section(tokens: Iterator[_Token], depth: int) -> Section:
    """Return a section up to its end, the whole text at depth 0."""
    if depth > _DEEPEST:
        raise ImageError("the text of a pool has sections within sections without end")
    section: Section = {}
    ends = "end" if depth == 0 else "}"
    while True:
        token = next(tokens)
        if ends in (token.kind, token.text if token.kind == "sign" else None):
            return section
        if token.kind not in ("name", "number", "text") or (token.kind == "text" and depth == 0):
            raise ImageError(f"the text of a pool has {token.text!r:.40} where a name is expected")
        name, sign = _unquoted(token.text) if token.kind == "text" else token.text, next(tokens)
        if name in section:
            raise ImageError(f"the text of a pool says {name!r:.40} twice")
        if sign == ("sign", "{"):
            section[name] = _section(tokens, depth + 1)
        elif sign == ("sign", "="):
            section[name] = _value(tokens)
        else:
            raise ImageError(f"the text of a pool has {sign.text!r:.40} behind {name!r:.40}")


def _value(tokens: Iterator[_Token]) -> Value:
    token = next(tokens)
    if token != ("sign", "["):
        return _plain(token)
    found: list[int | str] = []
    while (token := next(tokens)) != ("sign", "]"):
        if token == ("sign", ","):
            continue
        found.append(_plain(token))
    return tuple(found)


def _plain(token: _Token) -> int | str:
    if token.kind == "number":
        return int(token.text)
    if token.kind == "text":
        return _unquoted(token.text)
    raise ImageError(f"the text of a pool has {token.text!r:.40} where a value is expected")


def _unquoted(text: str) -> str:
    return re.sub(r"\\(.)", r"\1", text[1:-1], flags=re.DOTALL) if text.startswith('"') else text


def encode(section: Section) -> bytes:
    """Return a text that says so, with the zero at its end; not indented, as boot loaders count on."""
    return ("\n".join(_lines(section)) + "\n\0").encode("utf-8", "surrogateescape")


def _lines(section: Section) -> Iterator[str]:
    for name, value in section.items():
        if isinstance(value, dict):
            yield f"{name} {{"
            yield from _lines(value)
            yield "}"
        else:
            yield f"{name} = {_written(value)}"


def _written(value: Value) -> str:
    if isinstance(value, tuple):
        return f"[{', '.join(_written(one) for one in value)}]"
    if isinstance(value, int):
        return str(value)
    return '"' + value.replace("\\", "\\\\").replace('"', '\\"') + '"'


def number(section: Section, key: str, most: int, least: int = 0) -> int:
    """Return a number that a section must have; ImageError if it has none from `least` to `most`."""
    value = section.get(key)
    if not isinstance(value, int) or not least <= value <= most:
        raise ImageError(f"the text of a pool gives {key} as {value!r:.40}, not as a number from {least} to {most}")
    return value


def words(section: Section, key: str) -> str:
    """Return a text that a section must have; ImageError if it has none."""
    value = section.get(key)
    if not isinstance(value, str):
        raise ImageError(f"the text of a pool gives {key} as {value!r:.40}, not as a text")
    return value


def listed(section: Section, key: str) -> tuple[int | str, ...]:
    """Return a list that a section has, an empty one if it has none; a single value is a list of one."""
    value = section.get(key, ())
    if isinstance(value, dict):
        raise ImageError(f"the text of a pool gives {key} as a section, not as a list")
    return value if isinstance(value, tuple) else (value,)


def inner(section: Section, key: str) -> Section:
    """Return a section within another one, an empty one if there is none; ImageError if it is a value."""
    value = section.get(key, {})
    if not isinstance(value, dict):
        raise ImageError(f"the text of a pool gives {key} as a value, not as a section")
    return value


def sections(section: Section) -> Iterator[tuple[str, Section]]:
    """Yield the sections within one, with their names, in order."""
    yield from ((name, value) for name, value in section.items() if isinstance(value, dict))
