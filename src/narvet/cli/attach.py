"""`narvet attach`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import AS_JSON, BY_HAND, DRY, LIST, print_attached
from narvet.cli.job import job, on_sheet


@job("attach")
@on_sheet("disks")
@click.option("--enlarge", is_flag=True, help="Let a disk that is plugged in already grow to its size in SHEET.")
@BY_HAND
@LIST
@DRY
@AS_JSON
def command(
    sheet: Path, disks: tuple[str, ...], enlarge: bool, by_hand: bool, to: Path | None, dry: bool, as_json: bool
) -> None:
    """Plug DISKS of SHEET, or all of them, into their guests.

    A guest with a door gets them at once; for the others it lists what to do by hand. Only what `narvet confirm` would
    pass is plugged in, and what is plugged in as asked stays so: after an interruption, attach again.

    Example: narvet attach sheet.toml trials
    """
    from narvet.report.progress import counting

    with counting(str(sheet)) as count:
        done = narvet.attach(sheet, disks, enlarge=enlarge, by_hand=by_hand, dry=dry, on_copied=count)
    print_attached(done, to, as_json=as_json, dry=dry)
