"""`narvet unwrap`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import A_PATH, AS_JSON, DRY, tell_wrapped
from narvet.cli.job import job


@job("unwrap")
@click.argument("package", type=A_PATH)
@click.argument("folder", type=A_PATH)
@click.option(
    "--format", "format_name", type=click.Choice(narvet.IMAGE_FORMATS), help="Give its disks this format, not packed."
)
@DRY
@AS_JSON
def command(package: Path, folder: Path, format_name: str | None, dry: bool, as_json: bool) -> None:
    """Take PACKAGE, a guest's description with its files, apart into a new FOLDER.

    Everything is held against the package's manifest. With --format its disks become images of that format, which
    guests can write to.

    Example: narvet unwrap coldroom.ova coldroom --format qcow2
    """
    from narvet.report.progress import counting

    with counting(str(folder)) as count:
        done = narvet.unwrap(package, folder, format_name=format_name, dry=dry, on_copied=count)
    tell_wrapped(done, as_json=as_json, dry=dry)
