"""A sheet written: what is missing is made, in order, each step recorded once it is done."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path

from narvet.apply.execute import OnNews, carry_out, claiming, clear_stores, get_ready, sheet_lock
from narvet.apply.places import places_of
from narvet.apply.steps import steps
from narvet.ground.errors import RequestError
from narvet.ground.findings import has_errors
from narvet.ground.meter import OnCopied, metered
from narvet.ground.values import Frozen
from narvet.model.layout import Layout
from narvet.model.moves import Step
from narvet.plan.mark import different, read_mark
from narvet.sheet.read import read_sheet
from narvet.usecases.layout import check_names, only, work_out

OnStart = Callable[[int], object]
OnDone = Callable[[Step], object]
Agree = Callable[[tuple[Step, ...]], bool]


class Written(Frozen):
    """A sheet as it was worked out before it was written, and the steps that were done, in order.

    Of a `dry` call these are the steps that would be done.
    """

    layout: Layout
    done: tuple[Step, ...]

    @property
    def is_refused(self) -> bool:
        """Whether findings of level error kept everything from being written."""
        return has_errors(self.layout.findings)


def write(
    sheet: Path,
    *,
    anew: Iterable[str] = (),
    disks: Iterable[str] = (),
    reviewed: str | None = None,
    dry: bool = False,
    agree: Agree = lambda _: True,
    on_start: OnStart = lambda _: None,
    on_done: OnDone = lambda _: None,
    on_copied: OnCopied | None = None,
    on_news: OnNews = lambda *_: None,
) -> Written:
    """Make what the sheet at a path asks for: images, mount points, entries; what is as asked is left alone.

    `anew` names disks to be made although they were made before; `disks` are the only ones to be written, all if none
    is named. `reviewed` is the mark of a review: nothing may be different since. A `dry` call does nothing.
    `agree` is called with the steps that change what exists, if there are any; nothing is done if it says no.
    `on_start` is called with the number of steps, `on_done` with each step once it is done, `on_copied` with numbers of
    bytes that a step copies or compares, `on_news` with how far each host is, where there are many steps.

    Raises:
        RequestError: the sheet is not a valid one, has no such disk, or is not as it was reviewed.
        RefusedError: the system refused a step, the steps before it stay done; or another Narvet is at work.
    """
    mark = read_mark(reviewed) if reviewed is not None else None
    with sheet_lock(sheet), claiming(sheet, known := read_sheet(sheet)) as run:
        found = work_out(sheet, known=known, anew=tuple(anew))
        if mark is not None:
            _refuse_different(sheet, tuple(different(mark, found.layout)))
        names = tuple(disks)
        check_names(sheet, names, found.layout.wanted.disks)
        found = only(found, names)
        if not dry:
            clear_stores(found.layout)
        todo = () if has_errors(found.layout.findings) else steps(found.layout, found.facts)
        changes = tuple(step for step in todo if step.is_change)
        if dry or (changes and not agree(changes)):
            return Written(found.layout, todo if dry else ())
        get_ready(todo)
        on_start(len(todo))
        with metered(on_copied):
            carry_out(sheet, todo, on_done, places_of(found.sheet), run, on_news)
    return Written(found.layout, todo)


def _refuse_different(sheet: Path, what: tuple[str, ...]) -> None:
    if what:
        raise RequestError(
            f"{sheet}: not as it was reviewed any more: {'; '.join(what)}; review it again, and write with the new mark"
        )
