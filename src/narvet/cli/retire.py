"""`narvet retire`."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

import narvet
from narvet.cli.common import AS_JSON, DRY, begin_dry, print_json, print_text
from narvet.cli.job import job, on_sheet
from narvet.cli.speak import say
from narvet.cli.spread import spreads

if TYPE_CHECKING:
    from narvet import Step
    from narvet.report.shapes.works import RetireFacts


@job("retire")
@on_sheet("disk", least=1, most=1)
@spreads
@click.option("--yes", is_flag=True, help="Do not ask before the disk is removed for good.")
@DRY
@AS_JSON
def command(sheet: Path, disk: tuple[str, ...], yes: bool, dry: bool, as_json: bool) -> None:
    """Remove DISK for good: its entries from the guest, its image from the store, its tables from SHEET.

    A volume of a pool is named with it, such as cold.readings. Refused while anything needs it: a child, a copy still
    to be made, a volume mounted in it, a pool that it is a member of, a running guest. If it is interrupted, retire it
    again.

    Example: narvet retire sheet.toml notes
    """
    from narvet.report import text

    (name,) = disk
    done = narvet.retire(sheet, name, lambda todo: yes or _agreed(sheet, name, todo), dry=dry)
    if as_json:
        facts: RetireFacts = {"done": [step.touches for step in done], "dry": dry}
        print_json(facts)
        return
    begin_dry(dry)
    print_text(lambda _: text.steps_done(done))


def _agreed(sheet: Path, disk: str, todo: Sequence[Step]) -> bool:
    """Show what would be done, and ask; Abort is raised for a no."""
    if not sys.stdin.isatty():
        raise narvet.RequestError(f"{sheet}: disk {disk} would be removed for good; add --yes if that is meant")
    for step in todo:
        say(f"  {step.touches}: {step.summary}", err=True)
    return click.confirm(f"Remove disk {disk} and all it holds?", abort=True, err=True)
