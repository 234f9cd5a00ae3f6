"""Carrying steps out, one after another, each recorded once it is done."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from narvet.block.files import held
from narvet.work.ledger import ledger_path, record
from narvet.work.steps import Step


@contextmanager
def at_work_on(sheet: Path) -> Iterator[None]:
    """Hold a sheet from working it out to the last step, so that two Narvets never carry it out at once.

    Raises:
        RefusedError: another Narvet is at work on it.
    """
    if not sheet.is_file():  # reading it will tell what is wrong
        yield
        return
    with held(sheet):
        yield


def carry_out(sheet: Path, todo: Sequence[Step], on_done: Callable[[Step], None]) -> None:
    """Apply the steps of a sheet in order and record each once it is done.

    Raises:
        RefusedError: the system refused a step; the steps before it stay done.
    """
    for step in todo:
        record(ledger_path(sheet), step.touches, step.apply())
        on_done(step)
