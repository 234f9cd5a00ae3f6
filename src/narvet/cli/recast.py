"""`narvet recast`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

import narvet
from narvet.cli.common import (
    A_PATH,
    AS_JSON,
    BASES,
    BLOCK,
    DRY,
    FORMAT,
    IMAGE_FORMAT,
    PACKED,
    PIECES,
    SECTOR,
    SPACE,
    SizeType,
    remark,
    tell,
)
from narvet.cli.job import job

_OF_NEW = ("space", "size", "block_size", "pieces", "packed")


@job("recast")
@click.argument("image", type=A_PATH)
@click.argument("new", type=A_PATH)
@FORMAT
@BLOCK
@SPACE
@PIECES
@PACKED
@click.option("--size", type=SizeType(), help="Larger, with the last partition; or smaller, where nothing is cut off.")
@IMAGE_FORMAT
@BASES
@SECTOR
@click.option("--verify", is_flag=True, help="Read every byte of both disks afterwards and compare them.")
@DRY
@AS_JSON
def command(image: Path, new: Path, format_name: str | None, dry: bool, as_json: bool, **options: Any) -> None:
    """Write the disk of IMAGE to NEW, an image in another format or of another size, thin or full.

    Only what holds data is copied. IMAGE stays as it is; a child is written out whole, with what its bases hold.

    Example: narvet recast trials.vhdx trials.qcow2
    """
    from narvet.report.facts import recast_facts
    from narvet.report.progress import counting

    own = {key: options.pop(key) for key in _OF_NEW}
    wishes = narvet.RecastWishes(format=format_name, **{key: wish for key, wish in own.items() if wish is not None})
    with counting(str(new)) as count:
        done = narvet.recast(image, new, wishes, dry=dry, on_copied=count, **options)
    read_back = "; read back and the same" if done.is_verified else ""
    told = f"{narvet.show_both(done.spec.size)}, {done.format}, {done.spec.space}{read_back}"
    tell(as_json, recast_facts(done, dry=dry), f"{new}: {told}", dry=dry)
    for one in done.remarks:
        remark(f"{new}: {one}")
