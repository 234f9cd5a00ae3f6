"""`narvet tie`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

import narvet
from narvet.cli.common import A_PATH, AS_JSON, BASES, DRY, IMAGE_FORMAT, tell
from narvet.cli.job import job

if TYPE_CHECKING:
    from narvet.report.shapes.works import TieFacts


@job("tie")
@click.argument("child", type=A_PATH)
@click.argument("base", type=A_PATH)
@click.option("--same-as", type=A_PATH, help="An image that CHILD was made from, to compare BASE with.")
@click.option("--sure", is_flag=True, help="You know that BASE is right, where nothing tells.")
@IMAGE_FORMAT
@BASES
@DRY
@AS_JSON
def command(child: Path, base: Path, dry: bool, as_json: bool, **options: Any) -> None:
    """Have CHILD keep its differences from BASE from now on: its base was moved, copied or touched.

    BASE must be what CHILD was made from, by its id, or byte for byte the same as an image that is.

    Example: narvet tie trial-run.vhdx attic/trials.vhdx
    """
    from narvet.report.progress import counting

    with counting(str(child)) as count:
        done = narvet.tie(child, base, dry=dry, on_copied=count, **options)
    facts: TieFacts = {"path": str(child), "base": str(base), "proof": done.proof, "dry": dry}
    tell(as_json, facts, f"{child}: a child of {base} now; {done.proof}", dry=dry)
