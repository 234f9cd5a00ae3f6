"""`narvet entries`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import (
    AS_JSON,
    DRY,
    begin_dry,
    print_findings,
    print_json,
    report_well,
    status_of,
    with_partition,
)
from narvet.cli.job import job, on_sheet


@job("entries")
@on_sheet("guest", most=1)
@click.option(
    "--into",
    "root",
    type=click.Path(),
    help="Add GUEST's entries to the fstab in this root: a folder, or an image.",
)
@DRY
@AS_JSON
@click.pass_context
def command(
    ctx: click.Context, sheet: Path, guest: tuple[str, ...], root: str | None, dry: bool, as_json: bool
) -> None:
    """Show the entries that make SHEET's mounts persist, ready to paste, or install them into a root.

    A Linux guest has lines of fstab, a Windows guest a registry text, which `narvet write` also puts beside the sheet.

    Example: narvet entries sheet.toml germination
    """
    name = guest[0] if guest else None
    if root is not None:
        ctx.exit(_install(sheet, name, root, dry=dry))
    from narvet.report import facts, text

    layout = narvet.entries(sheet, name)
    if as_json:
        print_json(facts.entry_facts(layout, name))
    else:
        click.echo(text.entry_texts(layout, name))


def _install(sheet: Path, guest: str | None, root: str, *, dry: bool) -> int:
    """Add a guest's entries to the fstab of a root other than, perhaps, the sheet's; return the exit status."""
    if guest is None:
        raise narvet.RequestError("--into installs one guest's entries; name the guest after the sheet")
    path, partition = with_partition(root)
    done = narvet.install_entries(sheet, guest, str(path), partition=partition, dry=dry)
    print_findings(done.findings)
    if not narvet.has_errors(done.findings):
        begin_dry(dry)
        report_well(f"{root}/etc/fstab: {narvet.counted(done.added, 'line')} added, {done.there} were there already.")
    return status_of(done.findings)
