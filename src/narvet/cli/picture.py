"""`narvet picture`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

import narvet
from narvet.cli.common import AS_JSON, tell

if TYPE_CHECKING:
    from narvet import StoreCapacity
    from narvet.report.picture import Core


@click.command("picture")
@click.argument("source", type=click.Path(path_type=Path, readable=False))
@click.argument("names", nargs=-1)
@click.option(
    "--to", "target", type=click.Path(path_type=Path), help="The picture, .png or .svg; beside SOURCE if left out."
)
@AS_JSON
@click.option("--replace", is_flag=True, help="Draw over a file that is there already.")
def command(source: Path, names: tuple[str, ...], target: Path | None, replace: bool, as_json: bool) -> None:
    """Draw SOURCE, a sheet or an image: each disk as a core sample, each store with what it holds and has promised.

    NAMES are the disks of a sheet to be drawn, or further images.

    Example: narvet picture sheet.toml --to layout.png
    """
    from narvet.report import picture

    target = target or source.with_name(f"{source.stem}.png")
    if target.suffix.lower()[1:] not in picture.KINDS:
        raise narvet.RequestError(f"{target}: a picture ends in .png or .svg")
    if target.exists() and not replace:
        raise narvet.RequestError(f"{target} is there already; name a file that is not, or add --replace")
    if source.suffix == ".toml":
        title, cores, stores = _of_sheet(source, names)
    else:
        title, cores, stores = _of_images((str(source), *names))
    if len(cores) > picture.MOST_CORES:
        most = picture.MOST_CORES
        raise narvet.RequestError(
            f"{source}: {len(cores)} disks are too many for one picture; name up to {most} of them"
        )
    picture.draw(title, cores, stores, target)
    facts = {"path": str(target), "disks": [core.name for core in cores]}
    tell(as_json, facts, f"{target}: {narvet.counted(len(cores), 'disk')} drawn.")


def _of_sheet(sheet: Path, names: tuple[str, ...]) -> tuple[str, list[Core], tuple[StoreCapacity, ...]]:
    from narvet.report.picture import cores_of

    layout = narvet.review(sheet).layout
    known = {disk.name: disk for disk in layout.disks}
    unknown = [name for name in names if name not in known]
    if unknown:
        raise narvet.RequestError(f'{sheet}: there is no disk "{unknown[0]}" in the sheet')
    disks = [known[name] for name in names] or list(layout.disks)
    return layout.title, cores_of(disks), () if names else layout.stores


def _of_images(paths: tuple[str, ...]) -> tuple[str, list[Core], tuple[StoreCapacity, ...]]:
    from narvet.report.picture import cores_found

    found = [narvet.survey(path, deep=False) for path in paths]
    return "As found", cores_found(found), ()
