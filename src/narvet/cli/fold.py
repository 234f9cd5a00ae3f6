"""`narvet fold`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

import narvet
from narvet.cli.common import A_PATH, AS_JSON, BASES, DRY, IMAGE_FORMAT, tell
from narvet.cli.job import job

if TYPE_CHECKING:
    from narvet.report.shapes.works import FoldFacts


@job("fold")
@click.argument("child", type=A_PATH)
@IMAGE_FORMAT
@BASES
@DRY
@AS_JSON
def command(child: Path, dry: bool, as_json: bool, **known: Any) -> None:
    """Put the differences that CHILD holds into its base, and remove CHILD.

    Refused where other children need the base, or where it changed since. If it is interrupted, fold again.

    Example: narvet fold trial-run.vhdx
    """
    from narvet.report.progress import counting

    with counting(str(child)) as count:
        base = narvet.fold(child, count, dry=dry, **known)
    facts: FoldFacts = {"path": str(base), "folded": str(child), "dry": dry}
    tell(as_json, facts, f"{base}: holds what {child} held; {child} is gone", dry=dry)
