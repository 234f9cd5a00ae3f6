"""`narvet make`."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from uuid import UUID

import click

import narvet
from narvet.cli.common import (
    A_PATH,
    AS_JSON,
    BLOCK,
    DRY,
    FORMAT,
    PACKED,
    PIECES,
    SPACE,
    SectorType,
    SizeType,
    begin_dry,
    print_findings,
    print_json,
    print_text,
    status_of,
)
from narvet.cli.job import job


@job("make")
@click.argument("image", type=A_PATH)
@click.option("--size", type=SizeType(), help="Bytes of the disk, with a unit.")
@click.option("--usable", type=SizeType(), help="Instead of a size: what the guest must be able to fill.")
@click.option("--runs", type=click.Choice(narvet.SYSTEMS), help="What the guest runs; linux unless said.")
@click.option(
    "--filesystem",
    type=click.Choice([*narvet.FILESYSTEMS, "none"]),
    help="Of its one partition; ext4 or ntfs unless asked otherwise.",
)
@click.option("--label", help="Of partition and filesystem; otherwise the image's name.")
@click.option("--for", "purpose", type=click.Choice(narvet.PURPOSES), help="What it is used for.")
@click.option("--owner", help="Of the filesystem's root, as numbers: 1200:1200.")
@click.option("--mode", help="Of the filesystem's root, in octal: 0750.")
@click.option("--unit", type=SizeType(), help="Of allocation in the filesystem; otherwise its own choice.")
@FORMAT
@SPACE
@BLOCK
@PIECES
@PACKED
@click.option(
    "--table", type=click.Choice([*narvet.TABLES, "none"]), help="Partition table; gpt unless asked otherwise."
)
@click.option("--align", type=SizeType(), help="What partitions start on; 1 MiB unless asked otherwise.")
@click.option("--sector", "sector_size", type=SectorType(), help="Bytes of a sector; 512 unless asked otherwise.")
@click.option("--identity", type=click.UUID, help="What ids are derived from; otherwise they are new each time.")
@DRY
@AS_JSON
@click.pass_context
def command(
    ctx: click.Context,
    /,
    image: Path,
    format_name: str | None,
    identity: UUID | None,
    dry: bool,
    as_json: bool,
    **wishes: Any,
) -> None:
    """Make one disk, IMAGE, without a sheet: table, one partition, filesystem, owner and mode.

    Example: narvet make notes.vhdx --size "20 GiB" --filesystem ext4 --owner 1200:1200
    """
    from narvet.report import facts, text

    made = narvet.make(image, narvet.DiskWishes(format=format_name, **wishes), identity, dry=dry)
    if as_json:
        print_json(facts.made_facts(made, dry=dry))
    else:
        print_findings(made.findings)
        if not made.is_refused:
            begin_dry(dry)
            print_text(lambda marks: text.made(made, marks))
    ctx.exit(status_of(made.findings))
