"""What commands share: the sheet argument, `--json`, and how results and findings are printed."""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import click

from narvet.errors import is_harmless, printable
from narvet.findings import Finding, has_errors
from narvet.images import NAMES
from narvet.units import SizeError, parse_size

SHEET = click.argument("sheet", type=click.Path(path_type=Path, readable=False))


class SizeType(click.ParamType[int]):
    """A size with a unit, in bytes once read."""

    name = "size"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> int:
        """Return the bytes."""
        if isinstance(value, int):
            return value
        try:
            return parse_size(value)
        except SizeError as error:
            self.fail(str(error), param, ctx)


FORMAT = click.option(
    "--format", "kind", type=click.Choice(NAMES), help="Image format; otherwise the name's ending tells."
)
BLOCK = click.option("--block", type=SizeType(), help="The unit a thin image grows by; otherwise the format's choice.")
SPACE = click.option(
    "--space", type=click.Choice(["thin", "full"]), default="thin", help="Store what holds data, or everything."
)
PIECES = click.option("--pieces", type=SizeType(), help="vmdk: keep the image in files of at most this size.")
PACKED = click.option("--packed", is_flag=True, help="vmdk: the compressed form for transport, only read afterwards.")
IMAGE_FORMAT = click.option(
    "--image-format", type=click.Choice(NAMES), help="Format that IMAGE is read by; otherwise its ending tells."
)
BASES = click.option(
    "--base", "bases", multiple=True, type=click.Path(path_type=Path), help="A base that may lie elsewhere; repeatable."
)
SECTOR = click.option(
    "--sector", type=click.Choice(["512", "4096"]), help="Bytes of a sector, where the image does not record them."
)
AS_JSON = click.option("--json", "as_json", is_flag=True, help="Print facts for programs.")


def clear_folder(*paths: Path) -> None:
    """Clear what interrupted runs left beside some images; a folder that this user may not change is passed over."""
    from narvet.block.publish import recover_all

    for folder in {path.parent for path in paths}:
        if os.access(folder, os.W_OK | os.X_OK):
            recover_all(folder)


def print_json(facts: Any) -> None:
    """Print facts, the only thing on standard output; what a terminal might obey stands in escapes."""
    text = json.dumps(facts, indent=2, ensure_ascii=False)
    if not text.replace("\n", "").isprintable():
        text = "".join(sign if is_harmless(sign) or sign == "\n" else f"\\u{ord(sign):04x}" for sign in text)
    click.echo(text)


def headline(text: str) -> None:
    """Print a line that stands out, where the terminal may be told so."""
    click.secho(text, bold=not os.environ.get("NO_COLOR"))


def say(sentence: str, *, err: bool = False) -> None:
    """Print a sentence with nothing in it that a terminal might obey."""
    click.echo(printable(sentence, keep="\n"), err=err)


def tell(as_json: bool, facts: Any, sentence: str) -> None:
    """Print what a command did: facts for programs, or a sentence for people."""
    if as_json:
        print_json(facts)
    else:
        say(sentence)


def print_text(render: Callable[[Any], Any]) -> None:
    """Print what `render` makes for the marks that the terminal can show."""
    from narvet.report.terminal import console, marks

    console().print(render(marks()))


def print_findings(found: Sequence[Finding]) -> None:
    """Print findings on standard error."""
    if found:
        from narvet.report import text
        from narvet.report.terminal import marks, message_console

        message_console().print(text.findings(found, marks()))


def status_of(found: Sequence[Finding]) -> int:
    """Return the exit status that findings lead to."""
    return 1 if has_errors(list(found)) else 0
