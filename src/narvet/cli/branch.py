"""`narvet branch`."""

from __future__ import annotations

from pathlib import Path

import click

from narvet.cli.common import AS_JSON, BLOCK, FORMAT, tell


@click.command("branch")
@click.argument("base", type=click.Path(path_type=Path, readable=False))
@click.argument("child", type=click.Path(path_type=Path, readable=False))
@FORMAT
@BLOCK
@AS_JSON
def command(base: Path, child: Path, kind: str | None, block: int | None, as_json: bool) -> None:
    """Make CHILD, an image that keeps only its differences from BASE. BASE must not change from then on.

    Example: narvet branch trials.vhdx trial-run.vhdx
    """
    from narvet.images import format_for
    from narvet.work.making import new_image
    from narvet.work.relatives import make_child

    target = format_for(child, kind)
    with new_image(child, target) as partial:
        make_child(base, partial, child, target, block)
    facts = {"path": str(child), "format": target.name, "base": str(base)}
    tell(as_json, facts, f"{child}: {target.name}, a child of {base}")
