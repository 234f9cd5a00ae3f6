"""Controller slots: those asked for are checked, the others get the guest's next free one."""

from __future__ import annotations

from collections.abc import Iterator

from narvet.ground.findings import Finding
from narvet.ground.rules import guests as rules
from narvet.sheet.resolved import ResolvedSheet
from narvet.sheet.values import Slot

_GUEST_ITSELF = "the guest itself"


def assign_slots(sheet: ResolvedSheet) -> dict[str, str | None]:
    """Return each disk's slot as text ("scsi 1"), None where none is left."""
    taken = {name: {*guest.occupied} for name, guest in sheet.guests.items()}
    for disk in sheet.disks.values():
        if disk.slot is not None:
            taken[disk.guest].add(disk.slot)
    free = {
        name: iter([slot for slot in guest.offered if slot not in taken[name]]) for name, guest in sheet.guests.items()
    }
    return {
        name: show_slot(disk.slot if disk.slot is not None else next(free[disk.guest], None))
        for name, disk in sheet.disks.items()
    }


def check_slots(sheet: ResolvedSheet, slots: dict[str, str | None]) -> Iterator[Finding]:
    """Yield slots that are asked for but not free, and disks for which no slot is left."""
    holders = {name: dict.fromkeys(guest.occupied, _GUEST_ITSELF) for name, guest in sheet.guests.items()}
    for name, disk in sheet.disks.items():
        guest, shown = sheet.guests[disk.guest], slots[name]
        if disk.slot is None:
            if shown is None:
                yield rules.no_slot_left.error(disk.place, disk.guest, len(guest.offered))
            continue
        if disk.slot not in guest.offered:
            yield rules.slot_not_offered.error(disk.place.key("slot"), shown or "", disk.guest)
        holder = holders[disk.guest].setdefault(disk.slot, f"disk {name}")
        if holder != f"disk {name}":
            yield rules.slot_taken.error(disk.place.key("slot"), shown or "", disk.guest, holder)


def show_slot(slot: Slot | None) -> str | None:
    """Return a slot as it is written, None for none."""
    return None if slot is None else f"{slot[0]} {slot[1]}"
