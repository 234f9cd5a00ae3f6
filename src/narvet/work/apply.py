"""Carrying steps out, one after another, each recorded once it is done."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from narvet.block.locks import exclusive_lock
from narvet.block.publish import recover_all
from narvet.layout.model import Layout
from narvet.work.ledger import ledger_path, record
from narvet.work.steps import Step


@contextmanager
def at_work_on(sheet: Path) -> Iterator[None]:
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
    """Clear what interrupted runs left in the stores of a sheet; what other Narvets are at work on stays."""
    for folder in sorted({Path(store.path) for store in layout.stores}):
        if folder.is_dir():
            recover_all(folder)


def carry_out(sheet: Path, todo: Sequence[Step], on_done: Callable[[Step], None]) -> None:
    """Apply the steps of a sheet in order and record each once it is done.

    Raises:
        RefusedError: the system refused a step; the steps before it stay done.
    """
    for step in todo:
        record(ledger_path(sheet), step.touches, step.apply())
        on_done(step)
