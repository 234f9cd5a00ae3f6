"""`narvet branch`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

import narvet
from narvet.cli.common import A_PATH, AS_JSON, BASES, BLOCK, DRY, FORMAT, IMAGE_FORMAT, tell
from narvet.cli.job import job

if TYPE_CHECKING:
    from narvet.report.shapes.works import BranchFacts


@job("branch")
@click.argument("base", type=A_PATH)
@click.argument("child", type=A_PATH)
@FORMAT
@BLOCK
@IMAGE_FORMAT
@BASES
@DRY
@AS_JSON
def command(base: Path, child: Path, dry: bool, as_json: bool, **wishes: Any) -> None:
    """Make CHILD, an image that keeps only its differences from BASE. BASE must not change from then on.

    Example: narvet branch trials.vhdx trial-run.vhdx
    """
    made = narvet.branch(base, child, dry=dry, **wishes)
    facts: BranchFacts = {"path": str(child), "format": made.format, "base": str(base), "dry": dry}
    tell(as_json, facts, f"{child}: {made.format}, a child of {base}", dry=dry)
