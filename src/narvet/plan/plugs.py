"""How disks are plugged in: the slots that are asked for are checked, the others get a free one that suits. Pure.

A disk that has a slot already, by its guest's door or the ledger, keeps it: a sheet with a disk more ahead of it gives
no other disk another slot.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from narvet.ground.findings import Finding, disk_place, guest_place
from narvet.ground.rules import guests as guest_rules
from narvet.ground.rules import plugs as rules
from narvet.ground.values import replace
from narvet.guests import guest_system
from narvet.hosts import unkept_by
from narvet.model.controllers import CONTROLLERS, Controller, Slot, slot_text, version_text
from narvet.model.facts import Facts
from narvet.model.layout import PlannedDisk
from narvet.model.moves import Answer, Difference
from narvet.model.plugs import MOST_OF_SERIAL, Plug, Plugged
from narvet.sheet.machines import GuestForm
from narvet.sheet.resolved import DiskIds, ResolvedDisk, ResolvedSheet

_GUEST_ITSELF = "the guest itself"
_NAMED = 7  # signs of a disk's name at the start of its serial
_SHARED_FORMAT = "raw"


def plan_plugs(sheet: ResolvedSheet, facts: Facts) -> dict[str, Plug]:
    """Return how each disk is plugged in, without a slot where its guest has none left."""
    own = _without_volumes(sheet)
    slots = _slots(own, facts)
    return {
        name: replace(disk.plug, slot=slots[name], serial=disk.plug.serial or serial_of(sheet.ids(name)))
        if name in own.disks
        else replace(disk.plug, slot=None, serial="")
        for name, disk in sheet.disks.items()
    }


def _without_volumes(sheet: ResolvedSheet) -> ResolvedSheet:
    """Return a sheet without the disks that services attach, at a position and with a serial of theirs."""
    disks = {name: disk for name, disk in sheet.disks.items() if disk.format != "volume"}
    return replace(sheet, disks=disks)


def serial_of(ids: DiskIds) -> str:
    """Return the serial that follows from a disk's first name and its id: the start of each."""
    name = ids.disk[:_NAMED].rstrip("_.-")
    return f"{name}-{ids.image.hex[: MOST_OF_SERIAL - _NAMED - 1]}"


def _slots(sheet: ResolvedSheet, facts: Facts) -> dict[str, Slot | None]:
    slots: dict[str, Slot | None] = {name: disk.plug.slot for name, disk in sheet.disks.items()}
    used = {name: _used_by_others(name, facts) for name in sheet.guests}
    free = {
        name: dict.fromkeys(slot for slot in guest.offered if slot not in guest.occupied and slot not in used[name])
        for name, guest in sheet.guests.items()
    }
    for disk in sheet.disks.values():
        if disk.plug.slot is not None:
            free[disk.guest].pop(disk.plug.slot, None)
    for name, had in _earlier(sheet, facts).items():
        if slots[name] is None and had in free[sheet.disks[name].guest]:
            slots[name] = had
            del free[sheet.disks[name].guest][had]
    for name, disk in sheet.disks.items():
        if slots[name] is None:
            left, guest = free[disk.guest], sheet.guests[disk.guest]
            slot = next((one for one in left if _suits(CONTROLLERS[one[0]], disk, guest)), next(iter(left), None))
            slots[name] = slot
            left.pop(slot, None) if slot is not None else None
    return slots


def _earlier(sheet: ResolvedSheet, facts: Facts) -> dict[str, Slot]:
    """Return the slots that disks have or had: what a door shows counts more than what the ledger says."""
    had = {one.disk: one.slot for one in facts.ledger if one.slot is not None}
    found: dict[str, Slot] = {}
    for name, disk in sheet.disks.items():
        into, plugged = _plugged(name, disk.guest, facts)
        slot = plugged.slot if plugged is not None and into == disk.guest else None
        slot = slot or had.get(name) or had.get(disk.was or name)
        if slot is not None:
            found[name] = slot
    return found


def _used_by_others(guest: str, facts: Facts) -> frozenset[Slot]:
    """Return the slots in which a guest's door shows what is no disk of the sheet."""
    there = facts.doors[guest].plugged if guest in facts.doors else ()
    images = facts.found.disks.values() if there else ()
    own = [one for image in images for _, one in facts.plugged.get(image.path, ())]
    return frozenset(one.slot for one in there if one.slot is not None and one not in own)


def _suits(controller: Controller, disk: ResolvedDisk, guest: GuestForm) -> bool:
    """Return whether nothing speaks against a disk on a controller."""
    since = controller.since[guest.runs]
    seen = since is not None and (guest.version is None or guest.version >= since)
    return seen and not any(_unsuited(controller, disk))


def _unsuited(controller: Controller, disk: ResolvedDisk) -> Iterator[tuple[str, str]]:
    """Yield the keys of a disk that a controller cannot follow, each with the reason."""
    if disk.sector_size != 512 and not controller.large_sectors:
        yield "sector", f"disks at {controller.name} have sectors of 512 bytes, not {disk.sector_size}"
    if disk.plug.read_only and not controller.protects:
        yield "read_only", f"a disk at {controller.name} cannot be kept from being written to"


def check_plugs(sheet: ResolvedSheet, plugs: Mapping[str, Plug]) -> Iterator[Finding]:
    """Yield slots that are taken, missing or unsuitable, and risky ways of plugging disks in."""
    holders = {name: dict.fromkeys(guest.occupied, _GUEST_ITSELF) for name, guest in sheet.guests.items()}
    serials: dict[tuple[str, str], str] = {}
    for name, disk in _without_volumes(sheet).disks.items():
        plug = plugs[name]
        yield from _check_slot(disk, plug, sheet.guests[disk.guest], holders[disk.guest])
        yield from _check_fine_points(disk, plug, sheet.guests[disk.guest])
        other = serials.setdefault((disk.guest, plug.serial.lower()), name)
        if other != name:
            yield rules.serial_twice.error(disk.place.key("serial"), plug.serial, other)


def _check_slot(disk: ResolvedDisk, plug: Plug, guest: GuestForm, holders: dict[Slot, str]) -> Iterator[Finding]:
    if plug.slot is None:
        yield rules.no_slot_left.error(disk.place, disk.guest, len(guest.offered))
        return
    where = disk.place.key("slot")
    if disk.plug.slot is not None:
        if plug.slot not in guest.offered:
            yield rules.slot_not_offered.error(where, slot_text(plug.slot), disk.guest)
        holder = holders.setdefault(plug.slot, f"disk {disk.name}")
        if holder != f"disk {disk.name}":
            yield rules.slot_taken.error(where, slot_text(plug.slot), disk.guest, holder)
    controller = CONTROLLERS[plug.slot[0]]
    for key, reason in _unsuited(controller, disk):
        yield rules.slot_does_not_suit.error(disk.place.key(key), slot_text(plug.slot), reason)
    since, shown = controller.since[guest.runs], guest_system(guest.runs).name.capitalize()
    if since is None:
        yield rules.driver_needed.warning(where, controller.name, shown)
    elif guest.version is not None and guest.version < since:
        needed = f"{shown} {version_text(since)}"
        remedy = "choose a slot of another controller"
        yield guest_rules.guest_too_old.error(
            where, f"a disk at {controller.name}", needed, version_text(guest.version), remedy
        )


def _check_fine_points(disk: ResolvedDisk, plug: Plug, guest: GuestForm) -> Iterator[Finding]:
    if plug.shared and not plug.read_only:
        where = disk.place.key("shared")
        if disk.format != _SHARED_FORMAT:
            yield rules.cannot_be_shared.error(where, disk.format, _SHARED_FORMAT)
        kinds = dict.fromkeys(part.filesystem for part in disk.partitions if part.filesystem)
        if kinds:
            yield rules.not_made_for_sharing.warning(where, ", ".join(kinds))
    if plug.hold == "fast":
        yield rules.writes_may_be_lost.warning(disk.place.key("hold"))
    low, high = plug.floor, plug.ceiling
    for least, most in ((low.operations, high.operations), (low.bytes, high.bytes)):
        if least is not None and most is not None and least > most:
            yield rules.floor_over_ceiling.error(disk.place.key("floor"), least, most)
    if guest.door is not None:
        for key in unkept_by(guest.door, plug):
            yield rules.not_through_door.note(disk.place.key(key), key)


def with_plugged(disk: PlannedDisk, facts: Facts) -> PlannedDisk:
    """Return a disk with where it is plugged in, as the doors of the sheet's guests show it."""
    into, there = _plugged(disk.name, disk.guest, facts)
    return replace(disk, plugged=there, plugged_into=into) if there is not None else disk


def _plugged(disk: str, guest: str, facts: Facts) -> tuple[str, Plugged | None]:
    """Return the guest that has a disk plugged in, and how: its own guest, if that has it."""
    image = facts.found.disks.get(disk)
    every = facts.plugged.get(image.path, ()) if image is not None else ()
    own = [one for one in every if one[0] == guest]
    return next(iter((*own, *every)), ("", None))


def check_doors(
    disks: Iterable[PlannedDisk], facts: Facts, differences: Mapping[str, Sequence[Difference]]
) -> Iterator[Finding]:
    """Yield doors that do not open, and what is to be said of disks by what is plugged in."""
    for name, door in facts.doors.items():
        if door.problem:
            yield rules.door_does_not_open.warning(guest_place(name).key("door"), door.problem)
    for disk in disks:
        where, there = disk_place(disk.name), disk.plugged
        if there is None:
            for other in facts.doors[disk.guest].plugged if disk.guest in facts.doors else ():
                if other.slot is not None and other.slot == disk.plug.slot:
                    by = other.path or other.handle
                    yield rules.slot_in_use.warning(where.key("slot"), disk.guest, slot_text(other.slot), by)
            continue
        if disk.name in facts.unread:
            yield rules.not_read_in_full.note(where, disk.plugged_into)
        moves = [one for one in differences[disk.name] if one.answer.is_move]
        door = facts.doors[disk.plugged_into]
        if moves and door.runs:
            larger = all(one.answer is Answer.ENLARGE for one in moves) and disk.wanted.image.format in door.grows
            yield rules.plugged_in.error(where, disk.plugged_into, there.where, only_larger=larger)
        told = "into another guest than the sheet has it" if disk.plugged_into != disk.guest else ""
        for what in (told,) if told else otherwise(disk.plug, there):
            yield rules.plugged_otherwise.warning(where, disk.plugged_into, what)


def otherwise(plug: Plug, there: Plugged) -> Iterator[str]:
    """Yield in which ways a disk is plugged in otherwise than asked, but for what can be changed as it is."""
    if there.slot is not None and there.slot != plug.slot:
        yield f"at {slot_text(there.slot)}, not at {plug.slot_name}"
    if there.serial and there.serial != plug.serial:
        yield f"with the serial {there.serial}, not {plug.serial}"
    if there.read_only is not None and there.read_only != plug.read_only:
        yield "read-only" if there.read_only else "writable, not read-only"
    if there.hold is not None and there.hold != plug.hold:
        yield f'with hold = "{there.hold}", not "{plug.hold}"'
