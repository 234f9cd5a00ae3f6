"""The files of a sheet: its own, and those that it includes, as one content; and where in them each table is."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any

import tomli

from narvet.ground.errors import RequestError
from narvet.ground.values import Frozen, field
from narvet.sheet.lines import KeyPath, key_lines, nearest_line
from narvet.sheet.many import ManyError, Origins, expanded

LARGEST_SHEET = 64 << 20  # a hundred thousand disks; anything larger is not a sheet
MOST_DOTS = 200  # in a line: reading a key costs the square of its parts
INCLUDE = "include"
_MOST_FILES = 10_000
_KINDS = ("host", "store", "guest", "disk", "pool")


class SheetFiles(Frozen):
    """A sheet's content with all that it includes, guests that are alike apart.

    `texts` are its files, its own first, with their texts; `homes` the files of included tables, `origins` what tables
    were made from that one table stands for.
    """

    content: dict[str, Any]
    texts: tuple[tuple[Path, str], ...]
    homes: dict[tuple[str, str], int] = field(default_factory=dict)
    origins: Origins = field(default_factory=dict)

    def written(self, path: KeyPath) -> KeyPath:
        """Return the path of a key as the files have it."""
        start = tuple(str(one) for one in path[:2])
        origin = self.origins.get((start[0], start[1])) if len(start) > 1 else None
        return (*origin, *path[2:]) if origin else path

    def home(self, path: KeyPath) -> Path:
        """Return the file that has a key."""
        return self.texts[self._home(self.written(path))][0]

    def places(self, paths: Iterable[KeyPath]) -> list[tuple[int, int, str]]:
        """Return of each key the number of its file, its line, 0 if there is none, and both in words."""
        lines: dict[int, dict[KeyPath, int]] = {}
        found = []
        for path in paths:
            written = self.written(path)
            number = self._home(written)
            own = lines.setdefault(number, key_lines(self.texts[number][1]) if number not in lines else {})
            line = nearest_line(own, written)
            file = self.texts[number][0]
            found.append((number, line, f"{file}, line {line}" if line else f"{file}"))
        return found

    def _home(self, path: KeyPath) -> int:
        return self.homes.get((str(path[0]), str(path[1])), 0) if len(path) > 1 else 0


def sheet_files(text: str, path: Path) -> SheetFiles:
    """Return the content of the sheet in `text`, whose file is at `path`, with what it includes.

    Raises:
        RequestError: it is not valid TOML, includes what is not there, or has something twice.
    """
    content = content_of(text, str(path))
    texts = [(path, text)]
    homes: dict[tuple[str, str], int] = {}
    for file in _included(content, path):
        other = text_of(file)
        _add(content, content_of(other, str(file)), file, texts, homes)
        texts.append((file, other))
    found = SheetFiles(content, tuple(texts), homes)
    try:
        whole, origins = expanded(content)
    except ManyError as error:
        ((_, _, where),) = found.places([error.path])
        raise RequestError(f"{where}: {error}") from None
    return SheetFiles(whole, tuple(texts), homes, origins)


def tables_beside(text: str, path: Path) -> dict[str, dict[str, Any]]:
    """Return the tables of the files that a valid sheet includes, by kind and name."""
    found: dict[str, dict[str, Any]] = {}
    for file in _included(content_of(text, str(path)), path):
        for kind, tables in content_of(text_of(file), str(file)).items():
            found.setdefault(kind, {}).update(tables)
    return found


def _included(content: dict[str, Any], path: Path) -> list[Path]:
    """Return the files that a sheet includes, in order, each once; taken from its content are the patterns."""
    patterns = content.get(INCLUDE, [])
    if not isinstance(patterns, list) or not all(isinstance(one, str) and one for one in patterns):
        return []  # the form says what is wrong with them
    found: dict[Path, None] = {}
    for pattern in patterns:
        own = sorted(_matching(path, pattern))
        if not own:
            raise RequestError(
                f"{path}: include has {pattern!r}, and there is no such file; correct it or leave it out"
            )
        found |= dict.fromkeys(one for one in own if one.resolve() != path.resolve())
        if len(found) > _MOST_FILES:
            raise RequestError(f"{path}: it includes more than {_MOST_FILES} files; put some of them together")
    return list(found)


def _matching(path: Path, pattern: str) -> Iterable[Path]:
    if Path(pattern).is_absolute():
        raise RequestError(f"{path}: include has {pattern!r}; name files from the sheet's folder on")
    try:
        return [one for one in path.parent.glob(pattern) if one.is_file()]
    except (ValueError, NotImplementedError) as error:
        raise RequestError(f"{path}: include has {pattern!r}, which is no pattern of names: {error}") from None


def _add(
    content: dict[str, Any],
    more: dict[str, Any],
    file: Path,
    texts: list[tuple[Path, str]],
    homes: dict[tuple[str, str], int],
) -> None:
    """Add the tables of an included file to a content."""
    for kind, tables in more.items():
        if kind not in _KINDS or not isinstance(tables, dict):
            raise RequestError(f"{file}: what is included has only {', '.join(_KINDS)}; put {kind} into the sheet")
        own = content.setdefault(kind, {})
        for name, form in tables.items():
            if name in own:
                first = texts[homes.get((kind, name), 0)][0]
                raise RequestError(f"{file}: {kind}.{name} is in {first} too; a name is there once")
            own[name] = form
            homes[kind, name] = len(texts)


def content_of(text: str, name: str) -> dict[str, Any]:
    """Return the content of a text in TOML; `name` is what errors call it.

    Raises:
        RequestError: it is none.
    """
    for number, line in enumerate(text.split("\n"), 1):
        if line.count(".") > MOST_DOTS and not line.lstrip().startswith("#"):
            raise RequestError(
                f"{name}, line {number}: it has more than {MOST_DOTS} dots, the most that a line of a sheet may have"
            )
    try:
        return tomli.loads(text)
    except RecursionError:
        raise RequestError(f"{name}: not valid TOML: nested too deeply") from None
    except ValueError as error:  # not TOML, or a number of thousands of digits
        raise RequestError(f"{name}: not valid TOML: {str(error).partition(';')[0]}") from None


def text_of(path: Path) -> str:
    """Return the text of the sheet at `path`.

    Raises:
        RequestError: there is none, or it is no text of a sheet's size.
        OSError: the system does not let it be read.
    """
    if path.is_dir():
        raise RequestError(f"{path}: this is a folder; name the sheet in it")
    if path.exists() and not path.is_file():
        raise RequestError(f"{path}: this is not a plain file; name a sheet")
    try:
        with path.open("rb") as file:
            data = file.read(LARGEST_SHEET + 1)
    except FileNotFoundError:
        raise RequestError(f"{path}: there is no such sheet") from None
    if len(data) > LARGEST_SHEET:
        raise RequestError(f"{path}: it is larger than {LARGEST_SHEET} bytes, the most that a sheet may have")
    try:
        return data.decode()
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise RequestError(f"{path}, line {line}: not UTF-8 text, so not a sheet") from None
