"""`narvet reclaim`."""

from __future__ import annotations

from pathlib import Path

import click

from narvet.cli.common import AS_JSON, tell


@click.command("reclaim")
@click.argument("image", type=click.Path(path_type=Path, readable=False))
@AS_JSON
def command(image: Path, as_json: bool) -> None:
    """Have IMAGE give back the blocks that are zero or that its filesystems no longer use; it is thin from then on.

    The guest must be off. The image is written anew beside the old one, and takes its place once it is complete.

    Example: narvet reclaim trials.vhdx
    """
    from narvet.report.progress import counting
    from narvet.units import show_both
    from narvet.work.reclaim import reclaim

    with counting(str(image)) as count:
        before, after = reclaim(image, count)
    told = f"{show_both(before)} stored before, {show_both(after)} now" if after < before else "nothing to give back"
    tell(as_json, {"path": str(image), "before": before, "after": after}, f"{image}: {told}")
