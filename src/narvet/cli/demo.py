"""`narvet demo`."""

from __future__ import annotations

from pathlib import Path

import click

import narvet
from narvet.cli.common import headline


@click.command("demo")
@click.argument("folder", type=click.Path(path_type=Path), default="narvet-demo")
@click.pass_context
def command(ctx: click.Context, folder: Path) -> None:
    """Lay the example out in a new FOLDER and run the whole of it: review, write, survey, confirm.

    Example: narvet demo narvet-demo
    """
    from narvet.cli.main import cli

    sheet = narvet.lay_example_out(folder)
    for name in ("review", "write", "survey", "confirm"):
        annex = (folder / "stores" / "annex").iterdir()
        words = [name, *(sorted(map(str, annex)) if name == "survey" else [str(sheet)])]
        headline(f"$ narvet {' '.join(words)}\n")
        status = cli.main(words, prog_name="narvet", standalone_mode=False)
        if status:
            ctx.exit(status)
        click.echo()
    headline("To try next:")
    click.echo(f"  narvet write {sheet}            # a second time: nothing is changed")
    click.echo(f"  narvet entries {sheet}          # the lines that went into each guest's fstab")
    click.echo(f"  narvet review {sheet} readings  # after changing a size, a store or an owner in it")
