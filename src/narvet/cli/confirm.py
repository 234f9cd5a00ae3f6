"""`narvet confirm`."""

from __future__ import annotations

from pathlib import Path

import click

from narvet.cli.common import AS_JSON, SHEET, print_findings, print_json, print_text


@click.command("confirm")
@SHEET
@AS_JSON
@click.pass_context
def command(ctx: click.Context, sheet: Path, as_json: bool) -> None:
    """Read everything back that SHEET asks for, and show what is not as asked; change nothing.

    Example: narvet confirm sheet.toml
    """
    from narvet.layout.compare import compare_all
    from narvet.work.gather import lay_out

    layout, facts = lay_out(sheet, deep=True)
    differences = compare_all(layout, facts)
    print_findings([finding for finding in layout.findings if finding.rule == "owner-not-set"])
    if as_json:
        from narvet.report.facts import confirm_facts

        print_json(confirm_facts(differences))
    elif differences:
        from narvet.report import text

        print_text(lambda _: text.differences(differences))
    else:
        click.echo(f"Everything is as {sheet} asks: {len(layout.disks)} disks read back.")
    ctx.exit(1 if differences else 0)
