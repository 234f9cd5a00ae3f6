"""What every command is made by: the options that all have, a sheet that need not be named, and the log."""

from __future__ import annotations

import logging
import re
import sys
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, TypeVar

import click
from click.shell_completion import CompletionItem

import narvet
from narvet.ground.errors import flat, printable

F = TypeVar("F", bound=Callable[..., Any])
_QUIET, _STRICT, _WORDS = "narvet.quiet", "narvet.strict", "narvet.words"
_LOG = logging.getLogger("narvet")
_LOG.addHandler(logging.NullHandler())  # so that nothing is printed where no log is asked for
_ENDING = ".toml"
_LINE_STARTS = 21  # bytes: the time, and a blank


class Job(click.Command):
    """A command with the options that all have."""

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        self.params += [
            click.Option(
                ["--quiet"], is_flag=True, expose_value=False, callback=_kept(_QUIET), help="Print errors only."
            ),
            click.Option(
                ["--strict"], is_flag=True, expose_value=False, callback=_kept(_STRICT),
                help="Let warnings count like errors in the exit status.",
            ),
            click.Option(
                ["--log"], type=click.Path(path_type=Path), expose_value=False, callback=_log_to, is_eager=True,
                help="Add to this file what is done and said, with the time.",
            ),
        ]  # fmt: skip

    def collect_usage_pieces(self, ctx: click.Context) -> list[str]:
        """Return how the command is called, without brackets in brackets."""
        pieces = [piece for param in self.params for piece in param.get_usage_pieces(ctx)]
        return [self.options_metavar or "", *(piece.replace("[[", "[").replace("]]...", "]") for piece in pieces)]


def job(name: str) -> Callable[[Callable[..., Any]], Job]:
    """Make a function a command of Narvet."""
    return click.command(name, cls=Job)


def is_quiet() -> bool:
    """Return whether only errors are to be printed."""
    return _asked(_QUIET)


def is_strict() -> bool:
    """Return whether warnings count like errors."""
    return _asked(_STRICT)


def _asked(key: str) -> bool:
    ctx = click.get_current_context(silent=True)
    return bool(ctx and ctx.meta.get(key))


def _kept(key: str) -> Callable[[click.Context, click.Parameter, bool], None]:
    def keep(ctx: click.Context, param: click.Parameter, value: bool) -> None:
        del param
        ctx.meta[key] = value

    return keep


class _Lines(logging.Formatter):
    """A line for each record, with the time in UTC and nothing that a terminal might obey."""

    def formatTime(self, record: logging.LogRecord, datefmt: str | None = None) -> str:  # noqa: N802 (logging's name)
        """Return when it was, in UTC."""
        return time.strftime(datefmt or "%Y-%m-%dT%H:%M:%SZ", time.gmtime(record.created))

    def format(self, record: logging.LogRecord) -> str:
        return flat(printable(super().format(record).replace("\n", " | ")))


def _log_to(ctx: click.Context, param: click.Parameter, value: Path | None) -> None:
    """Have what is logged added to a file until the call ends."""
    del param
    if value is None:
        return
    if not _is_log(value):
        raise narvet.RequestError(f"{value} is there already and is not a log of Narvet; choose another name")
    handler = logging.FileHandler(value, encoding="utf-8", errors="backslashreplace")
    handler.setFormatter(_Lines("%(asctime)s %(levelname)s %(message)s", "%Y-%m-%dT%H:%M:%SZ"))
    _LOG.setLevel(logging.INFO)
    _LOG.addHandler(handler)
    log(f"narvet {narvet.__version__} called: {' '.join(sys.argv[1:])}")
    ctx.find_root().call_on_close(handler.flush)  # how the call ended comes later; the process closes the file


def _is_log(path: Path) -> bool:
    """Return whether lines can be added to a file: one that is new, empty, or begins as a log does."""
    if not path.is_file():
        return not path.exists() or path.is_char_device() or path.is_fifo()
    with path.open("rb") as file:
        start = file.read(_LINE_STARTS)
    return not start or bool(re.match(rb"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ ", start))


def log(sentence: str) -> None:
    """Put a sentence into the log, if there is one."""
    _LOG.info(sentence)


def on_sheet(rest: str = "", *, least: int = 0, most: int | None = None, new: bool = False) -> Callable[[F], F]:
    """Give a command a sheet, which need not be named where the folder has just one, and perhaps names after it.

    The function is called with `sheet`, and with the names as `rest`, at least so many and at most so many of them.
    With `new` a folder without a sheet stands for a new one, sheet.toml.
    """
    one = rest.removesuffix("s").upper()
    shown = f"[{one}]..." if least == 0 and most != 1 else f"[{one}]" if least == 0 else one
    shown += "..." if least and most != least else ""

    def decorate(command: F) -> F:
        def split(ctx: click.Context, param: click.Parameter, words: tuple[str, ...]) -> None:
            sheet, names = _split(words)
            ctx.meta[_WORDS] = words
            if ctx.resilient_parsing:  # for completion
                return
            if len(names) < least:
                raise click.MissingParameter(ctx=ctx, param=param, param_type="argument", param_hint=f"'{one}'")
            if most is not None and len(names) > most:
                ctx.fail(f'There is no place for "{printable(names[most])[:60]}" in this call.')
            ctx.params["sheet"] = sheet or _in_folder(new=new)
            if rest:
                ctx.params[rest] = names

        argument = click.argument(
            "words", nargs=-1, metavar=f"[SHEET] {shown if rest else ''}".strip(), expose_value=False, callback=split,
            shell_complete=_names_of(rest),
        )  # fmt: skip
        return argument(command)

    return decorate


def _split(words: Sequence[str]) -> tuple[Path | None, tuple[str, ...]]:
    """Return the sheet, if the first word is one, and the words after it."""
    if words and (words[0].endswith(_ENDING) or "/" in words[0] or _is_file(words[0])):
        return Path(words[0]), tuple(words[1:])
    return None, tuple(words)


def _is_file(word: str) -> bool:
    """Return whether a word is the name of a file, not of something in the sheet."""
    return Path(word).exists() and ("." in word or not narvet.sheets_in(Path()))


def _in_folder(*, new: bool) -> Path:
    if new and not narvet.sheets_in(Path()):
        return Path("sheet.toml")
    return narvet.find_sheet(Path())


def _names_of(rest: str) -> Callable[[click.Context, click.Parameter, str], list[CompletionItem]]:
    """Return what completes the words of a command: sheets first, then the names that a sheet has."""

    def complete(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        del param
        sheet, names = _split(ctx.meta.get(_WORDS, ()))
        found = [] if names or sheet else [CompletionItem(incomplete, type="file")]
        return [*found, *(CompletionItem(name) for name in names_in(sheet, rest) if name.startswith(incomplete))]

    return complete


def _completing(what: str) -> Callable[[click.Context, click.Parameter, str], list[str]]:
    """Return what completes the name of something in the sheet that is called with."""

    def complete(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
        del param
        sheet, _ = _split(ctx.meta.get(_WORDS, ()))
        return [name for name in names_in(sheet, what) if name.startswith(incomplete)]

    return complete


complete_disks, complete_guests = _completing("disks"), _completing("guest")


def names_in(sheet: Path | None, what: str) -> list[str]:
    """Return the names that a sheet has of disks, guests or both, for completion; none where it cannot be read."""
    try:
        known = narvet.read_sheet(sheet or narvet.find_sheet(Path()))
    except (narvet.NarvetError, OSError):
        return []
    of = {"disks": [*known.disk], "disk": [*known.disk], "guest": [*known.guest], "names": [*known.disk, *known.guest]}
    return of.get(what, [])
