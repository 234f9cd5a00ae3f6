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

from narvet.report.terminal import message_console, plain

if TYPE_CHECKING:
    from narvet.work.steps import Step


@contextmanager
def progress(total: int) -> Iterator[Callable[[Step], None]]:
    """Show a bar over `total` steps while the context lasts; call what it yields with each step done."""
    screen = message_console()
    columns = (MofNCompleteColumn(), BarColumn(), TimeElapsedColumn(), TextColumn("{task.description}"))
    with Progress(
        *columns, console=screen, transient=True, disable=plain() or not (screen.is_terminal and total)
    ) as bar:
        task = bar.add_task("", total=total)
        yield lambda step: bar.update(task, advance=1, description=step.touches)


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
