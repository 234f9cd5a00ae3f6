"""Bars on a terminal: how many bytes and steps are done, and how long the rest will take."""

from __future__ import annotations

from datetime import timedelta
from typing import TYPE_CHECKING

from rich.console import Console
from rich.progress import BarColumn, Progress, ProgressColumn, SpinnerColumn, Task, TextColumn
from rich.text import Text

from narvet.ground.units import NO_BREAK, counted, show_binary

if TYPE_CHECKING:
    from narvet.apply.execute import HostNews


def bar_on(screen: Console, *, spins: bool) -> Progress:
    """Return a bar that is not shown yet; with a sign that moves, if it `spins`."""
    columns = (
        *([SpinnerColumn()] if spins else []),
        TextColumn("{task.description}"),
        BarColumn(bar_width=24),
        Bytes(),
    )
    return Progress(*columns, console=screen, transient=True)


class Bytes(ProgressColumn):
    """How many bytes are done, of how many, how fast, and how long it will still take."""

    def render(self, task: Task) -> Text:
        """Return a task's bytes as text; nothing as long as it has none."""
        if not task.completed and not task.total:
            return Text("")
        if task.fields.get("is_host"):
            return Text(_steps_of(task))
        done = show_binary(int(task.completed))
        parts = [f"{done} of {show_binary(int(task.total))}" if task.total else done]
        if task.speed:
            parts.append(f"{show_binary(int(task.speed))}/s")
        if task.total and task.time_remaining is not None:
            parts.append(f"{timedelta(seconds=int(task.time_remaining))}{NO_BREAK}left")
        return Text(", ".join(parts))


def _steps_of(task: Task) -> str:
    """Return how many steps of a host are done, under way and failed, and how long the others will still take."""
    total = int(task.total or 0)
    parts = [f"{int(task.completed)} of {counted(total, 'step')}"]
    news: HostNews | None = task.fields.get("news")
    if news is not None:
        told = ((news.at_work, "at work"), (news.failed, "failed"))
        parts += [f"{count} {word}" for count, word in told if count]
    if task.time_remaining is not None and task.completed < total:
        parts.append(f"{timedelta(seconds=int(task.time_remaining))}{NO_BREAK}left")
    return ", ".join(parts)
