"""`narvet report`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

import narvet
from narvet.cli.common import A_PATH, AS_JSON, DRY, status_of, tell
from narvet.cli.job import job, on_sheet
from narvet.cli.unseal import unseals

if TYPE_CHECKING:
    from narvet.report.shapes.works import ReportFacts


@job("report")
@on_sheet()
@click.option("--to", type=A_PATH, required=True, help="The page, .html, .md or .pdf.")
@click.option("--digests", is_flag=True, help="Read every image from end to end, and give its SHA-256.")
@click.option("--replace", is_flag=True, help="Write over a file that is there already.")
@DRY
@unseals()
@AS_JSON
@click.pass_context
def command(ctx: click.Context, sheet: Path, to: Path, digests: bool, replace: bool, dry: bool, as_json: bool) -> None:
    """Read everything back that SHEET asks for, and write one page about it to hand over with the disks.

    It has what was asked and what is there, what is to be done by hand for each guest, pictures, ids, findings and what
    was done when. The page needs no other file, and prints well. The exit status is 1 where something is not as asked.

    Example: narvet report sheet.toml --to intake.html
    """
    from narvet.report.handover import parts
    from narvet.report.progress import counting
    from narvet.report.setting import check_ending, set_page

    check_ending(to)
    if to.exists() and not replace:
        raise narvet.RequestError(f"{to} is there already; name a file that is not, or add --replace")
    with counting(str(to)) as count:
        done = narvet.handover(sheet, digests=digests, on_copied=count)
    if not dry:
        set_page(parts(done), to)
    agrees = not done.layout.differences
    told = "everything is as asked" if agrees else "not everything is as asked"
    facts: ReportFacts = {"path": str(to), "agrees": agrees, "digests": dict(done.digests), "dry": dry}
    tell(as_json, facts, f"{to}: {narvet.counted(len(done.layout.disks), 'disk')}, {told}.", dry=dry)
    ctx.exit(0 if agrees else max(1, status_of(done.layout.findings)))
