"""A sheet worked out with what is found: what reviewing, writing and confirming start from."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable
from pathlib import Path

from narvet.apply.steps import steps
from narvet.ground.errors import RequestError, nearest
from narvet.ground.libc import return_memory
from narvet.ground.values import Frozen, replace
from narvet.model.facts import Facts
from narvet.model.layout import Layout
from narvet.model.moves import Step
from narvet.observe.gather import observe
from narvet.plan.layout import plan
from narvet.plan.mark import mark_of
from narvet.plan.resolve import Settled, settled
from narvet.sheet.form import Sheet
from narvet.sheet.hosts import located
from narvet.sheet.read import read_sheet
from narvet.sheet.resolved import ResolvedSheet
from narvet.sheet.values import LATEST

_MANY = 1000  # disks; the forms of fewer are no matter


class WorkedOut(Frozen):
    """A layout, and the sheet and facts it was worked out from."""

    layout: Layout
    facts: Facts
    asked: Settled

    @property
    def sheet(self) -> ResolvedSheet:
        """The sheet, with everything in it settled."""
        return self.asked.sheet


def work_out(
    path: Path,
    *,
    known: Sheet | None = None,
    deep: bool = False,
    deep_only: Iterable[str] = (),
    anew: Iterable[str] = (),
) -> WorkedOut:
    """Return the sheet at `path` worked out; `known` is that sheet where it was read already.

    `deep` checks what exists in full, of the disks `deep_only` if any are named. `anew` names disks to be made although
    they were made before.

    Raises:
        RequestError: the sheet is not a valid one, or has no such disk.
        OSError: the system does not let something be read.
    """
    sheet = known or read_sheet(path)
    check_names(path, anew, sheet.disk)
    if sheet.host:
        path = Path(os.path.abspath(path))  # noqa: PTH100 (a link to a sheet is where it is)
        sheet = located(sheet, str(path.parent))
    sheet = replace(sheet, title=sheet.title or path.stem, dated=moment(sheet.dated))
    apart = {name: form.guest for name, form in sheet.disk.items() if form.device is not None}
    sheet = replace(sheet, disk={name: one for name, one in sheet.disk.items() if name not in apart})
    named = frozenset(deep_only) or frozenset(sheet.disk)
    facts = replace(observe(sheet, path, deep=named if deep else frozenset()), anew=frozenset(anew), apart=apart)
    asked = settled(_with_versions(sheet, facts))
    many = len(sheet.disk) > _MANY
    del sheet, known  # of many disks, forms are a third of all that is kept
    if many:
        return_memory()
    return WorkedOut(plan(asked, facts), facts, asked)


def _with_versions(sheet: Sheet, facts: Facts) -> Sheet:
    """Return a sheet whose guests have the versions that their roots tell, where it does not say them."""
    found = facts.found.guests
    guests = {
        name: replace(form, version=found[name].version)
        if form.version is None and name in found and found[name].version
        else form
        for name, form in sheet.guest.items()
    }
    return replace(sheet, guest=guests)


def only(found: WorkedOut, names: Iterable[str]) -> WorkedOut:
    """Return a sheet as it is worked out where only the disks of these names are to be written, all without names."""
    facts = replace(found.facts, only=frozenset(names))
    return WorkedOut(plan(found.asked, facts), facts, found.asked) if facts.only else found


def check_names(sheet: Path, names: Iterable[str], known: Collection[str]) -> None:
    """Raise RequestError for the first name that is not one of the `known` disks of a sheet."""
    for name in names:
        if name not in known:
            raise RequestError(f'{sheet}: there is no disk "{name}" in the sheet{nearest(name, known)}')


class Reviewed(Frozen):
    """A sheet worked out, and the steps that writing it would take; findings of level error would stop it.

    `mark` stands for all that is in it: writing can be told that nothing may be different.
    """

    layout: Layout
    steps: tuple[Step, ...]
    mark: str


def review(sheet: Path, disks: Iterable[str] = ()) -> Reviewed:
    """Return the sheet at a path worked out: everything that would be made, and the findings; nothing is written.

    `disks` must be names of disks in it.

    Raises:
        RequestError: the sheet is not a valid one, or has no such disk.
        OSError: the system does not let something be read.
    """
    found = work_out(sheet)
    check_names(sheet, disks, found.layout.wanted.disks)
    return Reviewed(found.layout, steps(found.layout, found.facts), str(mark_of(found.layout)))


def confirm(sheet: Path) -> Layout:
    """Return a sheet worked out with everything that exists read in full; its `differences` are what is not as asked.

    Raises:
        RequestError: the sheet is not a valid one.
        OSError: the system does not let something be read.
    """
    return work_out(sheet, deep=True).layout


def moment(dated: int) -> int:
    """Return the time to write into disks, in seconds since 1970: `dated`, unless SOURCE_DATE_EPOCH sets another.

    Raises:
        RequestError: SOURCE_DATE_EPOCH is not a time.
    """
    asked = os.environ.get("SOURCE_DATE_EPOCH", "")
    if not asked:
        return dated
    if not (asked.isascii() and asked.isdigit() and len(asked) < 12 and int(asked) < LATEST):
        raise RequestError(f'SOURCE_DATE_EPOCH is "{asked[:40]}"; seconds since 1970, below {LATEST}, expected')
    return int(asked)
