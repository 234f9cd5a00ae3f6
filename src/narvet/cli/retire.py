"""`narvet retire`."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from narvet.cli.common import AS_JSON, SHEET, print_json, print_text
from narvet.errors import RequestError


@click.command("retire")
@SHEET
@click.argument("disk")
@click.option("--yes", is_flag=True, help="Do not ask before the disk is removed for good.")
@AS_JSON
def command(sheet: Path, disk: str, yes: bool, as_json: bool) -> None:
    """Remove DISK for good: its entries from the guest, its image from the store, its tables from SHEET.

    Refused while anything needs it: a child, a copy still to be made, a volume mounted in it, a running guest. If it is
    interrupted, retire the disk again.

    Example: narvet retire sheet.toml notes
    """
    from narvet.report import text
    from narvet.work.apply import at_work_on, carry_out, clear_stores
    from narvet.work.gather import lay_out
    from narvet.work.retire import retirement

    with at_work_on(sheet):
        layout, facts = lay_out(sheet)
        clear_stores(layout)
        todo = retirement(sheet, disk, layout, facts)
        if not yes:
            if not sys.stdin.isatty():
                raise RequestError(f"{sheet}: disk {disk} would be removed for good; add --yes if that is meant")
            for step in todo:
                click.echo(f"  {step.touches}: {step.summary}", err=True)
            click.confirm(f"Remove disk {disk} and all it holds?", abort=True, err=True)
        carry_out(sheet, todo, lambda _: None)
    if as_json:
        print_json({"done": [step.touches for step in todo]})
    else:
        print_text(lambda _: text.steps_done(todo))
