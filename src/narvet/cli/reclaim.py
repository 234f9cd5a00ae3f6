"""`narvet reclaim`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

import narvet
from narvet.cli.common import A_PATH, AS_JSON, BASES, DRY, IMAGE_FORMAT, SECTOR, remark, tell
from narvet.cli.job import job

if TYPE_CHECKING:
    from narvet.report.shapes.works import ReclaimFacts


@job("reclaim")
@click.argument("image", type=A_PATH)
@IMAGE_FORMAT
@BASES
@SECTOR
@DRY
@AS_JSON
def command(image: Path, dry: bool, as_json: bool, **known: Any) -> None:
    """Have IMAGE give back the blocks that are zero or that its filesystems no longer use; it is thin from then on.

    What is not certain (a damaged table, two signatures on one partition, a filesystem that is not clean) is kept.
    The guest must be off. The image is written anew beside the old one, and takes its place once it is complete.

    Example: narvet reclaim trials.vhdx
    """
    from narvet.report.progress import counting

    with counting(str(image)) as count:
        done = narvet.reclaim(image, count, dry=dry, **known)
    after = narvet.show_both(done.after)
    sizes = f"{narvet.show_both(done.before)} stored before, {f'at most {after} afterwards' if dry else f'{after} now'}"
    facts: ReclaimFacts = {
        "path": str(image), "before": done.before, "after": done.after, "kept": list(done.kept), "dry": dry,
    }  # fmt: skip
    tell(as_json, facts, f"{image}: {sizes if done.after < done.before else 'nothing to give back'}", dry=dry)
    for kept in done.kept:
        remark(f"{image}: {kept}")
