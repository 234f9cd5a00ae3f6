"""Gathering the facts for a sheet, and the sheet worked out with them: where the pure layout meets the world."""

from __future__ import annotations

import os
from collections import defaultdict
from pathlib import Path

from narvet.errors import RequestError
from narvet.findings import Finding
from narvet.guests.roots import root_facts
from narvet.hosts.stores import store_facts
from narvet.layout.disks import image_path
from narvet.layout.facts import Facts, Survey
from narvet.layout.model import Layout
from narvet.layout.work_out import work_out
from narvet.sheet.model import LATEST, Sheet
from narvet.sheet.read import read_sheet
from narvet.survey.probe import survey


def lay_out(path: Path) -> tuple[Layout, Facts]:
    """Return the sheet at `path` worked out, with the facts it was worked out from.

    Raises:
        RequestError: the sheet is not a valid one.
    """
    sheet = read_sheet(path)
    sheet = sheet.model_copy(update={"title": sheet.title or path.stem, "dated": _moment(sheet.dated)})
    facts = gather(sheet, path.parent)
    return work_out(sheet, facts), facts


def _moment(dated: int) -> int:
    """Return the time to write into disks: the sheet's, unless SOURCE_DATE_EPOCH sets one for the whole build."""
    asked = os.environ.get("SOURCE_DATE_EPOCH", "")
    if not asked:
        return dated
    if not (asked.isascii() and asked.isdigit() and int(asked) < LATEST):
        raise RequestError(f'SOURCE_DATE_EPOCH is "{asked}"; seconds since 1970, below {LATEST}, expected')
    return int(asked)


def gather(sheet: Sheet, base: Path) -> Facts:
    """Return the facts of a sheet's stores, images and roots; its relative paths start at `base`."""
    stores = {name: store_facts(str(base / form.path)) for name, form in sheet.store.items()}
    images = {}
    for name, form in sheet.disk.items():
        store = stores[form.store]
        if not store.exists:
            continue
        path = Path(image_path(store.path, name, form))
        if path.exists() or path.is_symlink():
            images[name] = _survey(path)
    mount_points: dict[str, list[str]] = defaultdict(list)
    for form in sheet.disk.values():
        mount_points[form.guest] += [part.at for part in form.partition if part.at]
    roots = {
        name: root_facts(name, str(base / form.root) if form.root is not None else None, mount_points[name])
        for name, form in sheet.guest.items()
    }
    return Facts(stores, images, roots)


def _survey(path: Path) -> Survey:
    """Return the survey of what lies where an image should be, even if that is no image at all."""
    try:
        return survey(str(path))
    except RequestError as error:
        said = Finding("image-cannot-be-read", "error", str(path), str(error), "move it away")
        return Survey(str(path), "none", "full", 0, 0, 0, None, "none", "", (), (said,))
