"""`narvet reclaim`."""

from __future__ import annotations

from pathlib import Path

import click

from narvet.cli.common import AS_JSON, BASES, IMAGE_FORMAT, SECTOR, clear_folder, say, tell


@click.command("reclaim")
@click.argument("image", type=click.Path(path_type=Path, readable=False))
@IMAGE_FORMAT
@BASES
@SECTOR
@AS_JSON
def command(image: Path, image_format: str | None, bases: tuple[Path, ...], sector: str | None, as_json: bool) -> None:
    """Have IMAGE give back the blocks that are zero or that its filesystems no longer use; it is thin from then on.

    What is not certain (a damaged table, two signatures on one partition, a filesystem that is not clean) is kept.
    The guest must be off. The image is written anew beside the old one, and takes its place once it is complete.

    Example: narvet reclaim trials.vhdx
    """
    from narvet.images.trust import said
    from narvet.report.progress import counting
    from narvet.units import show_both
    from narvet.work.reclaim import reclaim

    clear_folder(image)
    with counting(str(image)) as count:
        done = reclaim(image, count, said(image, image_format, bases), int(sector) if sector else None)
    sizes = f"{show_both(done.before)} stored before, {show_both(done.after)} now"
    told = sizes if done.after < done.before else "nothing to give back"
    facts = {"path": str(image), "before": done.before, "after": done.after, "kept": list(done.kept)}
    tell(as_json, facts, f"{image}: {told}")
    for kept in done.kept:
        say(f"{image}: {kept}", err=True)
