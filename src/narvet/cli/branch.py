"""`narvet branch`."""

from __future__ import annotations

from pathlib import Path

import click

from narvet.cli.common import AS_JSON, BASES, BLOCK, FORMAT, IMAGE_FORMAT, clear_folder, tell


@click.command("branch")
@click.argument("base", type=click.Path(path_type=Path, readable=False))
@click.argument("child", type=click.Path(path_type=Path, readable=False))
@FORMAT
@BLOCK
@IMAGE_FORMAT
@BASES
@AS_JSON
def command(
    base: Path,
    child: Path,
    kind: str | None,
    block: int | None,
    image_format: str | None,
    bases: tuple[Path, ...],
    as_json: bool,
) -> None:
    """Make CHILD, an image that keeps only its differences from BASE. BASE must not change from then on.

    Example: narvet branch trials.vhdx trial-run.vhdx
    """
    from narvet.images import format_for
    from narvet.images.trust import said
    from narvet.work.children import make_child
    from narvet.work.making import new_image

    clear_folder(child)
    target = format_for(child, kind)
    with new_image(child, target, like=base) as built:
        make_child(base, built, child, target, block, said(base, image_format, bases))
    facts = {"path": str(child), "format": target.name, "base": str(base)}
    tell(as_json, facts, f"{child}: {target.name}, a child of {base}")
