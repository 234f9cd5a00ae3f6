"""`narvet review`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import A_PATH, AS_JSON, log_findings, print_json_parts, print_text, report_well, status_of
from narvet.cli.job import is_quiet, job, on_sheet
from narvet.cli.spread import spreads
from narvet.cli.unseal import unseals


@job("review")
@on_sheet("disks")
@spreads
@click.option("--brief", is_flag=True, help="A line for each disk, and the findings of level error and warning.")
@click.option("--long", "in_full", is_flag=True, help="Every disk in depth, every entry and every note.")
@click.option("--table", type=A_PATH, help="Write a row for each partition to this file: .csv, .xlsx, .parquet.")
@click.option("--replace", is_flag=True, help="Write over a table that is there already.")
@unseals()
@AS_JSON
@click.pass_context
def command(
    ctx: click.Context,
    sheet: Path,
    disks: tuple[str, ...],
    brief: bool,
    in_full: bool,
    table: Path | None,
    replace: bool,
    as_json: bool,
) -> None:
    """Work SHEET out and show everything that would be made; write nothing.

    Shows offsets and sizes, what each guest will report and where each missing byte went, every store's room, the
    entries, and the findings. DISKS are the disks to look at in depth, with what is found about them. At its end stands
    a mark of all this: `narvet write --reviewed MARK` refuses if anything is different by then.

    Example: narvet review sheet.toml trials
    """
    if brief and in_full:
        raise narvet.RequestError("--brief and --long are opposites; leave one of them out")
    reviewed = narvet.review(sheet, disks)
    if table is not None:
        _write_table(table, reviewed, disks, replace=replace)
    _print(reviewed, disks, "brief" if brief else "long" if in_full else "", as_json=as_json)
    ctx.exit(status_of(reviewed.layout.findings))


def _write_table(to: Path, reviewed: narvet.Reviewed, disks: tuple[str, ...], *, replace: bool) -> None:
    from narvet.report.table import rows_of, write_rows

    if to.exists() and not replace:
        raise narvet.RequestError(f"{to} is there already; name a file that is not, or add --replace")
    chosen = [disk for disk in reviewed.layout.disks if not disks or disk.name in disks]
    write_rows(to, rows_of(chosen, () if disks else reviewed.layout.pools))


def _print(reviewed: narvet.Reviewed, disks: tuple[str, ...], depth: str, *, as_json: bool) -> None:
    from narvet.report import facts, text
    from narvet.report.few import findings_to_show, verdict

    log_findings(reviewed.layout.findings)
    if as_json:
        print_json_parts(facts.review_facts(reviewed))
        return
    shown, left = findings_to_show(reviewed.layout, disks, depth)
    print_text(lambda marks: text.review(reviewed, disks, marks, depth))
    if is_quiet():
        shown = [one for one in shown if one.level == "error"]
    print_findings_here(shown)
    for sentence in left:
        report_well(sentence)
    report_well(verdict(reviewed))
    report_well(f"Mark of this review: {reviewed.mark}")


def print_findings_here(shown: list[narvet.Finding]) -> None:
    """Print findings as part of what was asked for."""
    from narvet.report import text
    from narvet.report.terminal import console, marks

    if shown:
        console().print(text.findings(shown, marks()))
