"""`narvet confirm`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import AS_JSON, INSIDE, print_findings, print_json, print_text, report_well
from narvet.cli.job import job, on_sheet
from narvet.cli.spread import spreads
from narvet.cli.unseal import unseals


@job("confirm")
@on_sheet()
@spreads
@INSIDE
@unseals()
@AS_JSON
@click.pass_context
def command(ctx: click.Context, sheet: Path, inside: str | None, as_json: bool) -> None:
    """Read everything back that SHEET asks for, and show what is not as asked; change nothing.

    What a running guest has plugged in is looked at, but not read in full. With --inside it looks at the devices of
    this guest, here inside it, and at what is mounted.

    Example: narvet confirm sheet.toml
    """
    from narvet.report import facts, text

    layout = narvet.confirm(sheet) if inside is None else narvet.confirm_inside(sheet, inside)
    told = (narvet.owner_not_set, narvet.not_read_in_full)
    print_findings([finding for finding in layout.findings if any(rule.made(finding) for rule in told)])
    if as_json:
        print_json(facts.confirm_facts(layout.differences))
    elif layout.differences:
        print_text(lambda _: text.differences(layout.differences))
    else:
        report_well(f"Everything is as {sheet} asks: {narvet.counted(len(layout.disks), 'disk')} read back.")
    ctx.exit(1 if layout.differences else 0)
