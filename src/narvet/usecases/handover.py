"""Everything about a sheet that goes to those who use its disks: read back, with what is left to be done by hand."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Iterator, Mapping
from pathlib import Path

from narvet.apply.steps import steps
from narvet.block.files import stored_at
from narvet.formats.images import image_format
from narvet.formats.images.chain import own_parts_of
from narvet.ground.errors import RequestError
from narvet.ground.meter import OnCopied, copied, expected, metered
from narvet.ground.units import GIB, show_both
from narvet.ground.values import Frozen
from narvet.model.layout import Layout, PlannedDisk
from narvet.model.moves import Step
from narvet.observe.ledger import ledger_path
from narvet.plan.by_hand import HandWork, plug_in
from narvet.plan.mark import mark_of
from narvet.usecases.history import Event, history
from narvet.usecases.layout import moment, work_out

_PART = 1 << 20
_MOST_EMPTY = 64 * GIB


class Handover(Frozen):
    """A sheet as it is to be handed over, `when` in UTC as ISO 8601 has it.

    `layout` has everything that exists read in full, and what is not as asked as its differences; `left` are the steps
    that writing it would still take. `by_hand` is what is to be done at guests without a door, `events` what was done.
    `digests` are those of images' files by their paths, SHA-256, if they were asked for, or why one is left out.
    """

    sheet: str
    when: str
    mark: str
    layout: Layout
    left: tuple[Step, ...]
    by_hand: tuple[HandWork, ...]
    events: tuple[Event, ...]
    digests: Mapping[str, str]


def handover(sheet: Path, *, digests: bool = False, on_copied: OnCopied | None = None) -> Handover:
    """Return the sheet at a path read back in full, with all that those who use its disks need to know.

    With `digests` every image that exists is read from end to end for its SHA-256. `on_copied` is called with numbers
    of bytes that are read for that.

    Raises:
        RequestError: the sheet is not a valid one.
        OSError: the system does not let something be read.
    """
    found = work_out(sheet, deep=True)
    shallow = mark_of(work_out(sheet).layout)
    layout = found.layout
    with metered(on_copied):
        sums = dict(_digests(layout)) if digests else {}
    own: dict[str, list[PlannedDisk]] = {}
    for disk in layout.disks:
        if disk.guest not in layout.doors and disk.plugged is None and disk.spec.order is None:
            own.setdefault(disk.guest, []).append(disk)
    by_hand = tuple(plug_in(guest, disks) for guest, disks in own.items())
    events = history(sheet) if ledger_path(sheet).is_file() else ()
    when = time.strftime("%Y-%m-%d %H:%M:%SZ", time.gmtime(moment(int(time.time()))))
    return Handover(str(sheet), when, str(shallow), layout, steps(layout, found.facts), by_hand, events, sums)


def _digests(layout: Layout) -> Iterator[tuple[str, str]]:
    """Yield the path of every file that images are kept in, with its digest, or why that is left out."""
    files = [file for disk in layout.disks for file in _files(disk)]
    expected(sum(file.stat().st_size for file in files if not _is_mostly_empty(file)))
    for file in files:
        if _is_mostly_empty(file):
            yield str(file), f"left out: it has {show_both(file.stat().st_size)} to read, nearly all of it empty"
            continue
        digest = hashlib.sha256()
        with file.open("rb") as content:
            while part := content.read(_PART):
                digest.update(part)
                copied(len(part))
        yield str(file), digest.hexdigest()


def _is_mostly_empty(file: Path) -> bool:
    """Return whether reading a file from end to end is out of proportion to what is stored of it."""
    return file.stat().st_size - stored_at(file) > _MOST_EMPTY


def _files(disk: PlannedDisk) -> list[Path]:
    path = Path(disk.path)
    if not path.is_file():
        return []
    try:
        parts = own_parts_of(image_format(disk.wanted.image.format), path)
    except RequestError:
        parts = ()
    return [path, *parts]
