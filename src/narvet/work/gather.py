"""Gathering the facts for a sheet, and the sheet worked out with them: where the pure layout meets the world."""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import replace
from pathlib import Path

from narvet.block.names import is_working_name
from narvet.errors import NarvetError, RequestError
from narvet.findings import Finding
from narvet.guests.registry import registry_facts
from narvet.guests.roots import root_facts
from narvet.hosts.stores import store_facts
from narvet.images import format_by_content, format_by_ending, image_format
from narvet.images.chain import Link, chain, open_chain
from narvet.images.trust import Trust
from narvet.layout.disks import image_path
from narvet.layout.facts import Facts, OriginFacts, Recorded, StoreFacts, Survey
from narvet.layout.model import Layout
from narvet.layout.work_out import work_out
from narvet.sheet.model import LATEST, DiskForm, Sheet
from narvet.sheet.read import read_sheet
from narvet.survey.probe import survey
from narvet.work.ledger import ledger_path, recorded

_LOOK = Trust(by_content=True)


def lay_out(path: Path, *, deep: bool = False, anew: Iterable[str] = ()) -> tuple[Layout, Facts]:
    """Return the sheet at `path` worked out, with the facts it was worked out from; `deep` checks what exists in full.

    `anew` names disks to be made although they were made before.

    Raises:
        RequestError: the sheet is not a valid one, or has no such disk.
    """
    sheet = read_sheet(path)
    unknown = next((name for name in anew if name not in sheet.disk), None)
    if unknown is not None:
        raise RequestError(f'{path}: there is no disk "{unknown}" in the sheet')
    sheet = dated(sheet.model_copy(update={"title": sheet.title or path.stem}))
    facts = replace(gather(sheet, path, deep=deep), anew=frozenset(anew))
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
    if not (asked.isascii() and asked.isdigit() and len(asked) < 12 and int(asked) < LATEST):
        raise RequestError(f'SOURCE_DATE_EPOCH is "{asked[:40]}"; seconds since 1970, below {LATEST}, expected')
    return int(asked)


def gather(sheet: Sheet, path: Path, *, deep: bool = False) -> Facts:
    """Return the facts of a sheet's stores, images and guests; its relative paths start where its file, `path`, is."""
    base = path.parent
    stores = {name: store_facts(str(base / form.path)) for name, form in sheet.store.items()}
    places = {name: Path(image_path(stores[form.store].path, name, form)) for name, form in sheet.disk.items()}
    trust = _trust(sheet, base, places)
    images = {
        name: _survey(places[name], trust, _sector(form), deep=deep)
        for name, form in sheet.disk.items()
        if stores[form.store].exists and os.path.lexists(places[name])
    }
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
    made = recorded(ledger_path(path))
    strays = tuple(_strays(stores, places, made, trust))
    return Facts(stores, images, roots, _origins(sheet, base, places, images, trust), registry, strays, made)


def _sector(form: DiskForm) -> int | None:
    """Return the sector size that a sheet gives a disk; a copy or child has that of its origin."""
    return form.sector if form.copy_of is form.base is None else None


def _trust(sheet: Sheet, base: Path, places: dict[str, Path]) -> Trust:
    """Return what a sheet says of images: the formats of its disks, and which images it names."""
    formats = {os.path.realpath(places[name]): form.format for name, form in sheet.disk.items()}
    named = [base / name for form in sheet.disk.values() for name in (form.base, form.copy_of) if name is not None]
    return Trust(formats, frozenset({*formats, *(os.path.realpath(path) for path in named)}))


def _strays(
    stores: dict[str, StoreFacts], places: dict[str, Path], made: tuple[Recorded, ...], trust: Trust
) -> Iterator[Survey]:
    """Yield what is found on the images that lie in the stores, or where the ledger has some, and are no disk's."""
    known = {os.path.realpath(place) for place in places.values()}
    folders = {os.path.realpath(store.path): Path(store.path) for store in stores.values() if store.exists}
    inside = [path for folder in folders.values() for path in sorted(folder.iterdir())]
    seen: set[str] = set()
    for path in (*inside, *(Path(one.path) for one in made)):
        real = os.path.realpath(path)
        if real in known or real in seen or is_working_name(path.name) or not path.is_file():
            continue
        seen.add(real)
        try:
            if format_by_ending(path) or format_by_content(path):
                yield survey(str(path), deep=False, trust=replace(trust, by_content=True))
        except (NarvetError, OSError):  # not an image that can be read, so not one that could be missed
            continue


def _origins(
    sheet: Sheet, base: Path, places: dict[str, Path], images: dict[str, Survey], trust: Trust
) -> dict[str, OriginFacts]:
    """Return what each disk that is a copy or a child comes from."""
    disks = {os.path.realpath(place): name for name, place in places.items()}
    found = {}
    for name, form in sheet.disk.items():
        named = form.copy_of or form.base
        if named is not None:
            path = Path(os.path.realpath(base / named))
            facts = _origin(path, places[name], form, images.get(name), trust)
            found[name] = replace(facts, disk=disks.get(str(path)))
    return found


def _origin(path: Path, image: Path, form: DiskForm, made: Survey | None, trust: Trust) -> OriginFacts:
    from narvet.work.children import base_of

    is_base = made is not None and made.base is not None and os.path.realpath(made.base) == str(path)
    try:
        links = chain(path, trust)
        there = survey(str(path), deep=False, trust=trust)
        damaged = next((one.message for one in there.findings if one.rule == "image-damaged"), None)
        if damaged is not None:
            return OriginFacts(str(path), is_base=is_base, problem=damaged)
        if form.base is not None:
            about, _ = base_of(links[0], image, image_format(form.format))
            return OriginFacts(str(path), there, base=about, is_base=is_base)
        return OriginFacts(str(path), there, _data(links), is_base=is_base)
    except NarvetError as error:
        return OriginFacts(str(path), is_base=is_base, problem=str(error))


def _data(links: list[Link]) -> int:
    """Return the bytes of a disk that may hold data."""
    with open_chain(links) as device:
        return sum(length for _, length in device.extents())


def _survey(path: Path, trust: Trust, sector: int | None, *, deep: bool) -> Survey:
    """Return the survey of what lies where an image should be, even if that is no image at all."""
    try:
        return survey(str(path), deep=deep, trust=trust, sector=sector)
    except RequestError as error:
        said = Finding("image-cannot-be-read", "error", str(path), str(error), "move it away")
        return Survey(str(path), "none", "full", 0, 0, 0, None, "none", "", (), (said,))
