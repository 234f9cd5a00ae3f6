"""The example: a made-up seed bank's sheet and the roots of its guests, laid out in a new folder."""

from __future__ import annotations

import shutil
from importlib.resources import as_file, files
from pathlib import Path

from narvet.ground.errors import RequestError

STORES = ("vault", "annex")


def lay_example_out(folder: Path) -> Path:
    """Make `folder` with the example in it, and return its sheet.

    Raises:
        RequestError: the folder exists and is not empty.
        OSError: the system does not let it be made.
    """
    if folder.exists() and (not folder.is_dir() or next(folder.iterdir(), None) is not None):
        raise RequestError(f"{folder} is there already; name a new folder for the example")
    with as_file(files(__name__) / "larkmoor") as example:
        shutil.copytree(example, folder, dirs_exist_ok=True)
    for store in STORES:
        (folder / "stores" / store).mkdir(parents=True)
    return folder / "sheet.toml"
