"""Progress on a terminal, for work that takes longer than a moment; silent anywhere else."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager

from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeElapsedColumn

from narvet.report.terminal import message_console
from narvet.work.steps import Step


@contextmanager
def progress(total: int) -> Iterator[Callable[[Step], None]]:
    """Show a bar over `total` steps while the context lasts; call what it yields with each step done."""
    screen = message_console()
    columns = (MofNCompleteColumn(), BarColumn(), TimeElapsedColumn(), TextColumn("{task.description}"))
    with Progress(*columns, console=screen, transient=True, disable=not (screen.is_terminal and total)) as bar:
        task = bar.add_task("", total=total)
        yield lambda step: bar.update(task, advance=1, description=step.touches)
