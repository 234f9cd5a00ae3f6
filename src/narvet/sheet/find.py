"""The one sheet in a folder, for calls that do not name it."""

from __future__ import annotations

import tomllib
from pathlib import Path

from narvet.ground.errors import RequestError
from narvet.sheet.files import MOST_DOTS, text_of

_LARGEST = 1 << 20  # bytes of a file that is looked into
_MOST_FILES = 200


def find_sheet(folder: Path) -> Path:
    """Return the one sheet in a folder: a file in TOML that says `sheet = …`.

    Raises:
        RequestError: there is none, or there are several.
    """
    found = sheets_in(folder)
    if not found:
        raise RequestError("There is no sheet in this folder; name one, or start one: narvet draft sheet.toml")
    if len(found) > 1:
        names = ", ".join(path.name for path in found)
        raise RequestError(f"There are {len(found)} sheets in this folder; name one of them: {names}")
    return found[0]


def sheets_in(folder: Path) -> list[Path]:
    """Return the sheets in a folder, by their names; files that cannot be read are none."""
    every = sorted(folder.glob("*.toml"))[:_MOST_FILES]
    return [path.relative_to(folder) if str(folder) == "." else path for path in every if _is_sheet(path)]


def _is_sheet(path: Path) -> bool:
    """Return whether a file is a sheet, perhaps one with mistakes in it."""
    try:
        if path.stat().st_size > _LARGEST:  # only a sheet is as long as that
            return True
        text = text_of(path)
    except (RequestError, OSError):
        return False
    if any(line.count(".") > MOST_DOTS for line in text.splitlines()):  # reading such a line takes very long
        return False
    try:
        return "sheet" in tomllib.loads(text)
    except (ValueError, RecursionError):
        return any(line.replace(" ", "").startswith("sheet=") for line in text.splitlines()[:200])
