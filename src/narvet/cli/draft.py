"""`narvet draft`."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import click

import narvet
from narvet.cli.common import AS_JSON, print_json, tell
from narvet.cli.job import job
from narvet.cli.speak import say


def _asked(command: Any) -> Any:
    for key, meaning in reversed(narvet.request_keys().items()):
        command = click.option(f"--{key.replace('_', '-')}", f"{key}_", help=meaning)(command)
    return command


@job("draft")
@click.argument("sheet", type=click.Path(path_type=Path, readable=False))
@_asked
@click.option("--from", "table", type=click.Path(path_type=Path), help="A table of requests, CSV or XLSX, a row each.")
@click.option(
    "--adopt",
    "images",
    multiple=True,
    type=click.Path(path_type=Path, readable=False),
    help="Take the disk of an existing image into the sheet as it is; repeatable.",
)
@click.option("--title", default="", help="Of a new sheet.")
@click.option("--blank", is_flag=True, help="Write a new sheet to be filled in, with every key and what it means.")
@AS_JSON
def command(
    sheet: Path,
    table: Path | None,
    images: tuple[Path, ...],
    title: str,
    blank: bool,
    as_json: bool,
    **wishes: str | None,
) -> None:
    """Start SHEET, or add disks to it: from options, from a table of requests, or from answers to questions.

    The columns of a table are the options below, with _ for -. Rows that name the same disk are its partitions. What
    the sheet holds already stays as it is.

    With --adopt existing disks are taken in as they are, also those that others made. Nothing on them changes.

    Example: narvet draft sheet.toml --guest coldroom --store vault --size "40 GiB" --at /srv/spare
    """
    keys = {key.removesuffix("_"): text for key, text in wishes.items() if text is not None}
    if table is not None and keys:
        raise narvet.RequestError(f"give options or a table, not both: {', '.join(sorted(keys))}")
    if blank:
        _start_blank(sheet, others=bool(table or images or title or keys), as_json=as_json)
        return
    if images:
        made = _adopted(sheet, images, title, keys)
    elif table is None and not keys and sys.stdin.isatty():
        made = _by_answers(sheet, title)
    else:
        made = narvet.draft(sheet, _requests(table, keys), title=title)
    if as_json:
        print_json({"stores": made.stores, "guests": made.guests, "disks": made.disks})
        return
    for kind, names in (("store", made.stores), ("guest", made.guests), ("disk", made.disks)):
        if names:
            click.echo(f"{kind if len(names) == 1 else f'{kind}s'} added: {', '.join(names)}")
    click.echo(f"See what comes of it: narvet review {sheet}")


def _start_blank(sheet: Path, *, others: bool, as_json: bool) -> None:
    if others:
        raise narvet.RequestError("--blank writes a sheet to be filled in; leave the other options out")
    narvet.start_blank(sheet)
    facts = {"stores": ["shelf"], "guests": ["first"], "disks": ["first"]}
    tell(as_json, facts, f"Fill {sheet} in, then see what comes of it: narvet review {sheet}")


def _adopted(sheet: Path, images: tuple[Path, ...], title: str, keys: dict[str, str]) -> narvet.Drafted:
    """Take existing disks into the sheet; of the other options only the guest means anything to them."""
    guest = keys.pop("guest", None)
    if keys:
        raise narvet.RequestError(f"--adopt takes disks as they are; leave out {', '.join(sorted(keys))}")
    done = narvet.adopt(sheet, images, guest=guest, title=title)
    for remark in done.remarks:
        say(remark, err=True)
    return done.drafted


def _requests(table: Path | None, keys: Mapping[str, str]) -> list[narvet.Request]:
    if table is not None:
        return narvet.read_requests(table)
    return [narvet.Request("the call", keys)] if keys else []


def _by_answers(sheet: Path, title: str) -> narvet.Drafted:
    """Ask on the terminal until what is asked for can be put into the sheet; answers given are offered again."""
    given: dict[str, str] = {}
    while True:
        request = _questions(sheet, given)
        try:
            return narvet.draft(sheet, [request], title=title)
        except narvet.RequestError as error:
            say(f"{error}\nYour answers are kept: Enter takes each as it was, a dash leaves it out.", err=True)
            given = dict(request.keys)


def _questions(sheet: Path, given: Mapping[str, str]) -> narvet.Request:
    """Ask for a disk on the terminal; an empty answer leaves a key out, or takes what was `given` before."""
    known = narvet.read_sheet(sheet) if sheet.exists() else None
    keys: dict[str, str] = {}

    def ask(key: str, question: str, choices: tuple[str, ...] = (), default: str = "") -> str:
        hint = f" ({', '.join(choices)})" if choices else ""
        usual = given.get(key, default)
        answer = str(click.prompt(f"{question}{hint}", default=usual, show_default=bool(usual), err=True)).strip()
        answer = "" if answer == "-" else answer
        if answer:
            keys[key] = answer
        return answer

    guests, stores = (tuple(known.guest), tuple(known.store)) if known else ((), ())
    guest = ask("guest", "Guest that will use the disk", guests, guests[0] if guests else "")
    if guest not in guests:
        runs = ask("runs", "What it runs", narvet.SYSTEMS, narvet.SYSTEMS[0])
        system = narvet.guest_system(runs if runs in narvet.SYSTEMS else narvet.SYSTEMS[0])
        if isinstance(system, narvet.HasRoots):
            ask("root", "Folder with its root, if there is one")
    else:
        system = narvet.guest_system(known.guest[guest].runs if known else narvet.SYSTEMS[0])
    store = ask("store", "Store that keeps it", stores, stores[0] if stores else "")
    if store not in stores:
        ask("store_path", "Folder of that store", default=f"stores/{store}")
    if not ask("usable", 'What people must be able to fill, such as "100 GB"; empty to give the size of the disk'):
        ask("size", 'Size of the disk, such as "120 GiB"')
    ask("filesystem", "Filesystem", system.filesystems)
    ask("at", f"Mount point: {system.mount_point_hint}")
    ask("owner", "Owner")
    ask("for", "Used for", narvet.PURPOSES, narvet.PURPOSES[0])
    ask("label", "Label")
    return narvet.Request("the answers", keys)
