"""`narvet write`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import AS_JSON, SHEET, print_findings, print_json, print_text, status_of


@click.command("write")
@SHEET
@click.option("--anew", multiple=True, help="Make this disk although it was made before; repeatable.")
@AS_JSON
@click.pass_context
def command(ctx: click.Context, sheet: Path, anew: tuple[str, ...], as_json: bool) -> None:
    """Make what SHEET asks for: images, mount points, entries.

    What is there already as asked is left alone. If it is interrupted, write again: nothing is left half-done under
    its real name. A finding of level error stops it before anything is written.

    Example: narvet write sheet.toml
    """
    from narvet.report import facts, text
    from narvet.report.progress import progress

    with progress() as bar:
        written = narvet.write(sheet, anew=anew, on_start=bar.start, on_done=bar.done, on_copied=bar.copied)
    if as_json:
        print_json(facts.write_facts(written.done, written.layout.findings))
    else:
        print_findings(written.layout.findings)
        print_text(lambda _: text.written(written))
    ctx.exit(status_of(written.layout.findings))
