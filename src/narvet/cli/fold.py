"""`narvet fold`."""

from __future__ import annotations

from pathlib import Path

import click

from narvet.cli.common import AS_JSON, BASES, IMAGE_FORMAT, clear_folder, tell


@click.command("fold")
@click.argument("child", type=click.Path(path_type=Path, readable=False))
@IMAGE_FORMAT
@BASES
@AS_JSON
def command(child: Path, image_format: str | None, bases: tuple[Path, ...], as_json: bool) -> None:
    """Put the differences that CHILD holds into its base, and remove CHILD.

    Refused where other children need the base, or where it changed since. If it is interrupted, fold again.

    Example: narvet fold trial-run.vhdx
    """
    from narvet.images.trust import said
    from narvet.report.progress import counting
    from narvet.work.fold import fold

    clear_folder(child)
    with counting(str(child)) as count:
        base = fold(child, count, said(child, image_format, bases))
    tell(as_json, {"path": str(base), "folded": str(child)}, f"{base}: holds what {child} held; {child} is gone")
