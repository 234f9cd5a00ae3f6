"""Progress on a terminal, for work that takes longer than a moment; silent anywhere else."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from rich.progress import (
    BarColumn,
    DownloadColumn,
    MofNCompleteColumn,
    Progress,
    SpinnerColumn,
    TextColumn,
    TimeElapsedColumn,
    TransferSpeedColumn,
)

from narvet.ground.units import show_binary
from narvet.report.terminal import message_console, plain

if TYPE_CHECKING:
    from narvet.model.moves import Step


class Steps:
    """A bar over steps, whose number is known once they are worked out."""

    def __init__(self, bar: Progress) -> None:
        self._bar = bar
        self._task = bar.add_task("", total=None, visible=False)
        self._copied = 0

    def start(self, total: int) -> None:
        """Show the bar, if there is anything to do."""
        self._bar.update(self._task, total=total, visible=total > 0)

    def copied(self, size: int) -> None:
        """Show that the step under way has copied or compared so many bytes more."""
        self._copied += size
        self._bar.update(self._task, description=f"{show_binary(self._copied)} copied")

    def done(self, step: Step) -> None:
        """Go on by one step."""
        self._copied = 0
        self._bar.update(self._task, advance=1, description=step.touches)


@contextmanager
def progress() -> Iterator[Steps]:
    """Show a bar over steps while the context lasts, on a terminal."""
    screen = message_console()
    columns = (MofNCompleteColumn(), BarColumn(), TimeElapsedColumn(), TextColumn("{task.description}"))
    with Progress(*columns, console=screen, transient=True, disable=plain() or not screen.is_terminal) as bar:
        yield Steps(bar)


@contextmanager
def counting(what: str) -> Iterator[Callable[[int], None]]:
    """Show how many bytes are done while the context lasts; call what it yields with each number of bytes."""
    screen = message_console()
    columns = (
        SpinnerColumn(),
        DownloadColumn(binary_units=True),
        TransferSpeedColumn(),
        TextColumn("{task.description}"),
    )
    with Progress(*columns, console=screen, transient=True, disable=plain() or not screen.is_terminal) as bar:
        task = bar.add_task(what, total=None)
        yield lambda size: bar.advance(task, size)
