"""`narvet picture`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

import narvet
from narvet.cli.common import AS_JSON, DRY, tell
from narvet.cli.job import job, on_sheet
from narvet.cli.spread import spreads

if TYPE_CHECKING:
    from narvet import StoreCapacity
    from narvet.report.picture import Core
    from narvet.report.shapes.works import PictureFacts


@job("picture")
@on_sheet("names")
@spreads
@click.option(
    "--to", "target", type=click.Path(path_type=Path), help="The picture, .png, .svg or .pdf; beside SHEET if left out."
)
@click.option("--replace", is_flag=True, help="Draw over a file that is there already.")
@DRY
@AS_JSON
def command(sheet: Path, names: tuple[str, ...], target: Path | None, replace: bool, dry: bool, as_json: bool) -> None:
    """Draw SHEET, or an image in its place: each disk as a core sample, each store with what it holds and has promised.

    NAMES are the disks of the sheet to be drawn, or further images. More than 60 disks are drawn on several pages.

    Example: narvet picture sheet.toml --to layout.png
    """
    from narvet.report import picture

    source = sheet
    target = target or source.with_name(f"{source.stem}.png")
    if target.suffix.lower()[1:] not in picture.KINDS:
        raise narvet.RequestError(f"{target}: a picture ends in .png, .svg or .pdf")
    if source.suffix == ".toml":
        title, cores, stores = _of_sheet(source, names)
    else:
        title, cores, stores = _of_images((str(source), *names))
    paths = picture.targets(target, len(cores), len(stores))
    for path in paths:
        if path.exists() and not replace:
            raise narvet.RequestError(f"{path} is there already; name a file that is not, or add --replace")
    if not dry:
        picture.draw(title, cores, stores, target)
    facts: PictureFacts = {
        "path": str(paths[0]), "paths": [str(path) for path in paths], "disks": [core.name for core in cores],
        "dry": dry,
    }  # fmt: skip
    named = str(target) if len(paths) == 1 else f"{paths[0]} to {paths[-1]}"
    tell(as_json, facts, f"{named}: {narvet.counted(len(cores), 'disk')} drawn.", dry=dry)


def _of_sheet(sheet: Path, names: tuple[str, ...]) -> tuple[str, list[Core], tuple[StoreCapacity, ...]]:
    from narvet.report.picture import cores_of

    layout = narvet.review(sheet, names).layout
    known = {disk.name: disk for disk in layout.disks}
    disks = [known[name] for name in names] or list(layout.disks)
    return layout.title, cores_of(disks, layout.pools), () if names else layout.stores


def _of_images(paths: tuple[str, ...]) -> tuple[str, list[Core], tuple[StoreCapacity, ...]]:
    from narvet.report.picture import cores_found

    found = [narvet.survey(path, deep=False) for path in paths]
    return "As found", cores_found(found), ()
