"""`narvet write`."""

from __future__ import annotations

from pathlib import Path

import click

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
    from narvet.report.progress import progress
    from narvet.work.apply import at_work_on, carry_out, clear_stores
    from narvet.work.gather import lay_out
    from narvet.work.steps import steps

    with at_work_on(sheet):
        layout, facts = lay_out(sheet, anew=anew)
        clear_stores(layout)
        todo = () if status_of(layout.findings) else steps(layout, facts)
        with progress(len(todo)) as advance:
            carry_out(sheet, todo, advance)
    if as_json:
        from narvet.report.facts import write_facts

        print_json(write_facts(todo, layout.findings))
    else:
        from narvet.report import text

        print_findings(layout.findings)
        print_text(lambda _: text.written(layout, todo))
    ctx.exit(status_of(layout.findings))
