"""Disks plugged into their guests and taken out again: through the guest's door, else as a list to be done by hand."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path

from narvet.apply.execute import sheet_lock
from narvet.block.leases import lease
from narvet.block.publish import replace_content
from narvet.formats.images import image_format
from narvet.formats.images.chain import own_parts_of
from narvet.ground.errors import RefusedError, RequestError, flat
from narvet.ground.meter import OnCopied, metered
from narvet.ground.values import Frozen
from narvet.hosts import door_of
from narvet.hosts.contract import Door, DoorKind
from narvet.model.layout import Layout, PlannedDisk
from narvet.model.moves import Answer
from narvet.model.plugs import DoorState, Plugged
from narvet.observe.ledger import ledger_path, record
from narvet.plan.by_hand import HandWork, plug_in, take_out
from narvet.plan.plugs import otherwise
from narvet.usecases.layout import WorkedOut, check_names, work_out

Agree = Callable[[Sequence[PlannedDisk]], bool]

SMALLER = "smaller than asked"
"""What is said of a disk that is to be larger, but was not asked to grow while its guest runs."""

USUAL_WAIT = 30.0
"""Seconds that a guest has to let go of a disk."""


class Attached(Frozen):
    """What became of a disk at its guest: `did` is "attached", "as asked", "changed", "enlarged", "detached" ….

    `slot` is where, `path` its image.
    """

    disk: str
    guest: str
    did: str
    slot: str
    serial: str
    path: str


class Attaching(Frozen):
    """What was done through doors, and what is left to be done by hand, guest by guest."""

    done: tuple[Attached, ...]
    by_hand: tuple[HandWork, ...]


def attach(
    sheet: Path,
    names: Sequence[str] = (),
    *,
    enlarge: bool = False,
    by_hand: bool = False,
    dry: bool = False,
    on_copied: OnCopied | None = None,
) -> Attaching:
    """Plug disks of a sheet into their guests, all of them if none is named; what is plugged in as asked stays so.

    With `enlarge`, disks that are plugged in already and are to be larger get their new size while the guest runs; with
    `by_hand` nothing is done, and everything listed. A `dry` call gives what would be done, and changes nothing.

    Raises:
        RequestError: a disk is not as the sheet has it, so that it must be written first; or it cannot be plugged in.
        RefusedError: a hypervisor refused; what was plugged in before stays.
    """
    with sheet_lock(sheet), metered(on_copied):
        found = work_out(sheet, deep=True, deep_only=names)
        disks = _named(sheet, names, found.layout)
        _refuse(f"{sheet}: disk {disk.name} {reason}" for disk in disks for reason in _unready(disk, found))
        done: list[Attached] = []
        for guest, own in _by_guest(disks).items():
            form = found.sheet.guests[guest].door
            if form is None or by_hand:
                continue
            kind, place = door_of(form, sheet.parent)
            with kind.open(place, guest) as door:
                state = door.state()
                _refuse(f"{sheet}: disk {disk.name}: {one}" for disk in own for one in _obstacles(disk, door, state))
                for disk in own:
                    one = _attach(disk, door, state, enlarge=enlarge, dry=dry)
                    done += [one] if dry else _recorded(sheet, one)
    return Attaching(tuple(done), _by_hand(plug_in, disks, found, every=by_hand))


def detach(
    sheet: Path,
    names: Sequence[str],
    *,
    seconds: float = USUAL_WAIT,
    by_hand: bool = False,
    dry: bool = False,
    agree: Agree = lambda _: True,
    on_copied: OnCopied | None = None,
) -> Attaching:
    """Take disks out of their guests; entries and images stay. Nothing is done if `agree`, called with them, says no.

    With `by_hand` nothing is done either, and everything listed. A `dry` call gives what would be done.

    Raises:
        RequestError: there is no such disk.
        RefusedError: a guest does not let go of its disk in so many seconds, or a hypervisor refused.
    """
    with sheet_lock(sheet), metered(on_copied):
        found = work_out(sheet)
        disks = _named(sheet, names, found.layout)
        there = [disk for disk in disks if disk.plugged is not None]
        if there and not by_hand and not dry and not agree(there):
            return Attaching((), ())
        done: list[Attached] = []
        for disk in disks:
            guest = disk.plugged_into or disk.guest
            form = found.sheet.guests[guest].door
            if form is not None and not by_hand:
                kind, place = door_of(form, sheet.parent)
                if dry:
                    done.append(_done(disk, guest, "not plugged in" if disk.plugged is None else "detached"))
                else:
                    done += _recorded(sheet, _detach(disk, guest, kind, place, seconds))
    return Attaching(tuple(done), _by_hand(take_out, disks, found, every=by_hand))


def write_list(to: Path, works: Iterable[HandWork]) -> None:
    """Write what is to be done by hand to a file, as Markdown, in place of what it holds.

    Raises:
        RefusedError: the system refused.
    """
    parts = (
        f"# {work.title}\n\n" + "".join(f"{number}. {step}\n" for number, step in enumerate(work.steps, 1))
        for work in works
    )
    replace_content(to, flat("\n".join(parts)).encode("utf-8", "surrogateescape"))


def _named(sheet: Path, names: Sequence[str], layout: Layout) -> list[PlannedDisk]:
    known = {disk.name: disk for disk in layout.disks}
    check_names(sheet, names, known)
    _refuse(
        f"{sheet}: disk {name} is a volume, which its service attaches as it is written, and lets go as it is retired"
        for name in names
        if known[name].spec.order is not None
    )
    own = {name: disk for name, disk in known.items() if disk.spec.order is None}
    return [known[name] for name in dict.fromkeys(names or own)]


def _by_guest(disks: Iterable[PlannedDisk]) -> Mapping[str, list[PlannedDisk]]:
    found: dict[str, list[PlannedDisk]] = defaultdict(list)
    for disk in disks:
        found[disk.guest].append(disk)
    return found


def _by_hand(
    work: Callable[[str, list[PlannedDisk]], HandWork], disks: Iterable[PlannedDisk], found: WorkedOut, *, every: bool
) -> tuple[HandWork, ...]:
    """Return what is to be done by hand for the disks of guests without a door, or of `every` guest."""
    own = _by_guest(disks).items()
    return tuple(work(guest, disks) for guest, disks in own if every or found.sheet.guests[guest].door is None)


def _refuse(reasons: Iterable[str]) -> None:
    every = list(reasons)
    if every:
        raise RequestError("\n".join(every))


def _unready(disk: PlannedDisk, found: WorkedOut) -> Iterator[str]:
    """Yield why a disk is not to be plugged in: what `confirm` would not pass. What is plugged in already may be."""
    if disk.plugged is not None:
        if disk.plugged_into != disk.guest and not disk.plug.shared:
            yield f"is plugged into guest {disk.plugged_into}; detach it there first"
        return
    for one in found.layout.differences:
        if one.where.kind == "disk" and one.where.name == disk.name and one.answer is not Answer.LEAVE:
            asked, there = one.shown
            what = f"{one.where} {one.aspect.title}".rstrip()
            yield f"is not as the sheet has it: {what} is {there}, not {asked}; write it first"
            return
    for finding in found.layout.findings:
        if finding.level == "error" and finding.where.kind == "disk" and finding.where.name == disk.name:
            yield f"stays out: {finding.message}; {finding.remedy}"


def _obstacles(disk: PlannedDisk, door: Door, state: DoorState) -> Iterator[str]:
    """Yield what is in the way of a disk at its guest's door."""
    there = _there(disk, state)
    if there is not None:
        for what in otherwise(disk.plug, there):
            yield f"it is plugged in {what}; detach it and attach it again, or correct the sheet"
        return
    obstacle = door.obstacle(disk)
    if obstacle:
        yield obstacle
    for other in state.plugged:
        if other.slot is not None and other.slot == disk.plug.slot:
            yield f"{disk.slot} holds {other.path or other.handle}; choose another slot, or take that out"
        if other.serial and other.serial == disk.plug.serial:
            yield f"{other.path or other.handle} has the serial {other.serial} already; take that out, or give another"


def _there(disk: PlannedDisk, state: DoorState) -> Plugged | None:
    path = str(Path(disk.path).resolve())
    return next((one for one in state.plugged if one.path == path), None)


def _attach(disk: PlannedDisk, door: Door, state: DoorState, *, enlarge: bool, dry: bool) -> Attached:
    there = _there(disk, state)
    if there is None:
        if not dry:
            door.plug(disk)
        return _done(disk, disk.guest, "attached")
    did = []
    if door.is_outdated(disk, there):
        if not dry:
            door.renew(disk, there)
        did.append("changed")
    if there.size is not None and disk.size > there.size:
        if enlarge:
            if not dry:
                door.enlarge(there, disk.size)
            did.append("enlarged")
        else:
            did.append(SMALLER)
    return _done(disk, disk.guest, " and ".join(did) or "as asked")


def _detach(disk: PlannedDisk, guest: str, kind: DoorKind, place: Path, seconds: float) -> Attached:
    """Take a disk out, and see that nobody holds its image afterwards."""
    state = kind.look(place, guest)
    if state.problem:
        raise RefusedError(state.problem)
    if not state.is_open:
        return _done(disk, guest, "not plugged in")
    with kind.open(place, guest) as door:
        there = _there(disk, door.state())
        if there is not None:
            door.unplug(there, seconds)
        door.tidy()
    if there is None:
        return _done(disk, guest, "not plugged in")
    if not disk.plug.shared:
        path = Path(disk.path).resolve()
        with lease(path, *own_parts_of(image_format(disk.wanted.image.format), path), change=True):
            pass
    return _done(disk, guest, "detached")


def _done(disk: PlannedDisk, guest: str, did: str) -> Attached:
    return Attached(disk.name, guest, did, disk.slot or "", disk.plug.serial, disk.path)


def _recorded(sheet: Path, one: Attached) -> list[Attached]:
    """Put into the ledger what was done."""
    if one.did not in ("as asked", "not plugged in"):
        about = {"disk": one.disk, "guest": one.guest, "slot": one.slot, "serial": one.serial}
        record(ledger_path(sheet), one.path, {"did": one.did, **about})
    return [one]
