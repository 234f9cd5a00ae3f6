"""`narvet history`."""

from __future__ import annotations

from pathlib import Path

import narvet
from narvet.cli.common import AS_JSON, print_json, print_text
from narvet.cli.job import job, on_sheet


@job("history")
@on_sheet("names")
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
        print_text(lambda marks: text.history(events, marks))
