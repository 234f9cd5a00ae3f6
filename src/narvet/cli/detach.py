"""`narvet detach`."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path

import click

import narvet
from narvet.cli.common import AS_JSON, BY_HAND, DRY, LIST, print_attached
from narvet.cli.job import job, on_sheet
from narvet.cli.speak import say


@job("detach")
@on_sheet("disks", least=1)
@click.option(
    "--wait", "seconds", type=click.FloatRange(1, 3600), default=30.0, show_default=True,
    help="Seconds that the guest has to let go of a disk.",
)  # fmt: skip
@click.option("--unmounted", is_flag=True, help="Do not ask whether the disks are unmounted in their guests.")
@BY_HAND
@LIST
@DRY
@AS_JSON
def command(
    sheet: Path,
    disks: tuple[str, ...],
    seconds: float,
    unmounted: bool,
    by_hand: bool,
    to: Path | None,
    dry: bool,
    as_json: bool,
) -> None:
    """Take DISKS of SHEET out of their guests; their images and entries stay.

    Unmount them inside first: nobody can see from outside whether a guest still uses a disk. A guest with a door gives
    them up at once; for the others it lists what to do by hand.

    Example: narvet detach sheet.toml trials
    """
    done = narvet.detach(
        sheet, disks, seconds=seconds, by_hand=by_hand, dry=dry, agree=lambda there: unmounted or _agreed(sheet, there)
    )
    print_attached(done, to, as_json=as_json, dry=dry)


def _agreed(sheet: Path, there: Sequence[narvet.PlannedDisk]) -> bool:
    """Ask whether disks are unmounted inside; Abort is raised for a no."""
    mounts = [f"{part.at} in {disk.plugged_into}" for disk in there for part in disk.wanted.partitions if part.at]
    if not mounts:
        return True
    if not sys.stdin.isatty():
        raise narvet.RequestError(
            f"{sheet}: {', '.join(mounts)} must be unmounted first; add --unmounted once that is done"
        )
    say("A disk that is taken out while it is mounted loses what was written last.", err=True)
    return click.confirm(f"Is {', '.join(mounts)} unmounted?", abort=True, err=True)
