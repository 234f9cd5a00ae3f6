"""`narvet history`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import AS_JSON, SHEET, print_json, print_text


@click.command("history")
@SHEET
@click.argument("names", nargs=-1)
@AS_JSON
def command(sheet: Path, names: tuple[str, ...], as_json: bool) -> None:
    """Show what was done for SHEET, and when: all of it, or what was done for the disks and guests in NAMES.

    It is read from the ledger beside the sheet, where each step is written down once it is done.

    Example: narvet history sheet.toml trials
    """
    from narvet.report import facts, text

    events = narvet.history(sheet, names)
    if as_json:
        print_json([facts.event_facts(one) for one in events])
    else:
        print_text(lambda _: text.history(events))
