"""Carrying steps out, one after another, each recorded once it is done."""

from __future__ import annotations

import logging
import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from narvet.block.locks import exclusive_lock
from narvet.block.publish import clear_folders, recover_all
from narvet.model.layout import Layout
from narvet.model.moves import Announced, Step
from narvet.observe.ledger import ledger_path, record

_LOG = logging.getLogger("narvet.steps")


@contextmanager
def sheet_lock(sheet: Path) -> Iterator[None]:
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
    """Clear what interrupted runs left in the stores of a sheet, and beside the images that its guests' roots lie in.

    What other Narvets are at work on stays.
    """
    for folder in sorted({Path(store.path) for store in layout.stores}):
        if folder.is_dir():
            recover_all(folder)
    roots = (guest.root for guest in layout.guests.values())
    clear_folders(*(Path(os.path.realpath(root.path)) for root in roots if root and Path(root.path).is_file()))


def carry_out(sheet: Path, todo: Sequence[Step], on_done: Callable[[Step], object]) -> None:
    """Apply the steps of a sheet in order and record each once it is done.

    Raises:
        RefusedError: the system refused a step; the steps before it stay done.
    """
    for number, step in enumerate(todo, 1):
        _LOG.info("step %d of %d begins: %s: %s", number, len(todo), step.touches, step.summary)
        if isinstance(step, Announced) and step.intent:
            record(ledger_path(sheet), step.touches, step.intent)
        record(ledger_path(sheet), step.touches, step.apply())
        _LOG.info("step %d of %d is done", number, len(todo))
        on_done(step)
