"""Progress on a terminal, for work that takes longer than a moment; silent anywhere else."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from narvet.ground.units import counted
from narvet.report.terminal import message_console, plain

if TYPE_CHECKING:
    from rich.progress import Progress, TaskID

    from narvet.apply.execute import HostNews
    from narvet.model.moves import Step


_MOST_HOSTS = 20


class Copying:
    """A bar over bytes: called with those that are done, and told beforehand how many there will be; None is silent."""

    def __init__(self, bar: Progress | None, what: str = "") -> None:
        self._bar = bar
        self._what = what
        self._task = bar.add_task(what, total=None) if bar else None

    def __call__(self, size: int) -> None:
        """Go on by so many bytes."""
        if self._bar and self._task is not None:
            self._bar.advance(self._task, size)

    def expect(self, size: int) -> None:
        """Hear of so many bytes more."""
        if self._bar and self._task is not None:
            task = self._bar.tasks[self._bar.task_ids.index(self._task)]
            self._bar.update(self._task, total=(task.total or 0) + size)

    def wait(self, for_what: str) -> None:
        """Show what is being waited for, beside what is done."""
        if self._bar and self._task is not None:
            self._bar.update(self._task, description=f"{self._what}, {for_what}" if for_what else self._what)

    def begin(self, what: str) -> None:
        """Start over with something else."""
        self._what = what
        if self._bar and self._task is not None:
            self._bar.reset(self._task, total=None, description=what)


class Steps:
    """A bar over steps, and the bytes of the one under way; on a terminal, once there is something to do."""

    def __init__(self, bar: Progress | None) -> None:
        self._bar = bar
        self._total, self._done = 0, list[str]()
        self._hosts: dict[str, TaskID] = {}
        self.copied = Copying(bar)

    def start(self, total: int) -> None:
        """Show the bar, if there is anything to do."""
        self._total = total
        if total and self._bar:
            self._bar.start()
        self._begin()

    def done(self, step: Step) -> None:
        """Go on by one step."""
        self._done.append(step.touches)
        self._begin()

    def news(self, host: str, news: HostNews) -> None:
        """Show how far a host is; of many hosts the first ones."""
        if not self._bar:
            return
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
    bar = _bar(spins=False)
    steps = Steps(bar)
    try:
        yield steps
    except KeyboardInterrupt as stop:
        stop.add_note(steps.finished)
        raise
    finally:
        if bar:
            bar.stop()


@contextmanager
def counting(what: str) -> Iterator[Copying]:
    """Show how many bytes are done while the context lasts; call what it yields with each number of bytes."""
    bar = _bar(spins=True)
    counter = Copying(bar, what)
    if bar:
        bar.start()
    try:
        yield counter
    finally:
        if bar:
            bar.stop()


def _bar(*, spins: bool) -> Progress | None:
    """Return a bar that is not shown yet, None where none may be shown; what draws it is loaded only then."""
    screen = message_console()
    if not screen.is_terminal or plain():
        return None
    from narvet.report.bars import bar_on

    return bar_on(screen, spins=spins)
