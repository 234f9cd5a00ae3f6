"""`narvet fold`."""

from __future__ import annotations

from pathlib import Path

import click

from narvet.cli.common import AS_JSON, tell


@click.command("fold")
@click.argument("child", type=click.Path(path_type=Path, readable=False))
@AS_JSON
def command(child: Path, as_json: bool) -> None:
    """Put the differences that CHILD holds into its base, and remove CHILD.

    Refused where other children need the base, or where it changed since. If it is interrupted, fold again.

    Example: narvet fold trial-run.vhdx
    """
    from narvet.report.progress import counting
    from narvet.work.relatives import fold

    with counting(str(child)) as count:
        base = fold(child, count)
    tell(as_json, {"path": str(base), "folded": str(child)}, f"{base}: holds what {child} held; {child} is gone")
