"""`narvet confirm`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import AS_JSON, SHEET, print_findings, print_json, print_text, say


@click.command("confirm")
@SHEET
@AS_JSON
@click.pass_context
def command(ctx: click.Context, sheet: Path, as_json: bool) -> None:
    """Read everything back that SHEET asks for, and show what is not as asked; change nothing.

    Example: narvet confirm sheet.toml
    """
    from narvet.report import facts, text

    layout = narvet.confirm(sheet)
    print_findings([finding for finding in layout.findings if narvet.owner_not_set.made(finding)])
    if as_json:
        print_json(facts.confirm_facts(layout.differences))
    elif layout.differences:
        print_text(lambda _: text.differences(layout.differences))
    else:
        say(f"Everything is as {sheet} asks: {narvet.counted(len(layout.disks), 'disk')} read back.")
    ctx.exit(1 if layout.differences else 0)
