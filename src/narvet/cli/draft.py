"""`narvet draft`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

import narvet
from narvet.cli.common import A_PATH, AS_JSON, DRY, begin_dry, print_json, remark, report_well
from narvet.cli.job import is_quiet, job, on_sheet
from narvet.cli.unseal import unseals


def _asked(command: Any) -> Any:
    for key, meaning in reversed(narvet.request_keys().items()):
        command = click.option(f"--{key.replace('_', '-')}", f"{key}_", help=meaning)(command)
    return command


if TYPE_CHECKING:
    from narvet.report.shapes.works import DraftFacts


@job("draft")
@on_sheet(new=True)
@_asked
@click.option("--from", "table", type=A_PATH, help="A table of requests, CSV or XLSX, a row each.")
@click.option("--worksheet", help="The worksheet of that workbook; otherwise the first that has the keys as headings.")
@click.option(
    "--adopt", "images", multiple=True, type=A_PATH,
    help="Take the disk of an existing image into the sheet as it is; repeatable.",
)  # fmt: skip
@click.option("--title", default="", help="Of a new sheet.")
@click.option("--blank", is_flag=True, help="Write a new sheet to be filled in, with every key and what it means.")
@DRY
@unseals()
@AS_JSON
@click.pass_context
def command(
    ctx: click.Context,
    /,
    sheet: Path,
    table: Path | None,
    worksheet: str | None,
    images: tuple[Path, ...],
    title: str,
    blank: bool,
    dry: bool,
    as_json: bool,
    **wishes: str | None,
) -> None:
    """Start SHEET, or add disks to it. What is wanted comes from options, a table of requests, or your answers.

    On a terminal, without options, it asks, one thing after the other, and shows the review at the end. The columns of
    a table are the options below; rows that name the same disk are its partitions. What the sheet holds already stays
    as it is.

    With --adopt existing disks are taken in as they are, also those that others made. Nothing on them changes.

    Example: narvet draft sheet.toml --guest coldroom --store vault --size "40 GiB" --at /srv/spare
    """
    keys = {key.removesuffix("_"): text for key, text in wishes.items() if text is not None}
    if table is not None and keys:
        raise narvet.RequestError(f"give options or a table, not both: {', '.join(sorted(keys))}")
    if worksheet is not None and table is None:
        raise narvet.RequestError("--worksheet is of the workbook that --from names; add that")
    asks = not (blank or images or table or keys or as_json) and sys.stdin.isatty()
    if blank:
        if table or images or title or keys:
            raise narvet.RequestError("--blank writes a sheet to be filled in; leave the other options out")
        made = narvet.start_blank(sheet, dry=dry)
    elif images:
        made = _adopted(sheet, images, title, keys, dry=dry)
    elif asks:
        made = _by_answers(sheet, title, dry=dry)
    else:
        made = narvet.draft(sheet, _requests(table, worksheet, keys), title=title, dry=dry)
    _tell(sheet, made, blank=blank, dry=dry, as_json=as_json, is_reviewed=asks)
    if asks and not dry:
        from narvet.cli.review import command as review

        click.echo()
        ctx.invoke(review, sheet=sheet, disks=made.disks)


def _by_answers(sheet: Path, title: str, *, dry: bool) -> narvet.Drafted:
    """Ask for a disk; if the answers do not fit together after all, they are kept, and offered the next time."""
    from narvet.cli.questions import ask_all

    request = ask_all(sheet)
    try:
        made = narvet.draft(sheet, [request], title=title, dry=dry)
    except narvet.NarvetError:
        narvet.keep_answers(sheet, request.keys)
        raise
    if not dry:
        narvet.forget_answers(sheet)
    return made


def _tell(sheet: Path, made: narvet.Drafted, *, blank: bool, dry: bool, as_json: bool, is_reviewed: bool) -> None:
    if as_json:
        facts: DraftFacts = {
            "stores": list(made.stores), "guests": list(made.guests), "disks": list(made.disks), "dry": dry,
        }  # fmt: skip
        print_json(facts)
        return
    begin_dry(dry)
    for kind, names in (("store", made.stores), ("guest", made.guests), ("disk", made.disks)):
        if names and not blank:
            report_well(f"{kind if len(names) == 1 else f'{kind}s'} added: {', '.join(names)}")
    if dry and not is_quiet():
        click.echo(made.text.removeprefix(made.before), nl=False)
    elif blank:
        report_well(f"Fill {sheet} in, then see what comes of it: narvet review {sheet}")
    elif not is_reviewed:
        report_well(f"See what comes of it: narvet review {sheet}")


def _adopted(sheet: Path, images: tuple[Path, ...], title: str, keys: dict[str, str], *, dry: bool) -> narvet.Drafted:
    """Take existing disks into the sheet; of the other options only the guest means anything to them."""
    guest = keys.pop("guest", None)
    if keys:
        raise narvet.RequestError(f"--adopt takes disks as they are; leave out {', '.join(sorted(keys))}")
    done = narvet.adopt(sheet, images, guest=guest, title=title, dry=dry)
    for one in done.remarks:
        remark(one)
    return done.drafted


def _requests(table: Path | None, worksheet: str | None, keys: dict[str, str]) -> list[narvet.Request]:
    if table is not None:
        return narvet.read_requests(table, worksheet)
    return [narvet.Request("the call", keys)] if keys else []
