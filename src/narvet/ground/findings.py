"""What a review or survey has to say. A finding follows a rule, has a place, and carries a way out.

A rule is declared once, as a function from typed values to a message and a remedy, with what it means:

    @rule(meaning="The slot is already taken in the guest.", way_out="Leave `slot` out: …")
    def slot_taken(slot: str, guest: str, holder: str) -> Wording:
        return f"{slot} of guest {guest} is taken by {holder}", "leave slot out, and the next free one is used"

and called with a place: `slot_taken.error(disk_place("trials").key("slot"), slot, guest, holder)`. The rules are in
`narvet.ground.rules`.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterable
from typing import Generic, Literal, ParamSpec

from narvet.ground.values import Frozen

Level = Literal["error", "warning", "note"]
LEVELS: tuple[Level, ...] = ("error", "warning", "note")
Wording = tuple[str, str]
"""A message that holds the numbers, and what to do about it, empty only for a note that asks for nothing."""

P = ParamSpec("P")
Q = ParamSpec("Q")


class Place(Frozen):
    """What a finding is about: a disk, pool, store or guest of a sheet by its name, or an image by its path.

    A volume of a pool has both their names: `cold.readings`.

    `partition` counts from 1, None for the whole of it. `key_name` is a key of the sheet, `detail` what else is meant.
    """

    kind: Literal["disk", "pool", "store", "guest", "image"]
    name: str
    partition: int | None = None
    key_name: str = ""
    detail: str = ""

    @property
    def pool(self) -> str:
        """The pool that it is about, or that a volume is in; empty for anything else."""
        return self.name.partition(".")[0] if self.kind == "pool" else ""

    @property
    def volume(self) -> str:
        """The volume of a pool that it is about; empty for the pool itself and anything else."""
        return self.name.partition(".")[2] if self.kind == "pool" else ""

    def part(self, number: int) -> Place:
        """Return the place of a partition by its number, from 1."""
        return Place(self.kind, self.name, number, self.key_name, self.detail)

    def key(self, name: str) -> Place:
        """Return the place of a key of the sheet."""
        return Place(self.kind, self.name, self.partition, name, self.detail)

    def inside(self, detail: str) -> Place:
        """Return the place of something that no key stands for."""
        return Place(self.kind, self.name, self.partition, self.key_name, detail)

    def __str__(self) -> str:
        text = self.name if self.kind == "image" else f"{self.kind}.{self.name}"
        if self.partition is not None and self.kind != "pool":
            text += f"{' ' if self.kind == 'image' else '.'}partition {self.partition}"
        if self.key_name:
            text += f".{self.key_name}"
        return f"{text} {self.detail}" if self.detail else text


def disk_place(name: str) -> Place:
    """Return the place of a disk of the sheet."""
    return Place("disk", name)


def pool_place(name: str, volume: str = "") -> Place:
    """Return the place of a pool of the sheet, or of one of its volumes."""
    return Place("pool", f"{name}.{volume}" if volume else name)


def store_place(name: str) -> Place:
    """Return the place of a store of the sheet."""
    return Place("store", name)


def guest_place(name: str) -> Place:
    """Return the place of a guest of the sheet."""
    return Place("guest", name)


def image_place(path: str) -> Place:
    """Return the place of an image."""
    return Place("image", path)


class Finding(Frozen):
    """One thing to be said about a sheet or an image; `rule` is the rule's name."""

    rule: str
    level: Level
    where: Place
    message: str
    remedy: str = ""


@dataclasses.dataclass(frozen=True, slots=True)
class Rule(Generic[P]):
    """What findings by this rule mean, the way out, and how one is worded from its values.

    Text in backquotes is as in a sheet.
    """

    name: str
    meaning: str
    way_out: str
    words: Callable[P, Wording] = dataclasses.field(compare=False, repr=False)

    def error(self, where: Place, *args: P.args, **values: P.kwargs) -> Finding:
        """Return a finding that forbids going on."""
        return Finding(self.name, "error", where, *self.words(*args, **values))

    def warning(self, where: Place, *args: P.args, **values: P.kwargs) -> Finding:
        """Return a finding that people should look at."""
        return Finding(self.name, "warning", where, *self.words(*args, **values))

    def note(self, where: Place, *args: P.args, **values: P.kwargs) -> Finding:
        """Return a finding that people should know of."""
        return Finding(self.name, "note", where, *self.words(*args, **values))

    def made(self, finding: Finding) -> bool:
        """Return whether a finding follows this rule."""
        return finding.rule == self.name

    def worded(self, words: Callable[Q, Wording]) -> Rule[Q]:
        """Return the same rule with other words, for another case of it; made for use as a decorator."""
        return Rule(self.name, self.meaning, self.way_out, words)


_DECLARED: dict[str, Rule[...]] = {}


def rule(*, meaning: str, way_out: str) -> Callable[[Callable[P, Wording]], Rule[P]]:
    """Declare a rule, named after the function that words it, with hyphens."""

    def declare(words: Callable[P, Wording]) -> Rule[P]:
        made = Rule(words.__name__.replace("_", "-"), meaning, way_out, words)
        _DECLARED[made.name] = made
        return made

    return declare


def declared() -> dict[str, Rule[...]]:
    """Return every rule that was declared so far, by its name, in the order of the names."""
    return dict(sorted(_DECLARED.items()))


def has_errors(findings: Iterable[Finding]) -> bool:
    """Return whether any finding forbids going on."""
    return any(finding.level == "error" for finding in findings)
