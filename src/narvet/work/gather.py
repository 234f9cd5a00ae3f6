"""Gathering the facts for a sheet, and the sheet worked out with them: where the pure layout meets the world."""

from __future__ import annotations

import os
from collections import defaultdict
from dataclasses import replace
from pathlib import Path

from narvet.errors import NarvetError, RequestError
from narvet.findings import Finding
from narvet.guests.registry import registry_facts
from narvet.guests.roots import root_facts
from narvet.hosts.stores import store_facts
from narvet.images import image_format
from narvet.images.chain import open_image
from narvet.layout.disks import image_path
from narvet.layout.facts import Facts, OriginFacts, StoreFacts, Survey
from narvet.layout.model import Layout
from narvet.layout.work_out import work_out
from narvet.sheet.model import LATEST, DiskForm, Sheet
from narvet.sheet.read import read_sheet
from narvet.survey.probe import survey


def lay_out(path: Path, *, deep: bool = False) -> tuple[Layout, Facts]:
    """Return the sheet at `path` worked out, with the facts it was worked out from; `deep` checks what exists in full.

    Raises:
        RequestError: the sheet is not a valid one.
    """
    sheet = read_sheet(path)
    sheet = dated(sheet.model_copy(update={"title": sheet.title or path.stem}))
    facts = gather(sheet, path, deep=deep)
    return work_out(sheet, facts), facts


def dated(sheet: Sheet) -> Sheet:
    """Return a sheet with the time that is written into its disks.

    Raises:
        RequestError: SOURCE_DATE_EPOCH is not a time.
    """
    return sheet.model_copy(update={"dated": _moment(sheet.dated)})


def _moment(dated: int) -> int:
    """Return the time to write into disks: the sheet's, unless SOURCE_DATE_EPOCH sets one for the whole build."""
    asked = os.environ.get("SOURCE_DATE_EPOCH", "")
    if not asked:
        return dated
    if not (asked.isascii() and asked.isdigit() and int(asked) < LATEST):
        raise RequestError(f'SOURCE_DATE_EPOCH is "{asked}"; seconds since 1970, below {LATEST}, expected')
    return int(asked)


def gather(sheet: Sheet, path: Path, *, deep: bool = False) -> Facts:
    """Return the facts of a sheet's stores, images and guests; its relative paths start where its file, `path`, is."""
    base = path.parent
    stores = {name: store_facts(str(base / form.path)) for name, form in sheet.store.items()}
    images = {}
    for name, form in sheet.disk.items():
        store = stores[form.store]
        if not store.exists:
            continue
        image = Path(image_path(store.path, name, form))
        if image.exists() or image.is_symlink():
            images[name] = _survey(image, deep=deep)
    origins = _origins(sheet, base, stores, images)
    mount_points: dict[str, list[str]] = defaultdict(list)
    for form in sheet.disk.values():
        mount_points[form.guest] += [part.at for part in form.partition if part.at and part.at.startswith("/")]
    roots = {
        name: root_facts(name, str(base / form.root) if form.root is not None else None, mount_points[name])
        for name, form in sheet.guest.items()
        if form.runs == "linux"
    }
    registry = {
        name: registry_facts(base / f"{path.stem}.{name}.reg")
        for name, form in sheet.guest.items()
        if form.runs == "windows"
    }
    return Facts(stores, images, roots, origins, registry)


def _origins(
    sheet: Sheet, base: Path, stores: dict[str, StoreFacts], images: dict[str, Survey]
) -> dict[str, OriginFacts]:
    """Return what each disk that is a copy or a child comes from."""
    places = {
        Path(image_path(stores[form.store].path, name, form)).resolve(): name for name, form in sheet.disk.items()
    }
    found = {}
    for name, form in sheet.disk.items():
        named = form.copy_of or form.base
        if named is not None:
            path = (base / named).resolve()
            image = Path(image_path(stores[form.store].path, name, form))
            facts = _origin(path, image, form, images.get(name))
            found[name] = replace(facts, disk=places.get(path))
    return found


def _origin(path: Path, image: Path, form: DiskForm, made: Survey | None) -> OriginFacts:
    from narvet.work.relatives import base_of

    is_base = made is not None and made.base is not None and Path(made.base).resolve() == path
    try:
        there = survey(str(path), deep=False)
        damaged = next((one.message for one in there.findings if one.rule == "image-damaged"), None)
        if damaged is not None:
            return OriginFacts(str(path), is_base=is_base, problem=damaged)
        if form.base is not None:
            about, _ = base_of(path, image, image_format(form.format))
            return OriginFacts(str(path), there, base=about, is_base=is_base)
        with open_image(path) as device:
            return OriginFacts(str(path), there, sum(length for _, length in device.extents()))
    except NarvetError as error:
        return OriginFacts(str(path), is_base=is_base, problem=str(error))


def _survey(path: Path, *, deep: bool) -> Survey:
    """Return the survey of what lies where an image should be, even if that is no image at all."""
    try:
        return survey(str(path), deep=deep)
    except RequestError as error:
        said = Finding("image-cannot-be-read", "error", str(path), str(error), "move it away")
        return Survey(str(path), "none", "full", 0, 0, 0, None, "none", "", (), (said,))
