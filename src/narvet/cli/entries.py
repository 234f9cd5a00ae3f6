"""`narvet entries`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from narvet.cli.common import AS_JSON, SHEET, print_findings, print_json, status_of
from narvet.errors import RequestError

if TYPE_CHECKING:
    from narvet.layout.model import Layout


@click.command("entries")
@SHEET
@click.argument("guest", required=False)
@click.option("--into", "root", type=click.Path(), help="Add GUEST's entries to the fstab in this root folder.")
@AS_JSON
@click.pass_context
def command(ctx: click.Context, sheet: Path, guest: str | None, root: str | None, as_json: bool) -> None:
    """Show the entries that make SHEET's mounts persist, ready to paste, or install them into a root.

    A Linux guest has lines of fstab, a Windows guest a registry text, which `narvet write` also puts beside the sheet.

    Example: narvet entries sheet.toml germination
    """
    from narvet.guests.registry import HEAD, KEY
    from narvet.report.facts import entry_facts
    from narvet.work.gather import lay_out

    layout, _ = lay_out(sheet)
    if guest is not None and guest not in layout.roots:
        raise RequestError(f'{sheet}: there is no guest "{guest}" in the sheet; it has {", ".join(layout.roots)}')
    lines = {name: kept for name, kept in entry_facts(layout).items() if guest in (None, name)}
    if root is not None:
        _install(ctx, layout, guest, root)
    elif as_json:
        print_json(lines)
    elif guest is not None and guest in layout.registry:
        click.echo("\n".join([HEAD, "", KEY, *lines[guest]]))
    elif guest is not None:
        click.echo("\n".join(lines.get(guest, [])))
    else:
        click.echo("\n".join(f"# {name}\n" + "\n".join(kept) for name, kept in lines.items()))


def _install(ctx: click.Context, layout: Layout, guest: str | None, root: str) -> None:
    """Add a guest's entries to the fstab of a root other than, perhaps, the sheet's."""
    from narvet.guests.roots import add_entries, root_facts
    from narvet.layout.facts import Facts
    from narvet.layout.mounts import check_mounts

    if guest is None:
        raise RequestError("--into installs one guest's entries; name the guest after the sheet")
    if guest in layout.registry:
        raise RequestError(f"guest {guest} has no fstab; import {layout.roots[guest]} in it once the sheet is written")
    wanted = layout.entries.get(guest, ())
    there = root_facts(guest, root, [entry.file for entry in wanted])
    disks = [disk for disk in layout.disks if disk.guest == guest]
    found = [*there.findings, *check_mounts(disks, Facts(roots={guest: there}))]
    print_findings(found)
    if not status_of(found):
        added = add_entries(root, wanted)
        click.echo(f"{root}/etc/fstab: {len(added)} lines added, {len(wanted) - len(added)} were there already.")
    ctx.exit(status_of(found))
