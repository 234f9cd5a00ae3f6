"""Kills and refused calls, at every call that a command makes: nothing is lost, nothing is left, what is told is true."""

from __future__ import annotations

import errno
import random
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from tests.prove.scenarios import SCENARIOS, Scenario, contents, copied, tree
from tests.prove.shim import CHANGES, OTHERS, Ended, call

ERRORS = (errno.EIO, errno.ENOSPC, errno.EACCES, errno.EINTR, errno.EMFILE)
_DONE_BEFORE = ("is there already", "there is no disk", "no such file", "is in the sheet already")
"""What the second call may say where the first one had finished all but its last words."""

_HIDDEN = (".narvet-partial", ".narvet-lock", ".narvet-fold", ".narvet-changes")


@dataclass(frozen=True)
class Tried:
    """A template of a scenario, its calls counted, and what is true of it before and after."""

    scenario: Scenario
    template: Path
    before: dict[str, str]
    after: dict[str, str]
    disks_before: tuple[str | None, ...]
    disks_after: tuple[str | None, ...]
    changes: int
    calls: int

    @classmethod
    def of(cls, scenario: Scenario, folder: Path) -> Tried:
        """Prepare a scenario and run it undisturbed, twice, to warm up and to count."""
        template, place = folder / "template", folder / "place"
        template.mkdir()
        scenario.prepare(template)
        before, disks_before = tree(template, scenario), contents(template, scenario)
        counts = []
        for kinds in (CHANGES | OTHERS, CHANGES | OTHERS, CHANGES):
            copied(template, place)
            done = call(scenario.call(place), kinds=kinds)
            assert done.status == 0, (scenario.name, done)
            counts.append(done.counted)
        return cls(
            scenario, template, before, tree(place, scenario), disks_before, contents(place, scenario), counts[2], counts[1]
        )  # fmt: skip


def faults_of_stop(tried: Tried, place: Path, at: int, error: int) -> Iterator[str]:
    """Yield what goes wrong when the command is stopped at a call, and begun again.

    Without an error it is killed at its `at`-th change; with one, its `at`-th call of any kind is refused.
    """
    copied(tried.template, place)
    kinds = CHANGES | OTHERS if error else CHANGES
    done = call(tried.scenario.call(place), at=at, error=error, kinds=kinds)
    yield from _in_between(tried, place)
    if done.status is not None:
        yield from _told(done)
    if done.status == 0:
        yield from _finished(tried, place, "exit 0, but")
        return
    yield from second_call(tried, place)


def second_call(tried: Tried, place: Path) -> Iterator[str]:
    """Yield what is wrong once the command is called again, after it was stopped."""
    again = call(tried.scenario.call(place))
    yield from _told(again)
    if again.status and not (again.status == 2 and any(words in again.printed for words in _DONE_BEFORE)):
        yield f"the second call ends with {again.status}: {again.printed[-300:]}"
        return
    yield from _finished(tried, place, "after the second call")


def _told(done: Ended) -> Iterator[str]:
    if "Traceback" in done.printed or "fault of its own" in done.printed:
        yield f"a traceback or a fault of its own: {done.printed[-600:]}"
    if done.status and not done.printed.strip():
        yield f"status {done.status} without a word"


def _in_between(tried: Tried, place: Path) -> Iterator[str]:
    """Every file under a real name is the old or the new one, and every disk reads as before or after."""
    for name, state in tree(place, tried.scenario).items():
        hidden = any(mark in name for mark in _HIDDEN)
        known = (tried.before.get(name), tried.after.get(name))
        if not hidden and state.split()[1] not in {one.split()[1] for one in known if one}:
            yield f"{name} is neither old nor new"
    if tried.scenario.in_steps:
        contents(place, tried.scenario)  # it can be read, whatever it is
        return
    for files, now, before, after in zip(
        tried.scenario.disks, contents(place, tried.scenario), tried.disks_before, tried.disks_after, strict=True
    ):
        if now not in (before, after):
            yield f"{files} reads neither as before nor as after"


def _finished(tried: Tried, place: Path, when: str) -> Iterator[str]:
    found = tree(place, tried.scenario)
    for name in sorted(found.keys() | tried.after.keys()):
        if found.get(name) != tried.after.get(name):
            yield f"{when} {name} is {found.get(name)}, not {tried.after.get(name)}"
    if contents(place, tried.scenario) != tried.disks_after:
        yield f"{when} a disk does not read as it should"


def campaign(seed: int, count: int, *, kills: bool) -> Iterator[tuple[str, list[str]]]:
    """Yield name and faults of so many stops, spread over all scenarios, each at a call chosen by the dice."""
    dice = random.Random(seed)
    share = max(count // len(SCENARIOS), 1)
    for scenario in SCENARIOS:
        with tempfile.TemporaryDirectory(dir="/dev/shm") as folder:
            tried = Tried.of(scenario, Path(folder))
            points = tried.changes if kills else tried.calls
            chosen = range(points) if points <= share and kills else [dice.randrange(points) for _ in range(share)]
            for at in chosen:
                error = 0 if kills else dice.choice(ERRORS)
                what = f"{scenario.name}, call {at}, {errno.errorcode[error] if error else 'killed'}"
                yield what, list(faults_of_stop(tried, Path(folder, "place"), at, error))
