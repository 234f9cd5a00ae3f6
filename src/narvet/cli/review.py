"""`narvet review`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import AS_JSON, SHEET, print_json, print_text, say, status_of


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
    reviewed = narvet.review(sheet)
    unknown = [name for name in disks if name not in reviewed.layout.wanted.disks]
    if unknown:
        raise narvet.RequestError(f'{sheet}: there is no disk "{unknown[0]}" in the sheet')
    _print(reviewed, disks, as_json)
    ctx.exit(status_of(reviewed.layout.findings))


def _print(reviewed: narvet.Reviewed, disks: tuple[str, ...], as_json: bool) -> None:
    from narvet.report import facts, text

    if as_json:
        print_json(facts.review_facts(reviewed.layout))
        return
    every = reviewed.layout.findings
    shown = [one for one in every if not disks or (one.where.kind == "disk" and one.where.name in disks)]
    print_text(lambda marks: text.review(reviewed, disks, marks))
    print_text(lambda marks: text.findings(shown, marks))
    if len(shown) < len(every):
        say(f"{narvet.counted(len(every) - len(shown), 'more finding')} on the rest of the sheet.")
