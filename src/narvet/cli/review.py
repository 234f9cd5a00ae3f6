"""`narvet review`."""

from __future__ import annotations

from pathlib import Path

import click

from narvet.cli.common import AS_JSON, SHEET, print_json, print_text, status_of
from narvet.errors import RequestError


@click.command("review")
@SHEET
@click.argument("disks", nargs=-1)
@AS_JSON
@click.pass_context
def command(ctx: click.Context, sheet: Path, disks: tuple[str, ...], as_json: bool) -> None:
    """Work SHEET out and show everything that would be made; write nothing.

    Shows offsets and sizes, what each guest will report and where each missing byte went, every store's room, the
    entries, and the findings. DISKS are the disks to look at in depth, with what is found about them.

    Example: narvet review sheet.toml trials
    """
    from narvet.work.gather import lay_out

    layout, _ = lay_out(sheet)
    unknown = [name for name in disks if name not in {disk.name for disk in layout.disks}]
    if unknown:
        raise RequestError(f'{sheet}: there is no disk "{unknown[0]}" in the sheet')
    if as_json:
        from narvet.report.facts import review_facts

        print_json(review_facts(layout))
    else:
        from narvet.report import text

        print_text(lambda marks: text.review(layout, disks, marks))
        wanted = tuple(f"disk.{name}." for name in disks) or ("",)
        shown = [one for one in layout.findings if f"{one.where}.".startswith(wanted)]
        print_text(lambda marks: text.findings(shown, marks))
        if len(shown) < len(layout.findings):
            click.echo(f"{len(layout.findings) - len(shown)} more findings on the rest of the sheet.")
    ctx.exit(status_of(layout.findings))
