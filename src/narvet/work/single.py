"""One disk without a sheet: the same way as with one, from a sheet that is made up for it."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any
from uuid import UUID

from narvet.errors import RequestError
from narvet.filesystems import filesystem
from narvet.layout.model import Layout
from narvet.layout.work_out import work_out
from narvet.sheet.read import sheet_of
from narvet.work.gather import dated, gather

PARTITION_KEYS = ("filesystem", "label", "for", "owner", "mode", "unit")


def lay_single(image: Path, identity: UUID, wishes: Mapping[str, Any]) -> Layout:
    """Return the layout of one disk, at `image`; `wishes` are keys of a sheet's disk and of its one partition.

    Raises:
        RequestError: a wish is not valid, or the name is taken.
    """
    if image.exists() or image.is_symlink():
        raise RequestError(f"{image} is there already; name a file that is not")
    name = re.sub(r"[^A-Za-z0-9_.-]", "-", image.stem).lstrip("_.-")[:63] or "disk"
    disk = {key: value for key, value in wishes.items() if key not in (*PARTITION_KEYS, "runs")}
    part = {key: value for key, value in wishes.items() if key in PARTITION_KEYS}
    if "unit" in part:
        part["block"] = part.pop("unit")
    _refuse_without_effect(disk, part)
    disk["partition"] = [part]
    content = {
        "sheet": 1,
        "identity": identity,
        "store": {"folder": {"path": str(image.parent)}},
        "guest": {"any": {"runs": wishes.get("runs", "linux")}},
        "disk": {name: {"guest": "any", "store": "folder", **disk}},
    }
    sheet = dated(sheet_of(content, str(image)))
    layout = work_out(sheet, gather(sheet, Path("sheet")))
    return replace(layout, disks=tuple(replace(disk, path=str(image)) for disk in layout.disks))


def _refuse_without_effect(disk: Mapping[str, Any], part: Mapping[str, Any]) -> None:
    """Raise RequestError for wishes that would change nothing about the disk."""
    kind = part.get("filesystem", "")
    if kind == "none":
        idle = [key for key in ("for", "owner", "mode", "block") if key in part]
    elif kind and not filesystem(kind).keeps_owner:
        idle = [key for key in ("owner", "mode") if key in part]
    else:
        idle = []
    if idle:
        option = "unit" if idle[0] == "block" else idle[0]
        without = "without a filesystem" if kind == "none" else f"on {kind}, which keeps none"
        raise RequestError(f"--{option} has no effect {without}; leave one of them out")
    if disk.get("table") == "none":
        if "align" in disk:
            raise RequestError("--align has no effect without a table; leave one of them out")
        if part.get("filesystem") == "none" and "label" in part:
            raise RequestError("--label has no effect without a table and a filesystem; leave it out")
