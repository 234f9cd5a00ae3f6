"""Write what the code itself says into a folder of docs: the sheet's schema and tables of keys, the rules.

Usage: python docs/reference.py [FOLDER]
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

import click

from narvet.cli.main import cli
from narvet.ground.rules import table
from narvet.model.controllers import controller_table
from narvet.report.shapes import SHAPES, json_schema
from narvet.sheet.base import Form
from narvet.sheet.contents import PartitionForm, VolumeForm
from narvet.sheet.form import DiskForm, PoolForm, Sheet, schema
from narvet.sheet.keys import key_table
from narvet.sheet.machines import GuestForm, HostForm, StoreForm
from narvet.standin.app import openapi
from narvet.usecases.words import words_table

FORMS: dict[str, type[Form]] = {
    "sheet": Sheet,
    "host": HostForm,
    "store": StoreForm,
    "guest": GuestForm,
    "disk": DiskForm,
    "partition": PartitionForm,
    "pool": PoolForm,
    "volume": VolumeForm,
}

COMMON = ("--quiet", "--strict", "--log", "--help")
"""Options that every command has."""


def write(folder: Path) -> None:
    """Bring the generated files and parts of files in a folder up to date."""
    (folder / "sheet.schema.json").write_text(json.dumps(schema(), indent=2) + "\n")
    (folder / "findings.md").write_text(table())
    (folder / "words.md").write_text(words_table())
    for command in SHAPES:
        (folder / "schemas").mkdir(exist_ok=True)
        (folder / "schemas" / f"{command}.json").write_text(json.dumps(json_schema(command), indent=2) + "\n")
    (folder / "narvet.1").write_text(manual())
    (folder / "service.json").write_text(json.dumps(openapi(), indent=2) + "\n")
    page = folder / "sheet.md"
    text = page.read_text()
    tables = {f"keys of {name}": (key_table(form), name) for name, form in FORMS.items()}
    for what, (written, name) in {**tables, "controllers": (controller_table(), "controllers")}.items():
        start, end = f"<!-- {what}: made by `make reference` -->\n", f"<!-- end of {name} -->"
        before, found, rest = text.partition(start)
        if not found or end not in rest:
            raise SystemExit(f"{page} has no place for {what}")
        text = before + start + written + end + rest.partition(end)[2]
    page.write_text(text)


def manual() -> str:
    """Return the manual page of the program (man(7)), from what its commands say of themselves."""
    whole = click.Context(cli, info_name="narvet")
    parts = ['.TH NARVET 1 "" "Narvet" "User Commands"', ".SH NAME", f"narvet \\- {_roff(_first(cli))}"]
    parts += [".SH SYNOPSIS", ".B narvet", "COMMAND [OPTIONS] [WORDS]", ".SH DESCRIPTION", *_paragraphs(cli.help or "")]
    common: dict[str, tuple[str, str]] = {}
    parts.append(".SH COMMANDS")
    for name in cli.list_commands(whole):
        command = cli.get_command(whole, name)
        if command is None:
            continue
        ctx = click.Context(command, info_name=name, parent=whole)
        words = " ".join(command.collect_usage_pieces(ctx))
        parts += [f'.SS "narvet {name} {_roff(words)}"', *_paragraphs(command.help or "")]
        common = {record[0]: record for record in _options(command, ctx) if record[0].split(" ")[0] in COMMON}
        for record in _options(command, ctx):
            parts += _option(record) if record[0] not in common else []
    parts += [".SH OPTIONS OF EVERY COMMAND", *(line for record in common.values() for line in _option(record))]
    return "\n".join(parts) + "\n"


def _options(command: click.Command, ctx: click.Context) -> list[tuple[str, str]]:
    records = (one.get_help_record(ctx) for one in command.get_params(ctx) if isinstance(one, click.Option))
    return [record for record in records if record is not None]


def _option(record: tuple[str, str]) -> list[str]:
    return [".TP", f".B {_roff(record[0])}", _roff(" ".join(record[1].split()))]


def _first(command: click.Command) -> str:
    return (command.help or "").partition("\n")[0].rstrip(".")


def _paragraphs(text: str) -> list[str]:
    """Return a help text as paragraphs; what follows the mark for lines kept as they are stands line by line."""
    found: list[str] = []
    for part in text.split("\n\n"):
        kept = part.startswith("\b")
        lines = [_roff(line.strip()) for line in part.replace("\b", "").strip().splitlines()]
        found += [".PP", *([".nf", *lines, ".fi"] if kept else [" ".join(lines)])]
    return found


def _roff(text: str) -> str:
    """Return a text that a manual page shows as it is."""
    text = text.replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{text}" if text.startswith((".", "'")) else text


if __name__ == "__main__":
    write(Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parent)
