"""What was done for a sheet, from the ledger beside it, for people."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from narvet.ground.errors import RequestError, nearest
from narvet.ground.values import Frozen
from narvet.observe.ledger import ledger_path, ledger_rows

_WORDS = {
    "image": "made",
    "disk changed": "changed",
    "pool": "pool made",
    "image removed": "removed",
    "moving": "to be moved",
    "entries": "entries written",
    "unlocks": "lines to unlock written",
    "key file": "key file written",
    "key file removed": "key file removed",
    "mount point": "mount point made",
    "writing device": "device begun",
    "device": "device written",
    "changing device": "device to be changed",
    "partitions told": "partitions told to the kernel",
    "grown as mounted": "made larger, mounted",
    "swap used": "used for swap",
}
"""What the ledger says, as people do; the rest stands for itself."""


class Event(Frozen):
    """One thing that was done: when, in UTC as ISO 8601 has it, for which disk or guest, what, and what it touched."""

    when: str
    disk: str
    guest: str
    did: str
    touched: str
    size: int | None = None


def history(sheet: Path, names: Sequence[str] = ()) -> tuple[Event, ...]:
    """Return what was done for a sheet, in order; with names only what was done for these disks and guests.

    The ledger is not trusted: lines that are none of it are left out.

    Raises:
        RequestError: there is no ledger, or it has no such disk or guest.
    """
    ledger = ledger_path(sheet)
    if not ledger.is_file():
        raise RequestError(f"{ledger}: there is no ledger of {sheet}, so nothing was done for it yet")
    events = tuple(_event(row) for row in ledger_rows(ledger))
    known = sorted({name for one in events for name in (one.disk, one.guest) if name})
    for name in names:
        if name not in known:
            raise RequestError(f'{ledger}: it has no disk or guest "{name}"{nearest(name, known)}')
    return tuple(one for one in events if not names or one.disk in names or one.guest in names)


def _event(row: dict[str, object]) -> Event:
    did, size = str(row.get("did", "")), row.get("size")
    texts = (str(row.get(key) or "") for key in ("when", "disk", "guest"))
    when, disk, guest = texts
    disk = disk or str(row.get("pool") or "")
    if did in ("attached", "detached") and row.get("slot"):
        did = f"{did} {'to' if did == 'attached' else 'from'} {guest} at {row['slot']}"
    whole = size if isinstance(size, int) and not isinstance(size, bool) and size >= 0 else None
    return Event(when, disk, guest, _WORDS.get(did, did), str(row.get("touched", "")), whole)
