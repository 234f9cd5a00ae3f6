"""Questions for a new disk in the order of the job, each answer checked at once. Nothing here knows a terminal.

Answers are the keys of a request. Which question comes next follows from the answers so far, so that one can go back.
"""

from __future__ import annotations

import json
import re
import shutil
from collections.abc import Iterator, Mapping
from contextlib import suppress
from pathlib import Path

from narvet.block.publish import replace_content
from narvet.formats.filesystems import filesystem
from narvet.ground.errors import RequestError, nearest, printable
from narvet.ground.offers import offers
from narvet.ground.units import SizeError, parse_size, show_binary, show_both
from narvet.ground.values import Frozen, field
from narvet.guests import guest_system
from narvet.guests.contract import GuestAsked, GuestSystem, HasRoots
from narvet.model.estate import Guest
from narvet.sheet.draft import Request, fault_of, new_sheet, request_keys
from narvet.sheet.files import text_of
from narvet.sheet.form import Sheet
from narvet.sheet.machines import GuestForm
from narvet.sheet.read import parse_sheet
from narvet.sheet.values import SYSTEMS

_KEPT_MOST = 64 << 10  # bytes of answers kept
_MOST_OWNERS = 12
_PEOPLE = range(1000, 60000)  # user ids that people and services have, by custom
_PURPOSES = {
    "general": "files of all kinds",
    "database": "few large files, written in place",
    "logs": "many files that grow; little is kept back for them",
    "media": "few, very large files: pictures, films, scans",
}
_SWAP = "swap"  # the one filesystem that is neither mounted nor owned

_LAID_OUT = "What the filesystem is laid out for"
_PLACE = re.compile(r"(disk|guest|store)\.[^:]*: ")
_ONE = "66666666-6666-4666-8666-666666666666"


class Choice(Frozen):
    """One of the answers that are offered, and what it stands for."""

    name: str
    about: str = ""


class Question(Frozen):
    """A question: the key that its answer is, how it is asked, what it means, what is offered, what is usual.

    `is_closed` is whether only what is offered is an answer, `is_needed` whether there must be one.
    """

    key: str
    text: str
    about: str
    choices: tuple[Choice, ...] = ()
    usual: str = ""
    is_closed: bool = False
    is_needed: bool = False


class Interview(Frozen):
    """The answers so far for a disk of the sheet at a path; an empty answer leaves its key out."""

    path: Path
    text: str
    form: Sheet
    answers: Mapping[str, str] = field(default_factory=dict)

    def next(self) -> Question | None:
        """Return the next question that has no answer yet, None once all have one."""
        return next((one for one in self._questions() if one.key not in self.answers), None)

    def fault(self, key: str, answer: str) -> str:
        """Return what is wrong with an answer, or nothing."""
        question = next((one for one in self._questions() if one.key == key), None)
        if question is None:
            return ""
        if not answer:
            return "There must be an answer." if question.is_needed else ""
        names = [choice.name for choice in question.choices]
        if question.is_closed and answer not in names:
            return f'"{printable(answer)[:60]}" is none of these: {", ".join(names)}.'
        if key == "owner" and (unknown := self._unknown_account(answer)):
            return unknown
        told = fault_of(self.text, Request("the answers", {**self._keys(), key: answer}), key)
        return printable(_PLACE.sub("", told))

    def answered(self, key: str, answer: str) -> Interview:
        """Return the interview with one more answer."""
        return Interview(self.path, self.text, self.form, {**self.answers, key: answer})

    def back(self) -> Interview:
        """Return the interview without its last answer."""
        return Interview(self.path, self.text, self.form, dict(list(self.answers.items())[:-1]))

    def request(self) -> Request:
        """Return all answers as a request."""
        return Request("the answers", self._keys())

    def understood(self, key: str, answer: str) -> str:
        """Return how an answer is understood, where that is worth a line."""
        if key in ("usable", "size") and answer:
            with suppress(SizeError):
                return f"That is {show_both(parse_size(answer))}."
        return ""

    def _keys(self) -> dict[str, str]:
        return {key: answer for key, answer in self.answers.items() if answer}

    def _system(self) -> GuestSystem:
        name = self.answers.get("guest", "")
        if name in self.form.guest:
            return guest_system(self.form.guest[name].runs)
        runs = self.answers.get("runs", "")
        return guest_system(runs if runs in SYSTEMS else GuestForm().runs)

    def _questions(self) -> Iterator[Question]:
        """Yield every question that the answers so far lead to."""
        about, system = request_keys(), self._system()
        guests = tuple(self.form.guest)
        offered = tuple(Choice(one, f"runs {self.form.guest[one].runs}") for one in guests)
        yield Question(
            "guest", "Which guest will use the disk?", about["guest"], offered, "".join(guests[:1]), is_needed=True
        )
        if self.answers.get("guest") not in guests:
            systems = tuple(map(Choice, SYSTEMS))
            yield Question("runs", "What does it run?", about["runs"], systems, SYSTEMS[0], is_closed=True)
            if offers(system, HasRoots):
                yield Question("root", "Folder with its root, if there is one here", about["root"])
        purposes = tuple(Choice(name, told) for name, told in _PURPOSES.items())
        yield Question("for", "What is the disk for?", _LAID_OUT, purposes, "general", is_closed=True)
        usable = 'How much must people be able to fill, such as "100 GB"? Empty: give the size of the disk'
        yield Question("usable", usable, about["usable"])
        if not self.answers.get("usable"):
            yield Question("size", 'Size of the disk, such as "120 GiB"', about["size"], is_needed=True)
        yield from self._where()
        kinds = tuple(Choice(kind, _keeps(kind)) for kind in system.filesystems)
        yield Question("filesystem", "Which filesystem?", about["filesystem"], kinds, system.filesystems[0])
        if self.answers.get("filesystem") == _SWAP:
            yield Question("label", "Label, also the disk's name", about["label"])
            return
        yield Question("at", f"Where is it mounted? {system.mount_point_hint.capitalize()}", about["at"])
        yield Question("owner", "Whom does it belong to?", about["owner"], self._owners(system))
        yield Question("label", "Label, also the disk's name", about["label"])

    def _where(self) -> Iterator[Question]:
        about, stores = request_keys(), self._stores()
        best = max(stores, key=stores.__getitem__, default="shelf")
        offered = tuple(Choice(name, f"{show_binary(room)} free") for name, room in stores.items())
        yield Question("store", "Which store keeps it?", about["store"], offered, best, is_needed=True)
        name = self.answers.get("store", "")
        if name and name not in stores:
            told = f"{about['store_path']}; it is made if it is not there"
            yield Question("store_path", "Folder of that store", told, usual=f"stores/{name}", is_needed=True)

    def _stores(self) -> dict[str, int]:
        """Return the sheet's stores with what is free in each."""
        free = {}
        for name, store in self.form.store.items():
            folder = self.path.parent / store.path
            free[name] = shutil.disk_usage(folder).free if folder.is_dir() else 0
        return free

    def _owners(self, system: GuestSystem) -> tuple[Choice, ...]:
        """Return the accounts of people and services in the guest's root."""
        people = [account for account, (uid, _) in self._guest(system).users.items() if uid in _PEOPLE]
        return tuple(map(Choice, people[:_MOST_OWNERS]))

    def _unknown_account(self, owner: str) -> str:
        """Return that a user or group is not in the guest's root, where that is known."""
        found = self._guest(self._system())
        user, _, group = owner.partition(":")
        for name, known, what in ((user, found.users, "account"), (group, found.groups, "group")):
            if name and known and name not in known and not name.isdigit():
                return f'The guest has no {what} "{printable(name)}"{nearest(name, known)}.'
        return ""

    def _guest(self, system: GuestSystem) -> Guest:
        """Return what is found in the guest's root, nothing if there is none."""
        name = self.answers.get("guest", "")
        form = self.form.guest.get(name) or GuestForm(root=self.answers.get("root") or None)
        try:
            return system.observe(GuestAsked(name, form, self.path, ()))
        except (RequestError, OSError):
            return Guest(name)


def interview(sheet: Path) -> Interview:
    """Return the interview for one more disk of a sheet, or the first of a new one.

    Raises:
        RequestError: the sheet is not a valid one.
        OSError: the system does not let it be read.
    """
    from uuid import UUID

    text = text_of(sheet) if sheet.exists() else new_sheet("", UUID(_ONE))
    return Interview(sheet, text, parse_sheet(text, sheet))


def kept_path(sheet: Path) -> Path:
    """Return where the answers of a stopped interview are kept."""
    return sheet.with_name(f"{sheet.stem}.answers.json")


def keep_answers(sheet: Path, answers: Mapping[str, str]) -> Path:
    """Keep the answers of an interview that was stopped; return where.

    Raises:
        RequestError: a file of that name is there, and holds something else.
        OSError: the system refused.
    """
    path = kept_path(sheet)
    if path.exists() and not kept_answers(sheet):
        raise RequestError(f"{path} is there already and holds something else, so your answers are not kept")
    replace_content(path, json.dumps(dict(answers), indent=2, ensure_ascii=False).encode())
    return path


def kept_answers(sheet: Path) -> dict[str, str]:
    """Return the answers that were kept when an interview was stopped; none if they cannot be read."""
    try:
        with kept_path(sheet).open("rb") as file:
            found = json.loads(file.read(_KEPT_MOST))
    except (OSError, ValueError, RecursionError):
        return {}
    known = request_keys()
    every = found.items() if isinstance(found, dict) else ()
    return {key: value for key, value in every if key in known and isinstance(value, str)}


def forget_answers(sheet: Path) -> None:
    """Remove the answers that were kept, if there are any."""
    if kept_answers(sheet):
        kept_path(sheet).unlink(missing_ok=True)


def _keeps(kind: str) -> str:
    return "keeps owner and mode" if filesystem(kind).keeps_owner else ""
