"""`narvet enlarge`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

import narvet
from narvet.cli.common import (
    A_PATH,
    AS_JSON,
    BASES,
    DRY,
    IMAGE_FORMAT,
    SECTOR,
    SPACE,
    SizeType,
    end_with_resized,
)
from narvet.cli.job import job
from narvet.cli.unseal import unseals


@job("enlarge")
@click.argument("image", type=A_PATH)
@click.option("--size", type=SizeType(), help="What the disk is to have; otherwise only free room on it is used.")
@click.option("--partition", type=int, help="The number of the partition that grows; otherwise the last on the disk.")
@SPACE
@IMAGE_FORMAT
@BASES
@SECTOR
@DRY
@unseals()
@AS_JSON
@click.pass_context
def command(ctx: click.Context, /, image: Path, size: int | None, dry: bool, as_json: bool, **options: Any) -> None:
    """Make the disk of IMAGE larger where it is: image, table, partition, and the filesystem on it.

    Its guest must be off. Whatever stops it leaves the disk as it was, or done. A disk of a sheet is made larger by its
    sheet.

    Example: narvet enlarge trials.vhdx --size "80 GiB"
    """
    options["space"] = options["space"] or "thin"
    done = narvet.enlarge(image, size, dry=dry, **options)
    end_with_resized(ctx, done, as_json=as_json, dry=dry)
