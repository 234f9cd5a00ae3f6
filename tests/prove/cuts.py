"""Power cuts: what a command changed is lost again, any write and any name that it had not made durable.

The shim notes every change of a file and of a folder, and every sync. A state after a cut keeps, of each file, what was
written before its last sync and any of the later writes; and of each folder, the names as of its last sync and any of
the later changes. Then the command is called again.
"""

from __future__ import annotations

import json
import os
import random
import shutil
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO

from narvet.formats.images.fold_mark import state_of
from tests.prove.scenarios import SCENARIOS, contents, copied
from tests.prove.shim import call
from tests.prove.stops import Tried, second_call

_KEPT = 0.5  # of what was not synced


@dataclass(frozen=True)
class Change:
    """One noted change: c make a file, t empty it, w write, z resize, s sync; h another name, r rename, u remove; m make a
    folder.
    """

    what: str
    first: str
    second: str
    number: int
    data: bytes


@dataclass
class File:
    """A file as it is on the disk, and what was done to it since its last sync."""

    safe: bytearray
    later: list[Change] = field(default_factory=list)
    times: tuple[int, int] | None = None
    inode: int = 0

    def after_cut(self, dice: random.Random) -> bytes:
        """Return what a cut leaves: each later write is kept or lost."""
        content = bytearray(self.safe)
        for change in self.later:
            if change.what == "z" or dice.random() < _KEPT:
                _apply(content, change)
        return bytes(content)

    def sync(self) -> None:
        """Make durable what was done."""
        for change in self.later:
            _apply(self.safe, change)
        self.later.clear()


def _apply(content: bytearray, change: Change) -> None:
    if change.what == "t":
        content.clear()
    elif change.what == "z":
        del content[change.number :]
        content.extend(bytes(change.number - len(content)))
    else:
        content.extend(bytes(max(change.number - len(content), 0)))
        content[change.number : change.number + len(change.data)] = change.data


class Disk:
    """A folder's files and names: `names` as a process sees them, `durable` as they are on the disk."""

    def __init__(self, root: Path, inodes: dict[str, int]) -> None:
        self.root = root
        self.names: dict[str, File | None] = {}
        for path in root.rglob("*"):
            about = path.stat()
            times = about.st_atime_ns, about.st_mtime_ns
            self.names[str(path)] = (
                File(bytearray(path.read_bytes()), times=times, inode=inodes[str(path)]) if path.is_file() else None
            )
        self.durable = dict(self.names)
        self.pending: dict[str, list[dict[str, File | str | None]]] = {}

    def do(self, change: Change) -> None:
        """Take in one change."""
        first, second = str(Path(change.first)), str(Path(change.second))
        file = self.names.get(first)
        if change.what in "tzw" and file is not None:
            file.later.append(change)
            file.times = None
        elif change.what == "c":
            self._name({first: File(bytearray(), inode=change.number)})
        elif change.what == "m":
            self._name({first: None})
        elif change.what == "h":
            self._name({second: self.names[first]})
        elif change.what == "u" and first in self.names:
            self._name({first: "gone"})
        elif change.what == "r" and first in self.names:
            below = {name: name.replace(first, second, 1) for name in self.names if name.startswith(first + "/")}
            moved = {first: second, **below}
            self._name({**{new: self.names[old] for old, new in moved.items()}, **dict.fromkeys(moved, "gone")})
        elif change.what == "s" and file is not None:
            file.sync()
        elif change.what == "s":
            for step in self.pending.pop(first, []):
                self._settle(self.durable, step)

    def _name(self, step: dict[str, File | str | None]) -> None:
        self._settle(self.names, step)
        for folder in {str(Path(name).parent) for name in step}:
            own = {name: what for name, what in step.items() if str(Path(name).parent) == folder}
            self.pending.setdefault(folder, []).append(own)

    @staticmethod
    def _settle(names: dict[str, File | None], step: dict[str, File | str | None]) -> None:
        for name, what in step.items():
            if isinstance(what, str):
                names.pop(name, None)
            else:
                names[name] = what

    def after_cut(self, place: Path, dice: random.Random) -> None:
        """Write to `place` what a cut in this moment leaves."""
        names = dict(self.durable)
        for steps in self.pending.values():
            kept = steps[: dice.randrange(len(steps) + 1)] if dice.random() < _KEPT else [
                step for step in steps if dice.random() < _KEPT
            ]  # fmt: skip
            for step in kept:
                self._settle(names, step)
        if place.exists():
            shutil.rmtree(place)
        place.mkdir()
        inodes: dict[int, int] = {}
        written: dict[int, Path] = {}
        for name in sorted(names):
            target, what = place / Path(name).relative_to(self.root), names[name]
            if not target.parent.is_dir():
                continue  # the folder above was lost with all that is in it
            if what is None:
                target.mkdir(exist_ok=True)
            elif id(what) in written:
                os.link(written[id(what)], target)
            else:
                written[id(what)] = target
                target.write_bytes(what.after_cut(dice))
                if what.times is not None:  # by which some children know their base
                    os.utime(target, ns=what.times)
                inodes[what.inode] = target.stat().st_ino
        _renew_marks(place, inodes)


def _renew_marks(place: Path, inodes: dict[int, int]) -> None:
    """Have Narvet's marks name the files by the inodes and times they have now: a real cut leaves those as they are."""
    for mark in (*place.rglob(".published"), *place.rglob(".*.narvet-fold")):
        try:
            found = json.loads(mark.read_bytes())
        except ValueError:
            continue
        rows = found if isinstance(found, list) else found["gone"]
        for row in rows:
            row[1:] = [place.stat().st_dev, inodes.get(row[2], 0)]
        if isinstance(found, dict):
            base = place / Path(found["base"]).name
            found["until"] += 10**12
            found["finished"] = state_of(base) if found["finished"] and base.exists() else found["finished"]
        mark.write_text(json.dumps(found))


def read_log(log: BinaryIO) -> list[Change]:
    """Return the changes that the shim noted."""
    data, place, found = log.read(), 0, []

    def number() -> int:
        nonlocal place
        place += 8
        return int.from_bytes(data[place - 8 : place], "little")

    def text() -> bytes:
        nonlocal place
        size = number()
        place += size
        return data[place - size : place]

    while place < len(data):
        what = chr(data[place])
        place += 1
        first, second, value = text(), text(), number()
        found.append(Change(what, first.decode(), second.decode(), value, text()))
    return [change for change in found if change.what != "-"]


def campaign(seed: int, count: int) -> Iterator[tuple[str, list[str]]]:
    """Yield name and faults of so many cuts, spread over all scenarios."""
    dice = random.Random(seed)
    share = max(count // len(SCENARIOS), 1)
    for scenario in SCENARIOS:
        with tempfile.TemporaryDirectory(dir="/dev/shm") as folder:
            tried, place = Tried.of(scenario, Path(folder)), Path(folder, "place")
            copied(tried.template, place)
            inodes = {str(path): path.stat().st_ino for path in place.rglob("*")}
            with Path(folder, "log").open("w+b") as log:
                done = call(scenario.call(place), log=log.fileno())
                assert done.status == 0, done
                log.seek(0)
                changes = read_log(log)
            for _ in range(share):
                moment = dice.randrange(len(changes) + 1)
                copied(tried.template, place)
                disk = Disk(place, inodes)
                for change in changes[:moment]:
                    disk.do(change)
                disk.after_cut(place, dice)
                yield f"{scenario.name}, after change {moment} of {len(changes)}", _faults(tried, place)


def _faults(tried: Tried, place: Path) -> list[str]:
    scenario = tried.scenario
    faults = []
    if (
        scenario.disks
        and not scenario.in_steps
        and contents_or_none(place, tried) not in (tried.disks_before, tried.disks_after)
    ):
        faults.append("a disk reads neither as before nor as after")
    return [*faults, *second_call(tried, place)]


def contents_or_none(place: Path, tried: Tried) -> tuple[str | None, ...] | str:
    """Return the checksums of the disks, or what kept them from being read."""
    try:
        return contents(place, tried.scenario)
    except Exception as error:
        return str(error)
