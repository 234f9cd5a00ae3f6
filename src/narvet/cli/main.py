"""The `narvet` command: its commands are loaded when called, and every error becomes a sentence and an exit status."""

from __future__ import annotations

import sys
from importlib import import_module
from typing import Any

import click

from narvet import __version__
from narvet.errors import BugError, NarvetError, RefusedError, printable

_COMMANDS = {
    "demo": "lay the example out in a new folder and run the whole of it",
    "draft": "start a sheet, or add disks to one",
    "review": "work a sheet out and show everything that would be made",
    "write": "make what a sheet asks for",
    "make": "make one disk without a sheet",
    "survey": "show what is on images or devices, whoever made them",
    "confirm": "read everything back and compare it with the sheet",
    "recast": "write the same disk to an image in another format, or larger",
    "branch": "make a child that keeps only its differences from a base",
    "fold": "put a child's differences into its base",
    "reclaim": "have a thin image give back what nothing in it uses",
    "retire": "remove a disk for good: its entries, its image, its place in the sheet",
    "picture": "draw a sheet or an image",
    "explain": "tell what a finding means and the way out",
    "entries": "show or install the entries that make mounts persist",
}
_INTERRUPTED = 130  # as shells give for a program ended from the keyboard


class Commands(click.Group):
    """The group of all commands; a command's module is imported only when it is called."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the commands in the order of a job."""
        return list(_COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Return a command, from its own module."""
        if cmd_name not in _COMMANDS:
            return None
        command: click.Command = import_module(f"narvet.cli.{cmd_name}").command
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """List the commands without importing them."""
        with formatter.section("Commands"):
            formatter.write_dl(list(_COMMANDS.items()))

    def invoke(self, ctx: click.Context) -> Any:
        """Run a command; our own errors and the system's become a message and an exit status."""
        try:
            return super().invoke(ctx)
        except (NarvetError, OSError) as error:
            if ctx.params.get("debug"):
                raise
            click.echo(printable(_sentence(error), keep="\n"), err=True)
            ctx.exit(error.status if isinstance(error, NarvetError) else RefusedError.status)
        except KeyboardInterrupt:
            click.echo("Stopped. What was finished stays; write the sheet again to go on.", err=True)
            ctx.exit(_INTERRUPTED)


def _sentence(error: Exception) -> str:
    if isinstance(error, BugError):
        return f"Narvet has a fault of its own, and stopped before doing harm: {error}"
    if isinstance(error, OSError):
        return f"{error.filename}: {error.strerror}" if error.filename else str(error.strerror or error)
    return str(error)


@click.group(cls=Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__, "--version", message="%(prog)s %(version)s")
@click.option("--debug", is_flag=True, help="On an error show where in Narvet it came up.")
def cli(debug: bool) -> None:
    """Plan virtual data disks and write them, laid out so that each guest can use them at once.

    \b
    Exit status: 0 done and clean; 1 findings of level error, or a difference;
    2 the call or the sheet is wrong; 3 the system refused.
    """


def run() -> None:
    """Run the program; where standard output is closed early, stop quietly."""
    try:
        cli(prog_name="narvet")
    except BrokenPipeError:
        sys.stderr.close()
        sys.exit(0)
