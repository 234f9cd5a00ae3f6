"""`narvet demo`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import DRY, begin_dry, headline
from narvet.cli.job import job


@job("demo")
@click.argument("folder", type=click.Path(path_type=Path), default="narvet-demo")
@DRY
@click.pass_context
def command(ctx: click.Context, folder: Path, dry: bool) -> None:
    """Lay the example out in a new FOLDER and run the whole of it: write it, confirm it, change it.

    Example: narvet demo narvet-demo
    """
    if dry:
        begin_dry(dry)
        click.echo(f"{folder}: the example is laid out in it, written, confirmed, attached, and changed.")
        return
    sheet = narvet.lay_example_out(folder)
    words = ("--passphrase-file", str(folder / "passphrase"))
    _run(ctx, "review", str(sheet))
    _run(ctx, "write", str(sheet), *words, "--recovery", str(folder / "recovery"))
    _run(ctx, "survey", *sorted(map(str, (folder / "stores" / "annex").iterdir())))
    _run(ctx, "confirm", str(sheet), *words)
    _run(ctx, "keys", str(folder / "stores" / "annex" / "notes.qcow2"))
    headline("The disks go to their guests: a running one, one that is described, one that is served by hand.\n")
    with narvet.halted_guest(sheet) as runs:
        own = () if runs else ("--by-hand",)
        _run(ctx, "attach", str(sheet), "trials", "notes", *own)
        if runs:
            _run(ctx, "detach", str(sheet), "trials", "notes", "--unmounted")
    _run(ctx, "attach", str(sheet), "cold-a", "cold-b", "portable")
    changed = narvet.change_example(sheet)
    headline("Some weeks later the sheet changes: a larger disk, another mount point, a third disk in the pool.\n")
    _run(ctx, "review", str(sheet), *changed, *words)
    _run(ctx, "write", str(sheet), "--yes", *words)
    _run(ctx, "confirm", str(sheet), *words)
    room = narvet.room_sheet(folder)
    headline("The teaching room: six PCs that are alike, their disks on three hosts; then one goes to another host.\n")
    _run(ctx, "write", str(room))
    narvet.change_room(room)
    _run(ctx, "write", str(room), "--yes")
    _run(ctx, "confirm", str(room))
    headline("To try next:")
    click.echo(f"  narvet write {sheet}            # a second time: nothing is changed")
    click.echo(f"  narvet entries {sheet}          # the lines that went into each guest's fstab")
    click.echo(f"  narvet report {sheet} --to {folder / 'page.html'}  # a page to hand over")
    click.echo(f"  narvet review {sheet} cold-a    # after changing a size, a store or an owner in it")


def _run(ctx: click.Context, name: str, *words: str) -> None:
    """Show the command and run it; its status ends the demo if it is not 0."""
    from narvet.cli.main import cli

    headline(f"$ narvet {' '.join((name, *words))}\n")
    status = cli.main([name, *words], prog_name="narvet", standalone_mode=False)
    if status:
        ctx.exit(status)
    click.echo()
