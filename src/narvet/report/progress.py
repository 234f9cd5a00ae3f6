"""Progress on a terminal, for work that takes longer than a moment; silent anywhere else."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta
from typing import TYPE_CHECKING

from rich.progress import BarColumn, Progress, ProgressColumn, SpinnerColumn, Task, TaskID, TextColumn
from rich.text import Text

from narvet.ground.units import NO_BREAK, counted, show_binary
from narvet.report.terminal import message_console, plain

if TYPE_CHECKING:
    from narvet.apply.execute import HostNews
    from narvet.model.moves import Step


_MOST_HOSTS = 20


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


class Copying:
    """A bar over bytes: called with those that are done, and told beforehand how many there will be."""

    def __init__(self, bar: Progress, what: str = "") -> None:
        self._bar = bar
        self._what = what
        self._task = bar.add_task(what, total=None)

    def __call__(self, size: int) -> None:
        """Go on by so many bytes."""
        self._bar.advance(self._task, size)

    def expect(self, size: int) -> None:
        """Hear of so many bytes more."""
        task = self._bar.tasks[self._bar.task_ids.index(self._task)]
        self._bar.update(self._task, total=(task.total or 0) + size)

    def wait(self, for_what: str) -> None:
        """Show what is being waited for, beside what is done."""
        self._bar.update(self._task, description=f"{self._what}, {for_what}" if for_what else self._what)

    def begin(self, what: str) -> None:
        """Start over with something else."""
        self._what = what
        self._bar.reset(self._task, total=None, description=what)


class Steps:
    """A bar over steps, and the bytes of the one under way; on a terminal, once there is something to do."""

    def __init__(self, bar: Progress, *, shown: bool) -> None:
        self._bar = bar
        self._shown = shown
        self._total, self._done = 0, list[str]()
        self._hosts: dict[str, TaskID] = {}
        self.copied = Copying(bar)

    def start(self, total: int) -> None:
        """Show the bar, if there is anything to do."""
        self._total = total
        if total and self._shown:
            self._bar.start()
        self._begin()

    def done(self, step: Step) -> None:
        """Go on by one step."""
        self._done.append(step.touches)
        self._begin()

    def news(self, host: str, news: HostNews) -> None:
        """Show how far a host is; of many hosts the first ones."""
        if host not in self._hosts:
            if len(self._hosts) >= _MOST_HOSTS:
                return
            self._hosts[host] = self._bar.add_task(host or "this machine", total=news.total, is_host=True)
        self._bar.update(self._hosts[host], completed=news.done + news.failed + news.left, news=news)

    def _begin(self) -> None:
        number = min(len(self._done) + 1, self._total)
        self.copied.begin(f"step {number} of {self._total}")

    @property
    def finished(self) -> str:
        """What is finished when work is stopped, as the beginning of a sentence; nothing if nothing was begun."""
        if not self._total:
            return ""
        if not self._done:
            return f"Of {counted(self._total, 'step')} none is finished. "
        count = f"{len(self._done)} {'is' if len(self._done) == 1 else 'are'} finished"
        return f"Of {counted(self._total, 'step')} {count}, the last on {self._done[-1]}. "


@contextmanager
def progress() -> Iterator[Steps]:
    """Show a bar over steps while the context lasts, on a terminal."""
    bar, shown = _bar(TextColumn("{task.description}"), BarColumn(bar_width=24))
    steps = Steps(bar, shown=shown)
    try:
        yield steps
    except KeyboardInterrupt as stop:
        stop.add_note(steps.finished)
        raise
    finally:
        bar.stop()


@contextmanager
def counting(what: str) -> Iterator[Copying]:
    """Show how many bytes are done while the context lasts; call what it yields with each number of bytes."""
    bar, shown = _bar(SpinnerColumn(), TextColumn("{task.description}"), BarColumn(bar_width=24))
    counter = Copying(bar, what)
    if shown:
        bar.start()
    try:
        yield counter
    finally:
        bar.stop()


def _bar(*first: ProgressColumn) -> tuple[Progress, bool]:
    """Return a bar that is not shown yet, and whether it may be shown."""
    screen = message_console()
    shown = screen.is_terminal and not plain()
    return Progress(*first, Bytes(), console=screen, transient=True, disable=not shown), shown
