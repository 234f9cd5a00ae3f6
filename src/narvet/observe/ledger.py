"""The ledger beside the sheet: what was done, when, with which ids; one JSON object a line, only ever appended.

What exists is read from the disks themselves. The ledger only tells where else to look for them, so what it says is
never acted on without looking.
"""

from __future__ import annotations

import json
import os
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, cast

from narvet.block.names import sync_folder
from narvet.ground.values import Frozen, field, replace
from narvet.model.controllers import CONTROLLERS, Slot
from narvet.model.facts import HostPath, Recorded

_MOST_READ = 64 << 20  # bytes from its end: some 300,000 lines


def ledger_path(sheet: Path) -> Path:
    """Return where a sheet's ledger is kept."""
    return sheet.with_suffix(".ledger.jsonl")


def record(ledger: Path, touched: str, what: dict[str, object]) -> None:
    """Append one line, on stable storage, with its file's name, when this returns.

    Paths are kept as seen from the ledger's folder, wherever Narvet was called.
    """
    touched = _seen_from(ledger, touched)
    what = {**what, **{key: _seen_from(ledger, str(what[key])) for key in ("from", "root", "now") if key in what}}
    if isinstance(what.get("members"), list):
        what = {**what, "members": [_seen_from(ledger, str(one)) for one in cast(list[object], what["members"])]}
    moment = datetime.now(UTC).isoformat(timespec="seconds")
    line = json.dumps({"when": moment, "touched": touched, **what}, ensure_ascii=False)
    is_new = not ledger.exists()
    with ledger.open("ab") as file:
        file.write(line.encode("utf-8", "surrogateescape") + b"\n")
        file.flush()
        os.fsync(file.fileno())
    if is_new:
        sync_folder(ledger.parent)


def _seen_from(ledger: Path, path: str) -> str:
    """Return a path from the ledger's folder on, so that both can go elsewhere; one far from it stays as it is."""
    far = Path(path).is_absolute() and not Path(path).absolute().is_relative_to(ledger.parent.absolute())
    return path if far else os.path.relpath(path, ledger.parent)


class History(Frozen):
    """What a ledger says of what was done on one host.

    `made` are the images that were made and not removed since, by the paths they were made at; `moving` has the hosts
    and paths, by disk, where moves that were cut off may have left an image, the last ones last; `begun` the disks
    whose volumes were begun to be ordered and not finished, with their marks. `entries` are the entries that were
    written into guests' roots, as lines, whatever became of them, `roots` those roots, as keys of a sheet for their
    guests, with those names.
    """

    made: tuple[Recorded, ...] = ()
    moving: Mapping[str, tuple[HostPath, ...]] = field(default_factory=dict)
    begun: Mapping[str, str] = field(default_factory=dict)
    entries: frozenset[str] = frozenset()
    roots: tuple[tuple[str, Mapping[str, Any]], ...] = ()


class Histories(Frozen):
    """What a ledger says: in all, and by host; `volumes_asked` is what was asked of volumes of pools."""

    whole: History
    hosts: Mapping[str, History]
    volumes_asked: Mapping[str, Mapping[str, str]]

    def of(self, host: str) -> History:
        """Return what was done on a host."""
        return self.hosts.get(host, _NOTHING)


_NOTHING = History()


def histories(ledger: Path) -> Histories:
    """Return what a ledger says."""
    rows: dict[str, list[dict[str, Any]]] = defaultdict(list)
    lines = list(_lines(ledger))
    for line in lines:
        rows[str(line.get("host", ""))].append(line)
    whole = _history(ledger, lines)
    own = {host: _history(ledger, some) for host, some in rows.items()} if len(rows) > 1 else dict.fromkeys(rows, whole)
    return Histories(whole, {host: _on(host, one, whole) for host, one in own.items()}, _volumes_asked(lines))


def _history(ledger: Path, rows: list[dict[str, Any]]) -> History:
    return History(
        _recorded(ledger, rows), _moving(ledger, rows), _begun_volumes(rows), _entries_written(rows),
        _roots_written(rows),
    )  # fmt: skip


def _on(host: str, history: History, whole: History) -> History:
    """Return a host's history with what lies there still, or is to go from there; what goes elsewhere is of others."""
    made = tuple(one for one in history.made if one.host == host)
    moving = {
        disk: there for disk, every in whole.moving.items() if (there := tuple(one for one in every if one[0] == host))
    }
    return replace(history, made=made, moving=moving)


def _moving(ledger: Path, rows: Iterable[dict[str, Any]]) -> dict[str, tuple[HostPath, ...]]:
    """Return where moves that were begun may have left images: what was made there or removed since is known."""
    found: dict[str, dict[HostPath, None]] = defaultdict(dict)
    for line in rows:
        did, disk = line.get("did"), str(line.get("disk", ""))
        if did not in ("moving", "image", "image removed"):
            continue
        if did == "image" and "from" not in line:  # it was made anew, or where it was: nothing is on its way any more
            found.pop(disk, None)
            continue
        both = (_from_host(line), line.get("from")), (str(line.get("host", "")), line.get("touched"))
        for host, path in both:
            if not isinstance(path, str) or "\0" in path:
                continue
            place = host, os.path.normpath(ledger.parent / path)
            found[disk].pop(place, None)
            if did == "moving":
                found[disk][place] = None
    return {disk: tuple(places) for disk, places in found.items() if places}


def _from_host(line: Mapping[str, Any]) -> str:
    """Return the host that an image comes from: that of the line, unless it tells of another."""
    return str(line.get("from_host", line.get("host", "")))


def begun_devices(ledger: Path) -> dict[str, str]:
    """Return the marks of the devices that a ledger says were begun to be written and not finished, by disk."""
    found: dict[str, str] = {}
    for line in _lines(ledger):
        disk = str(line.get("disk", ""))
        if line.get("did") == "writing device":
            found[disk] = str(line.get("mark", ""))
        elif line.get("did") == "device":
            found.pop(disk, None)
    return found


def _begun_volumes(rows: Iterable[dict[str, Any]]) -> dict[str, str]:
    found: dict[str, str] = {}
    for line in rows:
        disk, mark = str(line.get("disk", "")), line.get("mark")
        if line.get("did") == "ordering" and isinstance(mark, str):
            found[disk] = mark
        elif line.get("did") in ("image", "image removed"):
            found.pop(disk, None)
    return found


def partitions_to_grow(ledger: Path) -> frozenset[tuple[str, int]]:
    """Return the partitions, by disk and number, that a ledger says were made larger, but not what is on them."""
    found: set[tuple[str, int]] = set()
    for line in _lines(ledger):
        disk, larger, number = str(line.get("disk", "")), line.get("larger"), line.get("partition")
        if line.get("did") == "changing device" and isinstance(larger, list):
            found |= {(disk, one) for one in larger if isinstance(one, int)}
        elif line.get("did") == "grown as mounted" and isinstance(number, int):
            found.discard((disk, number))
    return frozenset(found)


def _recorded(ledger: Path, rows: Iterable[dict[str, Any]]) -> tuple[Recorded, ...]:
    found: dict[tuple[str, str], Recorded] = {}
    for line in rows:
        disk, path, host = str(line.get("disk", "")), str(line.get("touched", "")), str(line.get("host", ""))
        if line.get("did") in ("image", "disk changed") and "\0" not in path:
            asked = line.get("asked")
            kept = {str(key): str(value) for key, value in asked.items()} if isinstance(asked, dict) else {}
            native_id = str(line.get("id") or "")
            before = found.pop((_from_host(line), str(line.get("from", ""))), None) or found.get((host, path))
            kept = kept or dict(before.asked if before else {})
            names = (*before.names, *([before.disk] if before.disk != disk else [])) if before else ()
            slot = _slot(line.get("slot")) or (before.slot if before else None)
            there = os.path.normpath(ledger.parent / path)
            found[host, path] = Recorded(disk, there, native_id, kept, names, slot, host)
        elif line.get("did") == "attached":
            here = (key for key in found if key[1] == path and found[key].disk == disk)
            key = (host, path) if (host, path) in found else next(here, None)
            if key is not None:
                found[key] = replace(found[key], slot=_slot(line.get("slot")))
        elif line.get("did") == "image removed":
            gone, now = found.pop((host, path), None), str(line.get("now", ""))
            if gone is not None and now and "\0" not in now:
                other, there = str(line.get("now_host", "")), os.path.normpath(ledger.parent / now)
                found.setdefault((other, now), replace(gone, path=there, host=other))
    return tuple(found.values())


def _volumes_asked(rows: Iterable[dict[str, Any]]) -> dict[str, dict[str, str]]:
    """Return what sheets asked for of volumes of pools, by the names that findings have for them."""
    found: dict[str, dict[str, str]] = {}
    for line in rows:
        asked, pool = line.get("asked"), line.get("pool")
        if line.get("did") in ("pool", "pool changed") and isinstance(asked, dict):
            found = {name: own for name, own in found.items() if not name.startswith(f"{pool}.")}
            for name, own in asked.items():
                if isinstance(own, dict):
                    found[f"{pool}.{name}"] = {str(key): str(value) for key, value in own.items()}
    return found


def _slot(told: object) -> Slot | None:
    """Return a slot as the ledger has it, None for what is none."""
    controller, _, position = str(told or "").partition(" ")
    known = CONTROLLERS.get(controller)
    if known is None or not (position.isascii() and position.isdecimal()) or len(position) > 4:
        return None
    return (controller, int(position)) if int(position) < known.positions else None


def _entries_written(rows: Iterable[dict[str, Any]]) -> frozenset[str]:
    return frozenset(
        str(entry)
        for line in rows
        if line.get("did") in ("entries", "unlocks") and isinstance(line.get("lines"), list)
        for entry in line["lines"]
    )


def _roots_written(rows: Iterable[dict[str, Any]]) -> tuple[tuple[str, dict[str, Any]], ...]:
    found: dict[tuple[str, str, str], tuple[str, dict[str, Any]]] = {}
    for line in rows:
        guest, path, number = line.get("guest"), line.get("root"), line.get("partition")
        if line.get("did") in ("entries", "registry") and isinstance(guest, str) and isinstance(path, str):
            root: dict[str, Any] = {"image": path, "format": line.get("format"), "members": line.get("members", [])}
            root |= {"volume": number} if isinstance(number, str) else {"partition": number}
            found[guest, path, str(number)] = guest, {"runs": line.get("runs"), "root": root}
    return tuple(found.values())


def ledger_rows(ledger: Path) -> Iterator[dict[str, Any]]:
    """Yield what a ledger has, line by line, the latest of a very long one; lines that are none are left out."""
    return _lines(ledger)


def _lines(ledger: Path) -> Iterator[dict[str, Any]]:
    try:
        with ledger.open("rb") as file:
            end = file.seek(0, os.SEEK_END)
            file.seek(max(end - _MOST_READ, 0))
            data = file.read(_MOST_READ)
    except OSError:
        return
    for line in data.split(b"\n"):
        try:
            row = json.loads(line.decode("utf-8", "surrogateescape"))
        except (ValueError, RecursionError):  # cut off, or not Narvet's
            continue
        if isinstance(row, dict):
            yield row
