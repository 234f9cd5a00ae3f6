"""`narvet recast`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from narvet.cli.common import (
    AS_JSON,
    BASES,
    BLOCK,
    FORMAT,
    IMAGE_FORMAT,
    PACKED,
    PIECES,
    SECTOR,
    SPACE,
    SizeType,
    clear_folder,
    say,
    tell,
)


@click.command("recast")
@click.argument("image", type=click.Path(path_type=Path, readable=False))
@click.argument("new", type=click.Path(path_type=Path, readable=False))
@FORMAT
@BLOCK
@SPACE
@PIECES
@PACKED
@click.option("--size", type=SizeType(), help="Make the disk larger; its table's second copy moves to the new end.")
@IMAGE_FORMAT
@BASES
@SECTOR
@click.option("--verify", is_flag=True, help="Read every byte of both disks afterwards and compare them.")
@AS_JSON
def command(
    image: Path,
    new: Path,
    kind: str | None,
    image_format: str | None,
    bases: tuple[Path, ...],
    sector: str | None,
    verify: bool,
    as_json: bool,
    **wishes: Any,
) -> None:
    """Write the disk of IMAGE to NEW, an image in another format, thin or full, or larger.

    Only what holds data is copied. IMAGE stays as it is; a child is written out whole, with what its bases hold.

    Example: narvet recast trials.vhdx trials.qcow2
    """
    from narvet.images import format_for
    from narvet.images.trust import said
    from narvet.report.progress import counting
    from narvet.units import show_both
    from narvet.work import recast as work
    from narvet.work.making import new_image

    clear_folder(new)
    target = format_for(new, kind)
    source = work.source_of(image, said(image, image_format, bases), int(sector) if sector else None)
    made = work.making_for(source, target, new, **wishes)
    remarks = list(work.remarks(source, target, made, wishes["size"]))
    with new_image(new, target, like=image) as built, counting(str(new)) as count:
        changed = work.recast(source, built, target, made, count)
        if verify:
            work.verify(source, built, target, made, changed, count)
    told = f"{show_both(made.size)}, {target.name}, {made.space}{'; read back and the same' if verify else ''}"
    done = {
        "path": str(new), "format": target.name, "space": made.space, "size": made.size, "verified": verify,
        "remarks": remarks,
    }  # fmt: skip
    tell(as_json, done, f"{new}: {told}")
    for remark in remarks:
        say(f"{new}: {remark}", err=True)
