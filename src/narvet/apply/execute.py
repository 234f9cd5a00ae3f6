"""Carrying steps out: in their order, several at once where they have nothing to do with one another, each recorded.

Images come first and entries last, on every host. What fails is told at the end, with what waited for it; the rest goes
on.
"""

from __future__ import annotations

import logging
import os
import queue
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from heapq import heappop, heappush
from pathlib import Path
from typing import Any

from narvet.apply.order import about, order, reads
from narvet.apply.places import EVERYTHING_HERE, Places
from narvet.block.locks import exclusive_lock
from narvet.block.publish import clear_folders, recover_all
from narvet.fleet.claims import Run, claim, claimed, unclaim
from narvet.fleet.engine import HERE, Engine, Here, Outcome, Then, all_of, engine
from narvet.fleet.processes import sent
from narvet.fleet.standing import stay_inside
from narvet.fleet.wire import runs_elsewhere
from narvet.ground.errors import NarvetError, RefusedError, UnfinishedError, flat
from narvet.ground.offers import offers
from narvet.ground.units import counted
from narvet.ground.values import Draft, Frozen, field, replace
from narvet.model.layout import Layout
from narvet.model.moves import Announced, Asks, Brief, Ends, Lies, NeedsKeys, Step
from narvet.observe.ledger import ledger_path, record
from narvet.sheet.form import Sheet
from narvet.sheet.hosts import THIS_MACHINE

_LOG = logging.getLogger("narvet.steps")
_WORTH_PROCESSES = 24  # steps
_TOGETHER = 8  # brief steps that are given to a process at once
_MOST_TOLD = 12


@contextmanager
def sheet_lock(sheet: Path) -> Iterator[None]:
    """Hold a sheet's name from working it out to the last step, so that two Narvets never carry it out at once.

    Raises:
        RefusedError: another Narvet is at work on it.
    """
    if not sheet.is_file():  # reading it will tell what is wrong
        yield
        return
    with exclusive_lock(sheet.resolve()):
        yield


def clear_stores(layout: Layout) -> None:
    """Clear what interrupted runs left in the stores of a sheet, and beside the images that its guests' roots lie in.

    What other Narvets are at work on stays.
    """
    folders: dict[str, set[str]] = defaultdict(set)
    images: dict[str, set[str]] = defaultdict(set)
    for store in layout.stores:
        folders[store.host].add(store.path)
    for name, guest in layout.guests.items():
        if guest.root is not None:
            images[layout.guest_hosts.get(name, THIS_MACHINE)].add(guest.root.path)
    hosts = dict.fromkeys((*folders, *images))
    all_of(clear, [(host, (sorted(folders[host]), sorted(images[host]))) for host in hosts])


@runs_elsewhere
def clear(folders: Sequence[str], roots: Sequence[str]) -> None:
    """Clear what interrupted runs left in some folders, and beside some images."""
    stay_inside(*folders, *roots)
    for folder in sorted({Path(one) for one in folders}):
        if folder.is_dir():
            recover_all(folder)
    clear_folders(*(Path(os.path.realpath(root)) for root in roots if Path(root).is_file()))


@runs_elsewhere
def done(step: Step, run: Run | None = None) -> dict[str, object]:
    """Do a step, and return what the ledger keeps of it; what is trusted of images is looked up where it is done.

    A host does it for a run whose claim it holds, in its own folder.

    Raises:
        RefusedError: another run has begun since, or the step is about something elsewhere.
    """
    stay_inside(*(path for kind, path in about(step) if kind == "path"))
    if not (offers(step, Asks) and step.question):  # what it reads is lent by another host then
        stay_inside(*reads(step))
    trust = getattr(step, "trust", None)
    if trust is not None:
        settled: Any = step
        step = replace(settled, trust=trust.settled())
    with claimed(run):
        return step.apply()


@runs_elsewhere
def done_in_turn(steps: Sequence[Step], run: Run | None = None) -> tuple[Outcome, ...]:
    """Do steps one after another, and return what each came to; none of them needs another."""

    def outcome(step: Step) -> Outcome:
        try:
            return Outcome(done(step, run))
        except Exception as error:
            return Outcome(error=sent(error))

    return tuple(map(outcome, steps))


@contextmanager
def claiming(sheet: Path, asked: Sheet) -> Iterator[Run | None]:
    """Claim a sheet on all of its hosts that are other machines, as long as the context lasts; give that run.

    Raises:
        RefusedError: somebody else is writing it, or a host is not there.
    """
    hosts = [host for host in asked.host if engine().is_far(host)]
    if not hosts:
        yield None
        return
    run = Run.of(asked.identity, sheet)
    try:
        all_of(claim, [(host, (run,)) for host in hosts])
        yield run
    finally:
        with suppress(NarvetError):
            all_of(unclaim, [(host, (run,)) for host in hosts])


def carry_out(
    sheet: Path,
    todo: Sequence[Step],
    on_done: Callable[[Step], object],
    places: Places = EVERYTHING_HERE,
    run: Run | None = None,
    on_news: OnNews = lambda *_: None,
) -> None:
    """Do the steps of a sheet and record each once it is done; `run` is what hosts have its claims for.

    `on_news` is called with how far a host is, where there are many steps.

    Raises:
        RefusedError: the system refused a step; those that did not wait for it are done.
        UnfinishedError: several steps were not done, for reasons of their own.
    """
    _Work(sheet, todo, on_done, places, run, on_news).go()


def get_ready(todo: Sequence[Step]) -> None:
    """Have whatever does steps get ready for them, where they are many."""
    if len(todo) >= _WORTH_PROCESSES:
        engine().begin()


class HostNews(Frozen):
    """How far a host is with its steps: how many there are, done, failed, left as they waited for one that failed."""

    total: int
    done: int = 0
    failed: int = 0
    left: int = 0
    at_work: int = 0


OnNews = Callable[[str, HostNews], object]


class _Work(Draft):
    """Steps that are being done. Each has its number in their order; brief ones are begun several at a time."""

    sheet: Path
    todo: Sequence[Step]
    on_done: Callable[[Step], object]
    places: Places
    run: Run | None = None
    on_news: OnNews = lambda *_: None
    news: dict[str, HostNews] = field(default_factory=dict)
    came: queue.SimpleQueue[tuple[tuple[int, ...], Outcome]] = field(default_factory=queue.SimpleQueue)
    ready: dict[str, dict[str, list[int]]] = field(default_factory=lambda: defaultdict(dict))
    under_way: dict[str, int] = field(default_factory=lambda: defaultdict(int))
    writing: dict[tuple[str, str], int] = field(default_factory=lambda: defaultdict(int))
    failed: dict[int, Exception] = field(default_factory=dict)
    left: set[int] = field(default_factory=set)
    asking: set[int] = field(default_factory=set)
    answered: dict[int, Step] = field(default_factory=dict)
    nearly: dict[int, Outcome] = field(default_factory=dict)
    waits: list[int] = field(default_factory=list)
    waited_by: list[list[int]] = field(default_factory=list)
    finished: int = 0

    def go(self) -> None:
        """Do them all."""
        self.waits, self.waited_by = order(self.todo)
        get_ready(self.todo)
        if len(self.todo) >= _WORTH_PROCESSES:
            for host, total in Counter(self.places.host(step) for step in self.todo).items():
                self.news[host] = HostNews(total)
        for number, count in enumerate(self.waits):
            if not count:
                self._add(number)
        for host in list(self.ready):
            self._start(host)
        while self.finished < len(self.todo):
            numbers, outcome = self.came.get()
            if len(numbers) > 1:
                self._take(numbers, _each(outcome, len(numbers)))
            elif numbers[0] in self.asking and outcome.error is None:
                self._go_on(numbers[0], outcome.value)
            elif numbers[0] in self.answered and outcome.error is None:
                self._end(numbers[0], outcome)
            else:
                self._take(numbers, [self.nearly.get(numbers[0], outcome) if outcome.error is None else outcome])
        self._tell()

    def _where(self, number: int) -> tuple[str, str]:
        step = self.todo[number]
        return self.places.host(step), self.places.store(step)

    def _add(self, number: int) -> None:
        """Note that a step waits for nothing any more."""
        host, store = self._where(number)
        heappush(self.ready[host].setdefault(store, []), number)

    def _start(self, host: str) -> None:
        """Start what is ready on a host and may be under way at once, in order."""
        while numbers := self._next(host):
            self.writing[self._where(numbers[0])] += 1
            self.under_way[host] += 1
            self._tell_of(host)
            if len(numbers) == 1:
                self._begin(numbers[0], _engine_for(self.todo[numbers[0]], host), host)
            else:
                self._begin_several(numbers, host)

    def _next(self, host: str) -> tuple[int, ...]:
        """Take the first step that may be started on a host now, with others that are as brief; return them."""
        width = engine().width(host)
        if self.under_way[host] >= width:
            return ()
        bounds = self.places.writers
        ready = (
            waiting[0]
            for store, waiting in self.ready[host].items()
            if waiting and (store not in bounds or self.writing[host, store] < bounds[store])
        )
        first = min(ready, default=None)
        if first is None:
            return ()
        if offers(self.todo[first], Asks) and self.under_way[host] >= max(width - 1, 1):
            return ()  # what it asks for is not to wait until a process is free
        waiting = self.ready[host][self.places.store(self.todo[first])]
        most = min(_TOGETHER, len(waiting) // (2 * width)) if width > 1 and self._is_brief(first, host) else 1
        numbers = [heappop(waiting)]
        while len(numbers) < most and self._is_brief(waiting[0], host):
            numbers.append(heappop(waiting))
        return tuple(numbers)

    def _is_brief(self, number: int, host: str) -> bool:
        step = self.todo[number]
        return offers(step, Brief) and step.is_brief and not _needs_keys(step) and _engine_for(step, host) is engine()

    def _begin(self, number: int, own: Engine, host: str) -> None:
        step = self._announced(number, host)
        asked = step.question if offers(step, Asks) else None
        if asked is None:
            own.submit(host, done, (step, self.run), self._then(number))
            return
        self.asking.add(number)
        engine().submit(asked.host, asked.call, (*asked.args, self.run), self._then(number))

    def _begin_several(self, numbers: tuple[int, ...], host: str) -> None:
        steps = tuple(self._announced(number, host) for number in numbers)
        engine().submit(host, done_in_turn, (steps, self.run), self._then(*numbers))

    def _announced(self, number: int, host: str) -> Step:
        """Return a step that begins, once that is noted."""
        step = self.todo[number]
        _LOG.info("step %d of %d begins: %s: %s", number + 1, len(self.todo), step.touches, step.summary)
        if offers(step, Announced) and step.intent:
            record(ledger_path(self.sheet), step.touches, _on(host, step.intent))
        return step

    def _then(self, *numbers: int) -> Then:
        """Return what takes an outcome of these steps, from whatever thread."""
        return lambda outcome: self.came.put((numbers, outcome))

    def _go_on(self, number: int, answer: Any) -> None:
        """Do a step whose question was answered."""
        step, host = self.todo[number], self.places.host(self.todo[number])
        self.asking.discard(number)
        if offers(step, Asks):
            step = step.answered(answer)
            self.answered[number] = step
        _engine_for(step, host).submit(host, done, (step, self.run), self._then(number))

    def _end(self, number: int, outcome: Outcome) -> None:
        """Do what a step that is done on its own host ends with on another one, if there is anything."""
        step = self.answered.pop(number)
        ending = step.ending if offers(step, Ends) else None
        if ending is None:
            self._take((number,), [outcome])
            return
        self.nearly[number] = outcome
        engine().submit(ending.host, ending.call, (*ending.args, self.run), self._then(number))

    def _take(self, numbers: tuple[int, ...], outcomes: Sequence[Outcome]) -> None:
        """Take note of steps that are done, or failed, and start what waited for them."""
        where = self._where(numbers[0])
        self.writing[where] -= 1
        self.under_way[where[0]] -= 1
        free = {where[0]}
        for number, outcome in zip(numbers, outcomes, strict=True):
            free |= self._note(number, outcome)
        for one in free:
            self._start(one)

    def _note(self, number: int, outcome: Outcome) -> set[str]:
        """Take note of a step that is done, or failed; return the hosts of those that waited for it, and can begin."""
        step, (host, _) = self.todo[number], self._where(number)
        if outcome.error is None and not isinstance(outcome.value, dict):
            outcome = _NO_ANSWER
        self.asking.discard(number)
        self._undo(self.answered.pop(number, None))
        self._tell_of(host, **{"done" if outcome.error is None else "failed": 1})
        self.finished += 1
        free = set[str]()
        if outcome.error is None:
            record(ledger_path(self.sheet), step.touches, _on(host, outcome.value))
            _LOG.info("step %d of %d is done", number + 1, len(self.todo))
            self.on_done(step)
            for other in self.waited_by[number]:
                self.waits[other] -= 1
                if not self.waits[other] and other not in self.left:
                    self._add(other)
                    free.add(self.places.host(self.todo[other]))
        else:
            _LOG.error("step %d of %d failed: %s", number + 1, len(self.todo), outcome.error)
            self.failed[number] = outcome.error
            self._leave(number)
        return free

    def _undo(self, step: Step | None) -> None:
        """Have what another host did for a step undone; nothing waits for that, and it may fail."""
        undoing = step.undoing if step is not None and offers(step, Asks) else None
        if undoing is not None:
            engine().submit(undoing.host, undoing.call, (*undoing.args, self.run), lambda _: None)

    def _tell_of(self, host: str, *, done: int = 0, failed: int = 0, left: int = 0) -> None:
        """Tell how far a host is."""
        was = self.news.get(host)
        if was is None:
            return
        now = HostNews(was.total, was.done + done, was.failed + failed, was.left + left, self.under_way[host])
        self.news[host] = now
        self.on_news(host, now)

    def _leave(self, number: int) -> None:
        """Leave what waits for a step that failed."""
        waiting = [number]
        while waiting:
            for other in self.waited_by[waiting.pop()]:
                if other not in self.left:
                    self.left.add(other)
                    self._tell_of(self.places.host(self.todo[other]), left=1)
                    self.finished += 1
                    waiting.append(other)

    def _tell(self) -> None:
        """Raise what is to be told of steps that failed."""
        if not self.failed:
            return
        first = next(iter(self.failed.values()))
        if len(self.failed) == 1:
            raise first
        total, count = len(self.todo), len(self.failed)
        done_ = total - count - len(self.left)
        alike: dict[str, list[int]] = defaultdict(list)
        for number, error in self.failed.items():
            alike[flat(str(error)).splitlines()[0]].append(number)
        lines = []
        for reason, numbers in list(alike.items())[:_MOST_TOLD]:
            touched = self.todo[numbers[0]].touches
            where = touched if len(numbers) == 1 else f"{counted(len(numbers), 'step')}, the first on {touched}"
            lines.append(f"{where}: {reason}")
        if len(alike) > _MOST_TOLD:
            lines.append(f"and {counted(len(alike) - _MOST_TOLD, 'reason')} more")
        waited = f", and {counted(len(self.left), 'step')} that waited for them" if self.left else ""
        lines.append(
            f"Of {counted(total, 'step')} {done_} are done; {count} failed{waited}. Write again to do just those."
        )
        raise UnfinishedError("\n".join(lines)) from first


_NO_ANSWER = Outcome(error=RefusedError("what came back is no answer; see what runs there"))


def _each(outcome: Outcome, count: int) -> Sequence[Outcome]:
    """Return what each of several steps came to that were done in turn; another host's word for it is not believed."""
    told = outcome.value
    if outcome.error is not None:
        return [outcome] * count
    if isinstance(told, tuple) and len(told) == count and all(isinstance(one, Outcome) for one in told):
        return told
    return [_NO_ANSWER] * count


def _engine_for(step: Step, host: str) -> Engine:
    """Return what does a step: what lies with the sheet is done in this process, what is sealed where it is opened."""
    if step.lies_in is Lies.SHEET:
        return HERE
    if not _needs_keys(step) or engine().opens(host):
        return engine()
    return _REFUSES_KEYS if engine().is_far(host) else HERE


def _needs_keys(step: Step) -> bool:
    return offers(step, NeedsKeys) and step.needs_keys


class _RefusesKeys(Here):
    """Does no calls: no passphrase goes to another host, so that has to have it."""

    def submit(self, host: str, call: Callable[..., Any], args: Sequence[Any], then: Then) -> None:
        """Refuse a call."""
        del call
        told = f"{args[0].touches}: it is sealed, and host {host} has no passphrase; start that with --passphrase-file"
        then(Outcome(error=RefusedError(f"{told} and --recovery, and write again")))


_REFUSES_KEYS = _RefusesKeys()


def _on(host: str, what: Mapping[str, object]) -> dict[str, object]:
    """Return what the ledger keeps, with the host that it was done on."""
    return {**what, "host": host} if host else dict(what)
