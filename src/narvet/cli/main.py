"""The `narvet` command: its commands are loaded when called, and every error becomes a sentence and an exit status."""

from __future__ import annotations

import errno
import gc
import io
import os
import signal
import sys
from importlib import import_module
from typing import Any

import click

from narvet import __version__
from narvet.cli.speak import say
from narvet.ground.errors import BugError, NarvetError, RefusedError, nearest, printable

_COMMANDS = {
    "demo": "lay the example out in a new folder and run the whole of it",
    "draft": "start a sheet, or add disks to one",
    "review": "work a sheet out and show everything that would be made",
    "write": "make what a sheet asks for",
    "make": "make one disk without a sheet",
    "survey": "show what is on images or devices, made by Narvet or by others",
    "look": "show folders and files inside an image, or take one file out",
    "keys": "list, add, change and remove the keys of a sealed volume",
    "devices": "list the real block devices of this machine",
    "confirm": "read everything back and compare it with the sheet",
    "history": "show what was done for a sheet, and when",
    "report": "write a page about a sheet, to hand over with its disks",
    "recast": "write the same disk to an image in another format or size",
    "enlarge": "make a disk larger where it is, with a partition and the filesystem on it",
    "shrink": "make a disk smaller, with a partition and the filesystem on it",
    "branch": "make a child that keeps only its differences from a base",
    "tie": "have a child follow a base that was moved or copied",
    "fold": "put a child's differences into its base",
    "lend": "lend disks to machines that attach them over the network",
    "hub": "run what the hosts of a fleet are reached through",
    "host": "do on this machine what sheets want of one of their hosts",
    "standin": "run a small simulated storage service, to try and test against",
    "reclaim": "have a thin image give back what nothing in it uses",
    "attach": "plug disks into their guests, or list how to do it by hand",
    "detach": "take disks out of their guests",
    "wrap": "make one package of a guest's description and its images",
    "unwrap": "take such a package apart",
    "retire": "remove a disk for good: its entries, its image, its place in the sheet",
    "picture": "draw a sheet or an image",
    "explain": "tell what a finding, a key or a word means, and the way out",
    "entries": "show or install the entries that make mounts persist",
}
_NOTHING_CHANGED = "Nothing was changed."
_STOPPED = {
    "write": "What was finished stays; write the sheet again to go on.",
    "demo": "Remove the folder to start again.",
    "make": "Nothing of the image is left; make it again.",
    "recast": "Nothing of the new image is left, and the old one is as it was; recast it again.",
    "enlarge": "The disk is as it was, or larger; enlarge it again to be sure.",
    "shrink": "The disk is as it was, or smaller, or only what is on it is; shrink it again to be sure.",
    "branch": "Nothing of the child is left; branch again.",
    "tie": "The child is as it was, or tied; tie it again to be sure.",
    "fold": "The disk is whole: read through the child as before, or, where that is gone, folded. "
    "Fold it again to finish.",
    "reclaim": "The image is as it was, or done; reclaim it again.",
    "attach": "What was plugged in stays; attach again to go on.",
    "detach": "What was taken out is out; detach again to go on.",
    "look": "Nothing of the file is left; call it again.",
    "keys": "The keys are as they were, or changed; list them to see.",
    "wrap": "Nothing of the package is left; wrap again.",
    "unwrap": "Nothing of the folder is left; unwrap again.",
    "retire": "What was finished stays; retire the disk again to go on.",
}
_UNANSWERED = {"draft": "The sheet is as it was."}
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

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Return the command that is called; for one that is not known name the nearest."""
        if args and args[0] not in _COMMANDS and not args[0].startswith("-"):
            ctx.fail(f'There is no command "{printable(args[0])[:60]}"{nearest(args[0], _COMMANDS)}.')
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """List the commands without importing them."""
        with formatter.section("Commands"):
            formatter.write_dl(list(_COMMANDS.items()))

    def invoke(self, ctx: click.Context) -> Any:
        """Run a command, and put into the log how it ended."""
        try:
            done = self._invoke(ctx)
        except click.exceptions.Exit as end:
            _log(f"ended with status {end.exit_code}")
            raise
        except click.ClickException as error:
            _log(f"ended with status {error.exit_code}: {error.format_message()}")
            raise
        _log("ended with status 0")
        return done

    def _invoke(self, ctx: click.Context) -> Any:
        """Run a command; our own errors and the system's become a message and an exit status."""
        try:
            return super().invoke(ctx)
        except (click.exceptions.Exit, click.ClickException):
            raise
        except click.Abort:  # a question was answered with no, or not at all
            _complain(f"Stopped. {_UNANSWERED.get(str(ctx.invoked_subcommand), _NOTHING_CHANGED)}")
            ctx.exit(_INTERRUPTED)
        except BrokenPipeError:
            _close_output()
            ctx.exit(0)
        except (NarvetError, OSError) as error:
            _raise_again(ctx, error)
            _complain(_sentence(error))
            ctx.exit(error.status if isinstance(error, NarvetError) else RefusedError.status)
        except KeyboardInterrupt as stop:
            finished = "".join(getattr(stop, "__notes__", ()))
            _complain(f"Stopped. {finished}{_STOPPED.get(str(ctx.invoked_subcommand), _NOTHING_CHANGED)}")
            ctx.exit(_INTERRUPTED)
        except Exception as error:  # the last net: whatever was not foreseen still ends in a sentence
            _raise_again(ctx, error)
            _complain(f"Narvet has a fault of its own, and stopped: {type(error).__name__}: {_first_line(error)}")
            say("Call narvet --debug with the same words to see where, and report it.", err=True)
            ctx.exit(RefusedError.status)


def _complain(sentence: str) -> None:
    """Print what went wrong, and put it into the log."""
    say(sentence, err=True)
    _log(sentence)


def _log(sentence: str) -> None:
    """Put a sentence into the log, if the command came as far as having one."""
    job = sys.modules.get("narvet.cli.job")
    if job is not None:
        job.log(sentence)


def _raise_again(ctx: click.Context, error: Exception) -> None:
    if ctx.params.get("debug"):
        raise error


def _first_line(error: Exception) -> str:
    return (str(error).splitlines() or [""])[0][:200]


def _sentence(error: Exception) -> str:
    if isinstance(error, BugError):
        return f"Narvet has a fault of its own, and stopped before doing harm: {error}"
    if isinstance(error, OSError):
        if error.errno == errno.EMFILE:
            return "This user may not have that many files open at once; raise the limit (ulimit -n)"
        return f"{error.filename}: {error.strerror}" if error.filename else str(error.strerror or error)
    return str(error)


@click.group(cls=Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__, "--version", message="%(prog)s %(version)s")
@click.option("--debug", is_flag=True, help="On an error show where in Narvet it came up.")
def cli(debug: bool) -> None:
    """Plan virtual data disks and write them, laid out so that each guest can use them at once.

    \b
    Exit status: 0 done and clean; 1 findings of level error, or a difference;
    2 the call or the sheet is wrong; 3 the system refused; 130 stopped by you.
    """


def run() -> None:
    """Run the program. Where standard output is closed early, it stops quietly, with status 0."""
    # Other packages' code has no place here, and looking for it takes time.
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    gc.set_threshold(200_000, 20, 20)  # a large sheet is many small values that all stay: nothing is found there
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")
    if hasattr(signal, "SIGTERM"):
        signal.signal(signal.SIGTERM, _terminated)
    try:
        cli(prog_name="narvet")
    finally:
        try:
            sys.stdout.flush()
        except BrokenPipeError:
            _close_output()


def _close_output() -> None:
    """Let what is still to be printed go nowhere: its reader has gone."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _terminated(number: int, frame: object) -> None:
    """Stop as from the keyboard, so that nothing is left behind."""
    del number, frame
    raise KeyboardInterrupt
