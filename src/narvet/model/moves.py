"""Differences between what is wanted and what is found, as data, and what is done about each kind: one table."""

from __future__ import annotations

from collections.abc import Callable
from enum import Enum
from typing import TYPE_CHECKING, Any, Protocol, runtime_checkable

from narvet.ground.units import show_bytes
from narvet.ground.values import Frozen

if TYPE_CHECKING:
    from narvet.ground.findings import Place


class Answer(Enum):
    """What is done about a difference."""

    MAKE = "make"
    ADD = "add"
    MOVE = "move"
    ENLARGE = "enlarge"
    SHRINK = "shrink"
    CORRECT = "correct"
    REMOVE = "remove"
    REFUSE = "refuse"
    LEAVE = "leave"

    @property
    def is_move(self) -> bool:
        """Whether `write` takes what is there to what is wanted."""
        return self not in (Answer.REFUSE, Answer.LEAVE)


class Aspect(Enum):
    """What differs: a name for people, and what is done about it."""

    IMAGE = ("", Answer.MAKE)
    ATTACHED = ("guest that it is attached to", Answer.ADD)
    ORDERED = ("service", Answer.REFUSE)
    FORMAT = ("format", Answer.REFUSE)
    LARGER = ("size", Answer.ENLARGE)
    SMALLER = ("size", Answer.SHRINK)
    COPY_SMALLER = ("size", Answer.REFUSE)
    SECTOR = ("sector", Answer.REFUSE)
    TABLE = ("table", Answer.REFUSE)
    TABLE_ID = ("table id", Answer.REFUSE)
    SPACE = ("space", Answer.LEAVE)
    SOUNDNESS = ("soundness", Answer.REFUSE)
    STUCK = ("can become it", Answer.REFUSE)
    ORIGIN = ("place", Answer.REFUSE)
    PLACE = ("place", Answer.MOVE)
    FORM = ("format", Answer.MOVE)
    FULL = ("space", Answer.MOVE)
    BLOCK = ("block", Answer.MOVE)
    LEFT_BEHIND = ("old image", Answer.REMOVE)
    PARTITION = ("partition", Answer.ADD)
    PARTITION_TOO_MANY = ("partition", Answer.REFUSE)
    START = ("start", Answer.REFUSE)
    TYPE = ("type", Answer.REFUSE)
    ID = ("id", Answer.REFUSE)
    LABEL = ("label", Answer.CORRECT)
    ATTRIBUTES = ("attributes", Answer.CORRECT)
    FILESYSTEM = ("filesystem", Answer.REFUSE)
    UUID = ("uuid", Answer.REFUSE)
    VOLUME_LABEL = ("filesystem's label", Answer.CORRECT)
    MORE_SHOWN = ("total shown", Answer.ENLARGE)
    LESS_SHOWN = ("total shown", Answer.SHRINK)
    FOLDER = ("leads to", Answer.CORRECT)
    RIGHTS = ("rights", Answer.LEAVE)
    OWNER = ("owner", Answer.CORRECT)
    MODE = ("mode", Answer.CORRECT)
    MOUNT_POINT = ("mount point", Answer.MAKE)
    MOUNT_POINT_OWNER = ("mount point's owner", Answer.CORRECT)
    ENTRY = ("entry", Answer.ADD)
    ENTRY_CHANGED = ("entry's words", Answer.CORRECT)
    ENTRY_WORDS = ("entry's words", Answer.LEAVE)
    ENTRY_SURPLUS = ("entry", Answer.REMOVE)
    MOUNTED = ("mounted", Answer.LEAVE)
    POOL = ("pool", Answer.MAKE)
    MEMBER = ("member", Answer.ADD)
    MEMBER_LARGER = ("member's size", Answer.ENLARGE)
    MEMBER_LEAVES = ("member", Answer.REMOVE)
    VOLUME = ("volume", Answer.ADD)
    VOLUME_NAME = ("name", Answer.CORRECT)
    SEALED = ("sealing", Answer.REFUSE)
    OPENED = ("opened", Answer.CORRECT)
    KEY_FILE = ("key file", Answer.MAKE)
    KEY_FILE_LEFT = ("key file", Answer.REMOVE)
    TEXTS = ("copies of its text", Answer.CORRECT)
    REGISTRY = ("registry text", Answer.CORRECT)

    def __init__(self, title: str, answer: Answer) -> None:
        self.title = title
        self.answer = answer

    @property
    def says_more(self) -> bool:
        """Whether its title says something that the place does not say already."""
        return self not in _SAID_BY_PLACE

    @property
    def in_bytes(self) -> bool:
        """Whether its values are numbers of bytes."""
        return self in _IN_BYTES


_IN_BYTES = (
    Aspect.BLOCK,
    Aspect.SECTOR,
    Aspect.LARGER,
    Aspect.SMALLER,
    Aspect.COPY_SMALLER,
    Aspect.START,
    Aspect.MORE_SHOWN,
    Aspect.LESS_SHOWN,
    Aspect.MEMBER_LARGER,
)
_SAID_BY_PLACE = (
    Aspect.IMAGE, Aspect.SOUNDNESS, Aspect.STUCK, Aspect.ORIGIN, Aspect.PARTITION, Aspect.PARTITION_TOO_MANY,
    Aspect.MOUNT_POINT, Aspect.MOUNT_POINT_OWNER, Aspect.ENTRY, Aspect.ENTRY_CHANGED, Aspect.ENTRY_WORDS,
    Aspect.ENTRY_SURPLUS, Aspect.POOL, Aspect.VOLUME,
)  # fmt: skip

Value = int | str | None
"""One side of a difference; None where there is nothing."""


class Difference(Frozen):
    """One thing that is not as asked: where, what about it, what is asked and what is found.

    `by_guest` is whether it was as asked once, so that a guest has changed it since: that is left to people.
    """

    where: Place
    aspect: Aspect
    asked: Value
    found: Value
    by_guest: bool = False

    @property
    def answer(self) -> Answer:
        """What is done about it."""
        return Answer.LEAVE if self.by_guest else self.aspect.answer

    @property
    def shown(self) -> tuple[str, str]:
        """What was asked and what was found, for people."""
        if self.aspect.in_bytes:
            return _shown_bytes(self.asked), _shown_bytes(self.found)
        return self.texts

    @property
    def texts(self) -> tuple[str, str]:
        """The same for programs."""
        return _text(self.asked), _text(self.found)


def _text(value: Value) -> str:
    return "nothing" if value is None else str(value)


def _shown_bytes(value: Value) -> str:
    return show_bytes(value) if isinstance(value, int) else _text(value)


class Lies(Enum):
    """Where what a step changes lies: in a store, in a guest's root, or with the sheet."""

    STORE = "store"
    ROOT = "root"
    SHEET = "sheet"


class Step(Protocol):
    """One piece of work that takes something to what is wanted: whole or not there at all, and done at most once."""

    @property
    def touches(self) -> str:
        """The path that changes."""

    @property
    def summary(self) -> str:
        """What is done there, in a few words."""

    @property
    def guest_may_run(self) -> bool:
        """Whether the guest may run meanwhile."""

    @property
    def is_change(self) -> bool:
        """Whether something that exists changes or goes; what is new does not count."""

    @property
    def comes_last(self) -> bool:
        """Whether it is about entries, which come after everything that they mount."""

    @property
    def lies_in(self) -> Lies:
        """Where what changes lies, and so on which host it is done."""

    @property
    def guest(self) -> str:
        """The guest whose disk or entries it is about."""

    def apply(self) -> dict[str, object]:
        """Do it; return what the ledger keeps of it. Left undone if it raises."""


@runtime_checkable
class Brief(Protocol):
    """A step that may take no more than some milliseconds; several of them are given to a process at once then."""

    @property
    def is_brief(self) -> bool:
        """Whether it is one."""


@runtime_checkable
class Announced(Protocol):
    """A step that the ledger hears of before it is done, so that the next write can tell what a cut left of it."""

    @property
    def intent(self) -> dict[str, object]:
        """What the ledger keeps of it beforehand, empty for nothing."""


class Question(Frozen):
    """What a step has to know of another host: a call that is done there, with its arguments and the run it is for."""

    host: str
    call: Callable[..., object]
    args: tuple[object, ...]


@runtime_checkable
class Asks(Protocol):
    """A step that needs an answer of another host before it begins."""

    @property
    def question(self) -> Question | None:
        """What is asked, None for nothing."""

    def answered(self, answer: Any) -> Step:
        """Return the step with its answer."""

    @property
    def undoing(self) -> Question | None:
        """What is done where the question went, if the step fails once it is answered; None for nothing."""


@runtime_checkable
class Ends(Protocol):
    """A step that is over only once something is done on another host."""

    @property
    def ending(self) -> Question | None:
        """What is done there, None for nothing."""


@runtime_checkable
class IsElsewhere(Protocol):
    """A step that is done on another host than the one its disk is to be on."""

    @property
    def host(self) -> str:
        """That host, empty for this machine."""


@runtime_checkable
class NeedsKeys(Protocol):
    """A step that may take passphrases, which only the process has that was given them."""

    @property
    def needs_keys(self) -> bool:
        """Whether it does."""
