"""`narvet write`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import AS_JSON, INSIDE, SHEET, print_findings, print_json, print_text, status_of


@click.command("write")
@SHEET
@click.option("--anew", multiple=True, help="Make this disk although it was made before; repeatable.")
@INSIDE
@AS_JSON
@click.pass_context
def command(ctx: click.Context, sheet: Path, anew: tuple[str, ...], inside: str | None, as_json: bool) -> None:
    """Make what SHEET asks for: images, mount points, entries.

    What is there already as asked is left alone. If it is interrupted, write again: nothing is left half-done under
    its real name. A finding of level error stops it before anything is written.

    With --inside it works in a running Linux guest, as root, on the devices that this has: each is known by its ids or
    its serial, written if it is blank, and mounted at once; partitions are added later, and mounted ones made larger.

    Example: narvet write sheet.toml
    """
    from narvet.report import facts, text
    from narvet.report.progress import progress

    if inside is not None and anew:
        raise narvet.RequestError("--anew is for images; a device is written if it is blank")
    with progress() as bar:
        if inside is None:
            written = narvet.write(sheet, anew=anew, on_start=bar.start, on_done=bar.done, on_copied=bar.copied)
        else:
            written = narvet.write_inside(sheet, inside, on_start=bar.start, on_done=bar.done, on_copied=bar.copied)
    if as_json:
        print_json(facts.write_facts(written.done, written.layout.findings))
    else:
        print_findings(written.layout.findings)
        print_text(lambda _: text.written(written))
    ctx.exit(status_of(written.layout.findings))
