"""Carrying steps out: in their order, several at once where they have nothing to do with one another, each recorded.

A step waits for those before it that are about the same thing: the same disk, image or root, and for a guest's entries
all that they mount. So images come first and entries last, on every host. What fails is told at the end, with what
waited for it; the rest goes on.
"""

from __future__ import annotations

import logging
import os
import queue
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from heapq import heappop, heappush
from pathlib import Path
from typing import Any

from narvet.block.locks import exclusive_lock
from narvet.block.publish import clear_folders, recover_all
from narvet.fleet.claims import Run, claim, claimed, unclaim
from narvet.fleet.engine import HERE, Engine, Here, Outcome, Then, all_of, engine
from narvet.fleet.standing import stay_inside
from narvet.fleet.wire import runs_elsewhere
from narvet.ground.errors import NarvetError, RefusedError, UnfinishedError, flat
from narvet.ground.offers import offers
from narvet.ground.units import counted
from narvet.ground.values import Draft, Frozen, field, replace
from narvet.model.layout import Layout
from narvet.model.moves import Announced, Asks, Ends, IsElsewhere, Lies, NeedsKeys, Step
from narvet.observe.ledger import ledger_path, record
from narvet.sheet.form import Sheet
from narvet.sheet.hosts import THIS_MACHINE
from narvet.sheet.resolved import ResolvedSheet

_LOG = logging.getLogger("narvet.steps")
_WORTH_PROCESSES = 24  # steps
_WRITERS, _WRITERS_FLASH = 2, 8
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


class Places(Frozen):
    """Where steps are done: the hosts of disks and guests by name, and how many write to a store at once, by disk."""

    disks: Mapping[str, str] = field(default_factory=dict)
    guests: Mapping[str, str] = field(default_factory=dict)
    stores: Mapping[str, str] = field(default_factory=dict)
    writers: Mapping[str, int] = field(default_factory=dict)

    def host(self, step: Step) -> str:
        """Return the host that a step is done on, empty for this machine."""
        if step.lies_in is Lies.ROOT:
            return self.guests.get(step.guest, THIS_MACHINE)
        if offers(step, IsElsewhere):
            return step.host
        name = str(getattr(step, "disk", ""))
        return self.disks.get(name, THIS_MACHINE) if step.lies_in is Lies.STORE else THIS_MACHINE

    def store(self, step: Step) -> str:
        """Return the store that a step writes to, where there is one."""
        return self.stores.get(str(getattr(step, "disk", "")), "") if step.lies_in is Lies.STORE else ""


EVERYTHING_HERE = Places()


def places_of(sheet: ResolvedSheet, left_over: Mapping[str, str] | None = None) -> Places:
    """Return where the steps of a sheet are done; `left_over` are hosts of images whose disks it no longer has."""
    hosts = {name: sheet.stores[disk.store].host or THIS_MACHINE for name, disk in sheet.disks.items()}
    hosts |= left_over or {}
    for name, disk in sheet.disks.items():
        for part in disk.partitions:
            if part.pool is not None:
                hosts.setdefault(part.pool, hosts[name])
    writers = {
        name: form.writers or (_WRITERS_FLASH if form.flash else _WRITERS)
        for name, form in sheet.stores.items()
        if form.host or form.writers
    }
    return Places(
        hosts,
        {name: form.host or THIS_MACHINE for name, form in sheet.guests.items()},
        {name: disk.store for name, disk in sheet.disks.items()},
        writers,
    )


@runs_elsewhere
def done(step: Step, run: Run | None = None) -> dict[str, object]:
    """Do a step, and return what the ledger keeps of it; what is trusted of images is looked up where it is done.

    A host does it for a run whose claim it holds, in its own folder.

    Raises:
        RefusedError: another run has begun since, or the step is about something elsewhere.
    """
    stay_inside(*(path for kind, path in _about(step) if kind == "path"))
    if not (offers(step, Asks) and step.question):  # what it reads is lent by another host then
        stay_inside(*_reads(step))
    trust = getattr(step, "trust", None)
    if trust is not None:
        settled: Any = step
        step = replace(settled, trust=trust.settled())
    with claimed(run):
        return step.apply()


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
    """Steps that are being done. Each has its number in their order."""

    sheet: Path
    todo: Sequence[Step]
    on_done: Callable[[Step], object]
    places: Places
    run: Run | None = None
    on_news: OnNews = lambda *_: None
    news: dict[str, HostNews] = field(default_factory=dict)
    came: queue.SimpleQueue[tuple[int, Outcome]] = field(default_factory=queue.SimpleQueue)
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
        self.waits, self.waited_by = _order(self.todo)
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
            number, outcome = self.came.get()
            if number in self.asking and outcome.error is None:
                self._go_on(number, outcome.value)
            elif number in self.answered and outcome.error is None:
                self._end(number, outcome)
            else:
                self._take(number, self.nearly.get(number, outcome) if outcome.error is None else outcome)
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
        while (number := self._next(host)) is not None:
            store = self.places.store(self.todo[number])
            heappop(self.ready[host][store])
            self.writing[host, store] += 1
            self.under_way[host] += 1
            self._tell_of(host)
            self._begin(number, _engine_for(self.todo[number], host), host)

    def _next(self, host: str) -> int | None:
        """Return the first step that may be started on a host now."""
        width = engine().width(host)
        if self.under_way[host] >= width:
            return None
        most = self.places.writers
        ready = (
            waiting[0]
            for store, waiting in self.ready[host].items()
            if waiting and (store not in most or self.writing[host, store] < most[store])
        )
        first = min(ready, default=None)
        if first is not None and offers(self.todo[first], Asks) and self.under_way[host] >= max(width - 1, 1):
            return None  # what it asks for is not to wait until a process is free
        return first

    def _begin(self, number: int, own: Engine, host: str) -> None:
        step = self.todo[number]
        _LOG.info("step %d of %d begins: %s: %s", number + 1, len(self.todo), step.touches, step.summary)
        if offers(step, Announced) and step.intent:
            record(ledger_path(self.sheet), step.touches, _on(host, step.intent))
        asked = step.question if offers(step, Asks) else None
        if asked is None:
            own.submit(host, done, (step, self.run), lambda outcome: self.came.put((number, outcome)))
            return
        self.asking.add(number)
        args = (*asked.args, self.run)
        engine().submit(asked.host, asked.call, args, lambda outcome: self.came.put((number, outcome)))

    def _go_on(self, number: int, answer: Any) -> None:
        """Do a step whose question was answered."""
        step, host = self.todo[number], self.places.host(self.todo[number])
        self.asking.discard(number)
        if offers(step, Asks):
            step = step.answered(answer)
            self.answered[number] = step
        own = _engine_for(step, host)
        own.submit(host, done, (step, self.run), lambda outcome: self.came.put((number, outcome)))

    def _end(self, number: int, outcome: Outcome) -> None:
        """Do what a step that is done on its own host ends with on another one, if there is anything."""
        step = self.answered.pop(number)
        ending = step.ending if offers(step, Ends) else None
        if ending is None:
            self._take(number, outcome)
            return
        self.nearly[number] = outcome
        args = (*ending.args, self.run)
        engine().submit(ending.host, ending.call, args, lambda outcome: self.came.put((number, outcome)))

    def _take(self, number: int, outcome: Outcome) -> None:
        """Take note of a step that is done, or failed, and start what waited for it."""
        step, (host, store) = self.todo[number], self._where(number)
        self.asking.discard(number)
        self._undo(self.answered.pop(number, None))
        self.writing[host, store] -= 1
        self.under_way[host] -= 1
        self._tell_of(host, **{"done" if outcome.error is None else "failed": 1})
        self.finished += 1
        free = {host}
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
        for one in free:
            self._start(one)

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


def _engine_for(step: Step, host: str) -> Engine:
    """Return what does a step: what needs passphrases, or lies with the sheet, is done in this process."""
    if step.lies_in is Lies.SHEET:
        return HERE
    if offers(step, NeedsKeys) and step.needs_keys:
        if engine().is_far(host):
            return _REFUSES_KEYS
        return HERE
    return engine()


class _RefusesKeys(Here):
    """Does no calls: passphrases do not go to other hosts."""

    def submit(self, host: str, call: Callable[..., Any], args: Sequence[Any], then: Then) -> None:
        """Refuse a call."""
        del call, args
        then(Outcome(error=RefusedError(f"it is sealed, and no passphrase goes to host {host}; write the sheet there")))


_REFUSES_KEYS = _RefusesKeys()


def _on(host: str, what: Mapping[str, object]) -> dict[str, object]:
    """Return what the ledger keeps, with the host that it was done on."""
    return {**what, "host": host} if host else dict(what)


def _order(todo: Sequence[Step]) -> tuple[list[int], list[list[int]]]:
    """Return of each step how many it waits for, and which wait for it."""
    waits, waited_by = [0] * len(todo), [list[int]() for _ in todo]
    last: dict[tuple[str, str], int] = {}
    readers: dict[tuple[str, str], list[int]] = defaultdict(list)
    of_guest: dict[str, list[int]] = defaultdict(list)
    barrier = -1
    for number, step in enumerate(todo):
        about, reads = list(_about(step)), [("path", os.path.normpath(path)) for path in _reads(step)]
        before = {last[one] for one in (*about, *reads) if one in last}
        for one in about:
            before |= set(readers.pop(one, ()))
        if step.comes_last or step.lies_in is Lies.ROOT:
            before |= set(of_guest[step.guest])
        if _waits_for_all(step):
            before |= set(range(number))
            barrier = number
        elif barrier >= 0:
            before.add(barrier)
        for other in before:
            waited_by[other].append(number)
        waits[number] = len(before)
        of_guest[step.guest].append(number)
        for one in reads:
            readers[one].append(number)
        for one in about:
            last[one] = number
    return waits, waited_by


def _waits_for_all(step: Step) -> bool:
    """Return whether a step takes something out of the sheet, which all others come before."""
    return step.lies_in is Lies.SHEET and step.comes_last and step.touches.endswith(".toml")


def _reads(step: Step) -> Iterable[str]:
    """Return the paths of images that a step only reads: several may do so at once."""
    origin = getattr(step, "origin", None)
    if origin is not None:
        yield origin.path


def _about(step: Step) -> Iterable[tuple[str, str]]:
    """Return what a step is about: two that share any of it are done one after the other."""
    yield "path", os.path.normpath(step.touches)
    for key in ("disk", "path"):
        if hasattr(step, key):
            yield key, str(getattr(step, key))
    root = getattr(step, "root", None)
    if root is not None:
        yield "path", os.path.normpath(root.path)
    for key in ("found", "old"):
        other = getattr(step, key, None)
        if other is not None and getattr(other, "path", None):
            yield "path", os.path.normpath(other.path)
    pool = getattr(step, "pool", None)
    for member in (*getattr(pool, "members", {}).values(), *getattr(pool, "leaving", {}).values()):
        yield "path", os.path.normpath(member.path)
        yield "disk", member.disk
