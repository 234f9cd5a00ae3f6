"""`narvet write`."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

import narvet
from narvet.cli.common import AS_JSON, DRY, INSIDE, begin_dry, print_findings, print_json, print_text, remark, status_of
from narvet.cli.job import complete_disks, job, on_sheet
from narvet.cli.speak import say
from narvet.cli.spread import spreads
from narvet.cli.unseal import unseals

if TYPE_CHECKING:
    from narvet import Step

_MOST_SHOWN = 30


@job("write")
@on_sheet()
@spreads
@click.option(
    "--only",
    "disks",
    multiple=True,
    shell_complete=complete_disks,
    help="Write only these disks; repeatable, or names with commas.",
)
@click.option("--anew", multiple=True, shell_complete=complete_disks,
              help="Make this disk although it was made before; repeatable.")  # fmt: skip
@click.option("--reviewed", metavar="MARK", help="Refuse if anything is not as the review with this mark showed it.")
@click.option("--yes", is_flag=True, help="Do not ask before something that exists is changed.")
@unseals(makes=True)
@INSIDE
@DRY
@AS_JSON
@click.pass_context
def command(
    ctx: click.Context,
    sheet: Path,
    disks: tuple[str, ...],
    anew: tuple[str, ...],
    reviewed: str | None,
    yes: bool,
    inside: str | None,
    dry: bool,
    as_json: bool,
) -> None:
    """Make what SHEET asks for: images, mount points, entries.

    What is there already as asked is left alone. On a terminal it asks once before it changes something that exists.
    If it is interrupted, write again: nothing is left half-done under its real name. A finding of level error stops it
    before anything is written.

    With --inside it works in a running Linux guest, as root, on the devices that this has: each is known by its ids or
    its serial, written if it is blank, and mounted at once; partitions are added later, and mounted ones made larger.

    Example: narvet write sheet.toml --only trials
    """
    from narvet.report import facts, text
    from narvet.report.few import still_to_say
    from narvet.report.progress import progress

    disks = tuple(name for names in disks for name in names.split(",") if name)
    if inside is not None and (anew or reviewed):
        option = "--anew" if anew else "--reviewed"
        raise narvet.RequestError(f"{option} is for images; leave it out with --inside")
    with progress() as bar:

        def agree(changes: Sequence[Step]) -> bool:
            return yes or not sys.stdin.isatty() or _agreed(changes)

        if inside is None:
            written = narvet.write(
                sheet, anew=anew, disks=disks, reviewed=reviewed, dry=dry, agree=agree,
                on_start=bar.start, on_done=bar.done, on_copied=bar.copied, on_news=bar.news,
            )  # fmt: skip
        else:
            written = narvet.write_inside(
                sheet, inside, disks=disks, dry=dry, agree=agree,
                on_start=bar.start, on_done=bar.done, on_copied=bar.copied,
            )  # fmt: skip
    found = written.layout.findings
    if as_json:
        print_json(facts.write_facts(written.done, found, dry=dry))
    else:
        shown, more = still_to_say(written.layout)
        print_findings(shown)
        for sentence in more:
            remark(sentence)
        begin_dry(dry and bool(written.done))
        print_text(lambda _: text.written(written))
    ctx.exit(status_of(found))


def _agreed(changes: Sequence[Step]) -> bool:
    """Show what would change of what exists, and ask; Abort is raised for a no."""
    say("This changes what exists already:", err=True)
    for step in changes[:_MOST_SHOWN]:
        say(f"  {step.touches}: {step.summary}", err=True)
    if len(changes) > _MOST_SHOWN:
        say(f"  and {len(changes) - _MOST_SHOWN} more", err=True)
    return click.confirm("Go on?", abort=True, err=True)
