"""`narvet keys`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import click

import narvet
from narvet.cli.common import (
    A_PATH,
    AS_JSON,
    DRY,
    IMAGE_FORMAT,
    SizeType,
    begin_dry,
    print_json,
    print_text,
    with_partition,
)
from narvet.cli.job import job
from narvet.cli.speak import say
from narvet.cli.unseal import first_line, keep_recovery, unseals


@job("keys")
@click.argument("image", metavar="IMAGE[:PLACE]")
@click.option("--add", is_flag=True, help="Add a passphrase.")
@click.option("--add-recovery", is_flag=True, help="Add a recovery key, and show it once.")
@click.option("--change", is_flag=True, help="Put a new passphrase in the place of the one that opens the volume.")
@click.option("--remove", type=int, metavar="KEY", help="Remove the key of this number.")
@click.option("--put-back", type=A_PATH, metavar="FILE", help="Put the headers back from a copy.")
@click.option("--new-file", type=A_PATH, help="The first line of this file is the new passphrase.")
@click.option("--memory", type=SizeType(), help="Memory that trying a new key takes; by itself what is usual.")
@click.option("--passes", type=click.IntRange(1, 1000), help="How often it goes over that; by itself about 2 seconds.")
@click.option("--backup", type=A_PATH, help="Copy the headers to this new file before; else beside the image.")
@click.option("--member", "members", type=A_PATH, multiple=True, help="A further image that the volume's pool lies on.")
@IMAGE_FORMAT
@DRY
@unseals(makes=True)
@AS_JSON
def command(
    image: str, add: bool, add_recovery: bool, change: bool, remove: int | None, put_back: Path | None,
    new_file: Path | None, memory: int | None, passes: int | None, dry: bool, as_json: bool, **known: Any,
) -> None:  # fmt: skip
    """List, add, change and remove the keys of a sealed volume of IMAGE.

    PLACE is the number of its partition, or its name in a pool, such as cold.readings; it can be left out where only
    one is sealed. A passphrase that opens it comes from --passphrase-file, NARVET_PASSPHRASE, or --unseal. The headers
    as they were are copied to a file first: with that and an old passphrase the volume can be opened, so keep it safe,
    or destroy it. The last key stays.

    Example: narvet keys stores/annex/notes.qcow2 --add --new-file words --passphrase-file old-words
    """
    path, place = with_partition(image)
    asked = [name for name, given in (("add", add), ("recovery", add_recovery), ("change", change)) if given]
    asked += ["remove"] if remove is not None else []
    if len(asked) + (put_back is not None) > 1:
        raise narvet.RequestError("one thing at a time: --add, --add-recovery, --change, --remove or --put-back")
    if put_back is not None:
        done = narvet.put_back(path, put_back, place=place, members=known["members"], dry=dry)
    else:
        wish: narvet.KeyChange | None = None
        if asked:
            new = _new(image, new_file) if asked[0] in ("add", "change") else None
            wish = narvet.KeyChange(asked[0], new, remove, memory, passes)  # type: ignore[arg-type]
        elif dry:
            raise click.UsageError("Nothing would be changed; leave --dry out.")
        done = narvet.keys(path, place=place, change=wish, dry=dry, **known)
    if done.recovery:
        keep_recovery(f"{done.image}:{done.place}", done.recovery)
    _print(done, dry=dry, as_json=as_json)


def _new(image: str, file: Path | None) -> bytes:
    """Return the new passphrase: from a file, or asked for twice."""
    if file is not None:
        return first_line(file)
    if not sys.stdin.isatty():
        raise narvet.RequestError(f"{image}: put the new passphrase into a file, and add --new-file FILE")
    return str(click.prompt("New passphrase", hide_input=True, confirmation_prompt=True, err=True)).encode()


def _print(done: narvet.Keys, *, dry: bool, as_json: bool) -> None:
    from narvet.report import facts
    from narvet.report.inside import key_table

    if as_json:
        print_json(facts.keys_facts(done, dry=dry))
        return
    begin_dry(dry)
    print_text(lambda _: key_table(done))
    if done.backup:
        say(f"The headers as they were are in {done.backup}: keep that safe, or destroy it.", err=True)
