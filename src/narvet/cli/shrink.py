"""`narvet shrink`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

import narvet
from narvet.cli.common import (
    A_PATH,
    AS_JSON,
    DRY,
    IMAGE_FORMAT,
    SECTOR,
    SizeType,
    end_with_resized,
)
from narvet.cli.job import job
from narvet.cli.unseal import unseals


@job("shrink")
@click.argument("image", type=A_PATH)
@click.option("--size", type=SizeType(), required=True, help="What the disk is to have.")
@click.option("--move-files", is_flag=True, help="Move files that lie behind the new end; otherwise none may.")
@IMAGE_FORMAT
@SECTOR
@DRY
@unseals()
@AS_JSON
@click.pass_context
def command(ctx: click.Context, /, image: Path, size: int, dry: bool, as_json: bool, **options: Any) -> None:
    """Make the disk of IMAGE smaller: image, table, the partition at its end, and the filesystem on it.

    Its guest must be off. Nothing is lost: what does not fit is refused, with the least size that is possible. A disk
    of a sheet is made smaller by its sheet.

    Example: narvet shrink trials.vhdx --size "40 GiB" --move-files
    """
    from narvet.report.progress import counting

    with counting(str(image)) as count:
        done = narvet.shrink(image, size, dry=dry, on_copied=count, **options)
    end_with_resized(ctx, done, as_json=as_json, dry=dry)
