"""`narvet fold`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

import narvet
from narvet.cli.common import A_PATH, AS_JSON, BASES, IMAGE_FORMAT, tell


@click.command("fold")
@click.argument("child", type=A_PATH)
@IMAGE_FORMAT
@BASES
@AS_JSON
def command(child: Path, as_json: bool, **known: Any) -> None:
    """Put the differences that CHILD holds into its base, and remove CHILD.

    Refused where other children need the base, or where it changed since. If it is interrupted, fold again.

    Example: narvet fold trial-run.vhdx
    """
    from narvet.report.progress import counting

    with counting(str(child)) as count:
        base = narvet.fold(child, count, **known)
    tell(as_json, {"path": str(base), "folded": str(child)}, f"{base}: holds what {child} held; {child} is gone")
