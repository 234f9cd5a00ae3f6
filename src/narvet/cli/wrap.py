"""`narvet wrap`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import A_PATH, AS_JSON, DRY, tell_wrapped
from narvet.cli.job import job


@job("wrap")
@click.argument("description", type=A_PATH)
@click.argument("package", type=A_PATH)
@DRY
@AS_JSON
def command(description: Path, package: Path, dry: bool, as_json: bool) -> None:
    """Make one file, PACKAGE, of a guest's DESCRIPTION in OVF and all its files, to hand it over.

    Disks go in as packed vmdk images, whatever they are kept in; the package has a manifest of digests.

    Example: narvet wrap coldroom.ovf coldroom.ova
    """
    from narvet.report.progress import counting

    with counting(str(package)) as count:
        done = narvet.wrap(description, package, dry=dry, on_copied=count)
    tell_wrapped(done, as_json=as_json, dry=dry)
