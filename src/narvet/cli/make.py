"""`narvet make`."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from uuid import UUID, uuid4

import click

from narvet.cli.common import (
    AS_JSON,
    BLOCK,
    FORMAT,
    PACKED,
    PIECES,
    SPACE,
    SizeType,
    clear_folder,
    print_findings,
    print_json,
    print_text,
    status_of,
)
from narvet.filesystems import NAMES as FILESYSTEMS
from narvet.tables import NAMES as TABLES


@click.command("make")
@click.argument("image", type=click.Path(path_type=Path, readable=False))
@click.option("--size", type=SizeType(), help="Bytes of the disk, with a unit.")
@click.option("--usable", type=SizeType(), help="Instead of a size: what the guest must be able to fill.")
@click.option("--runs", type=click.Choice(["linux", "windows"]), help="What the guest runs; linux unless said.")
@click.option(
    "--filesystem",
    type=click.Choice([*FILESYSTEMS, "none"]),
    help="Of its one partition; ext4 or ntfs unless asked otherwise.",
)
@click.option("--label", help="Of partition and filesystem; otherwise the image's name.")
@click.option("--for", "for_", type=click.Choice(["general", "database", "logs", "media"]), help="What it is used for.")
@click.option("--owner", help="Of the filesystem's root, as numbers: 1200:1200.")
@click.option("--mode", help="Of the filesystem's root, in octal: 0750.")
@click.option("--unit", type=SizeType(), help="Of allocation in the filesystem; otherwise its own choice.")
@FORMAT
@SPACE
@BLOCK
@PIECES
@PACKED
@click.option("--table", type=click.Choice([*TABLES, "none"]), help="Partition table; gpt unless asked otherwise.")
@click.option("--align", type=SizeType(), help="What partitions start on; 1 MiB unless asked otherwise.")
@click.option("--sector", type=click.Choice(["512", "4096"]), help="Bytes of a sector; 512 unless asked otherwise.")
@click.option("--identity", type=click.UUID, help="What ids are derived from; otherwise they are new each time.")
@AS_JSON
@click.pass_context
def command(
    ctx: click.Context, /, image: Path, kind: str | None, identity: UUID | None, as_json: bool, **wishes: Any
) -> None:
    """Make one disk, IMAGE, without a sheet: table, one partition, filesystem, owner and mode.

    Example: narvet make notes.vhdx --size "20 GiB" --filesystem ext4 --owner 1200:1200
    """
    from narvet.images import format_for
    from narvet.report import text
    from narvet.work.single import lay_single
    from narvet.work.steps import MakeImage

    clear_folder(image)
    asked = {key.rstrip("_"): value for key, value in wishes.items() if value is not None}
    asked |= {key: f"{asked[key]} B" for key in ("size", "usable", "block", "pieces", "align", "unit") if key in asked}
    if "sector" in asked:
        asked["sector"] = int(asked["sector"])
    layout = lay_single(image, identity or uuid4(), {**asked, "format": format_for(image, kind).name})
    disk = layout.disks[0]
    if not status_of(layout.findings):
        MakeImage(disk).apply()
    if as_json:
        from narvet.report.facts import made_facts

        print_json(made_facts(layout))
    else:
        print_findings(layout.findings)
        if not status_of(layout.findings):
            print_text(lambda marks: text.made(disk, marks))
    ctx.exit(status_of(layout.findings))
