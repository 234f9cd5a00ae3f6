"""What commands share: arguments and options, and how results and findings are printed."""

from __future__ import annotations

import json
import logging
import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

import narvet
from narvet.cli.job import complete_guests, is_quiet, is_strict
from narvet.cli.speak import say
from narvet.ground.errors import flat, is_harmless

if TYPE_CHECKING:
    from narvet import Finding
    from narvet.report.shapes.works import WrapFacts

A_PATH = click.Path(path_type=Path, readable=False)
STOPPED_BY_FINDINGS = 1
_LEVELS = {"error": logging.ERROR, "warning": logging.WARNING, "note": logging.INFO}


class SizeType(click.ParamType[int]):
    """A size with a unit, in bytes once read."""

    name = "size"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> int:
        """Return the bytes."""
        if isinstance(value, int):
            return value
        try:
            return narvet.parse_size(value)
        except narvet.SizeError as error:
            self.fail(flat(str(error)), param, ctx)


class SectorType(click.Choice[str]):
    """Bytes of a sector, a number once read."""

    def __init__(self) -> None:
        super().__init__(["512", "4096"])

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Return the bytes."""
        return int(super().convert(value, param, ctx))


FORMAT = click.option(
    "--format",
    "format_name",
    type=click.Choice(narvet.IMAGE_FORMATS),
    help="Image format; otherwise the name's ending tells.",
)
BLOCK = click.option(
    "--block", "block_size", type=SizeType(), help="The unit a thin image grows by; otherwise the format's choice."
)
SPACE = click.option("--space", type=click.Choice(["thin", "full"]), help="Store what holds data, or everything.")
PIECES = click.option("--pieces", type=SizeType(), help="vmdk: keep the image in files of at most this size.")
PACKED = click.option("--packed", is_flag=True, help="vmdk: the compressed form for transport, only read afterwards.")
IMAGE_FORMAT = click.option(
    "--image-format",
    type=click.Choice(narvet.IMAGE_FORMATS),
    help="Format that IMAGE is read by; otherwise its ending tells.",
)
BASES = click.option("--base", "bases", multiple=True, type=A_PATH, help="A base that may lie elsewhere; repeatable.")
SECTOR = click.option(
    "--sector", "sector_size", type=SectorType(), help="Bytes of a sector, where the image does not record them."
)
AS_JSON = click.option("--json", "as_json", is_flag=True, help="Print facts for programs.")
DRY = click.option("--dry", is_flag=True, help="Tell what would be done, and change nothing.")

BY_HAND = click.option("--by-hand", is_flag=True, help="Only list what to do by hand, also for guests with a door.")
LIST = click.option("--to", type=A_PATH, help="Write the list of what to do by hand to this file, as Markdown.")


INSIDE = click.option(
    "--inside", shell_complete=complete_guests, help="Work inside this guest, here, on the real devices that it has."
)
_NOT_DONE = "Nothing was changed. This would be done:"
_LOG = logging.getLogger("narvet")


def print_json(facts: Any) -> None:
    """Print facts, the only thing on standard output; what a terminal might obey stands in escapes."""
    click.echo(_harmless_json(facts))


def print_json_parts(parts: Iterable[tuple[str, object]]) -> None:
    """Print an object of facts, key by key; of a value that is an iterator one item after the other, as a list."""
    before = "{"
    for key, value in parts:
        click.echo(f'{before}\n  "{key}": ', nl=False)
        before = ","
        if not isinstance(value, Iterator):
            click.echo(_harmless_json(value).replace("\n", "\n  "), nl=False)
            continue
        empty = True
        for item in value:
            click.echo("[" if empty else ",", nl=False)
            click.echo("\n    " + _harmless_json(item).replace("\n", "\n    "), nl=False)
            empty = False
        click.echo("[]" if empty else "\n  ]", nl=False)
    click.echo("\n}")


def _harmless_json(facts: Any) -> str:
    text = _as_json(facts)
    if text.replace("\n", "").isprintable():
        return text
    return "".join(sign if is_harmless(sign) or sign == "\n" else f"\\u{ord(sign):04x}" for sign in text)


def print_line(facts: Any) -> None:
    """Print facts as a line of their own, one of many; what a terminal might obey stands in escapes."""
    click.echo(json.dumps(facts))


def _as_json(facts: Any) -> str:
    """Return facts as JSON; a name that is no Unicode at all is what only the slower writer takes."""
    from msgspec import json as compiled

    try:
        return compiled.format(compiled.encode(facts), indent=2).decode()
    except (TypeError, OverflowError, UnicodeError):
        return json.dumps(facts, indent=2, ensure_ascii=False)


def headline(text: str) -> None:
    """Print a line that stands out, where the terminal may show it so."""
    if not is_quiet():
        click.secho(text, bold=not os.environ.get("NO_COLOR"))


def remark(sentence: str) -> None:
    """Print on standard error what a person should know of work that is done."""
    _LOG.info(sentence)
    if not is_quiet():
        say(sentence, err=True)


def tell(as_json: bool, facts: Mapping[str, object], sentence: str, *, dry: bool = False) -> None:
    """Print what a command did, or in a `dry` call would do: facts for programs, or a sentence for people."""
    if as_json:
        print_json(facts)
        return
    begin_dry(dry)
    report_well(sentence)


def report_well(sentence: str) -> None:
    """Print that all is well, unless only errors are asked for."""
    _LOG.info(sentence)
    if not is_quiet():
        say(sentence)


def begin_dry(dry: bool) -> None:
    """Print what stands before everything that a `dry` call tells."""
    if dry and not is_quiet():
        say(_NOT_DONE)


def print_text(render: Callable[[Any], Any]) -> None:
    """Print what `render` makes for the marks that the terminal can show."""
    if is_quiet():
        return
    from narvet.report.terminal import console, marks

    console().print(render(marks()))


def print_findings(found: Sequence[Finding]) -> None:
    """Print findings on standard error; where only errors are asked for, these."""
    log_findings(found)
    shown = [one for one in found if one.level == "error" or not is_quiet()]
    if shown:
        from narvet.report import text
        from narvet.report.terminal import marks, message_console

        message_console().print(text.findings(shown, marks()))


def log_findings(found: Iterable[Finding]) -> None:
    """Put findings into the log."""
    for one in found:
        _LOG.log(_LEVELS[one.level], "%s %s: %s", one.rule, one.where, one.message)


def status_of(found: Iterable[Finding]) -> int:
    """Return the exit status that findings lead to."""
    every = list(found)
    counts = narvet.has_errors(every) or (is_strict() and any(one.level == "warning" for one in every))
    return STOPPED_BY_FINDINGS if counts else 0


def print_attached(done: narvet.Attaching, to: Path | None, *, as_json: bool, dry: bool) -> None:
    """Print what was done at guests, and what is to be done by hand, which also goes into the file `to`."""
    from narvet.report import facts, text

    if to is not None and not dry:
        if not done.by_hand:
            remark(f"{to}: nothing is to be done by hand, so it is not written.")
        else:
            narvet.write_list(to, done.by_hand)
    if as_json:
        print_json(facts.attach_facts(done, dry=dry))
        return
    begin_dry(dry)
    print_text(lambda _: text.attached(done))


def tell_wrapped(done: narvet.Wrapped, *, as_json: bool, dry: bool) -> None:
    """Print which files a package or folder has that was made."""
    facts: WrapFacts = {"path": str(done.path), "files": list(done.files), "dry": dry}
    tell(as_json, facts, f"{done.path}: {narvet.counted(len(done.files), 'file')}: {', '.join(done.files)}", dry=dry)


def end_with_resized(ctx: click.Context, done: narvet.Resized, *, as_json: bool, dry: bool) -> None:
    """Print what a disk was and is now, with what is to be said about it, and end the call."""
    from narvet.report import text
    from narvet.report.facts import resized_facts

    if as_json:
        print_json(resized_facts(done, dry=dry))
    else:
        begin_dry(dry and bool(done.changes) and not narvet.has_errors(done.findings))
        print_text(lambda marks: text.resized(done, marks))
    print_findings(done.findings)
    ctx.exit(status_of(done.findings))


def with_partition(image: str) -> tuple[Path, int | str | None]:
    """Return an image, and what follows a colon: a partition's number, or the name of a volume with that of its pool.

    A file that has such a name is a file.
    """
    path, colon, place = image.rpartition(":")
    if colon and path and not Path(image).exists():
        if place.isascii() and place.isdigit() and len(place) < 6:
            return Path(path), int(place)
        if Path(path).exists() and "." in place and "/" not in place:
            return Path(path), place
    return Path(image), None
