"""A sheet written: what is missing is made, in order, each step recorded once it is done."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

from narvet.apply.execute import carry_out, clear_stores, sheet_lock
from narvet.apply.steps import steps
from narvet.ground.findings import has_errors
from narvet.ground.meter import OnCopied, metered
from narvet.model.layout import Layout
from narvet.model.moves import Step
from narvet.usecases.layout import work_out

OnStart = Callable[[int], object]
OnDone = Callable[[Step], object]


@dataclass(frozen=True)
class Written:
    """A sheet as it was worked out before it was written, and the steps that were done, in order."""

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
    on_start: OnStart = lambda _: None,
    on_done: OnDone = lambda _: None,
    on_copied: OnCopied = lambda _: None,
) -> Written:
    """Make what the sheet at a path asks for: images, mount points, entries; what is as asked is left alone.

    `anew` names disks to be made although they were made before. `on_start` is called with the number of steps,
    `on_done` with each step once it is done, `on_copied` with numbers of bytes that a step copies or compares.

    Raises:
        RequestError: the sheet is not a valid one.
        RefusedError: the system refused a step, the steps before it stay done; or another Narvet is at work.
    """
    with sheet_lock(sheet):
        found = work_out(sheet, anew=tuple(anew))
        clear_stores(found.layout)
        todo = () if has_errors(found.layout.findings) else steps(found.layout, found.facts)
        on_start(len(todo))
        with metered(on_copied):
            carry_out(sheet, todo, on_done)
    return Written(found.layout, todo)
