"""Controller slots: those asked for are checked, the others get the guest's next free one."""

from __future__ import annotations

from narvet.findings import Finding
from narvet.sheet.model import Sheet, Slot


def assign_slots(sheet: Sheet) -> tuple[dict[str, str | None], list[Finding]]:
    """Return each disk's slot as text ("scsi 1"), None where none is left, and what is wrong with them."""
    found: list[Finding] = []
    taken: dict[str, dict[Slot, str]] = {
        name: dict.fromkeys(guest.occupied, "the guest itself") for name, guest in sheet.guest.items()
    }
    slots: dict[str, str | None] = {}
    for name, disk in sheet.disk.items():
        if disk.slot is None:
            continue
        slots[name] = _show(disk.slot)
        where = f"disk.{name}.slot"
        if disk.slot not in sheet.guest[disk.guest].offered:
            found.append(
                Finding(
                    "slot-not-offered", "error", where,
                    f"guest {disk.guest} has no {_show(disk.slot)}", "choose a slot that its controllers offer",
                )
            )  # fmt: skip
        holder = taken[disk.guest].setdefault(disk.slot, f"disk {name}")
        if holder != f"disk {name}":
            found.append(
                Finding(
                    "slot-taken", "error", where, f"{_show(disk.slot)} of guest {disk.guest} is taken by {holder}",
                    "leave slot out, and the next free one is used",
                )
            )  # fmt: skip
    free = {
        name: iter([slot for slot in guest.offered if slot not in taken[name]]) for name, guest in sheet.guest.items()
    }
    for name, disk in sheet.disk.items():
        if disk.slot is None:
            slot = next(free[disk.guest], None)
            slots[name] = _show(slot) if slot else None
            if slot is None:
                found.append(_none_left(name, disk.guest, len(sheet.guest[disk.guest].offered)))
    return slots, found


def _show(slot: Slot) -> str:
    return f"{slot[0]} {slot[1]}"


def _none_left(disk: str, guest: str, offered: int) -> Finding:
    return Finding(
        "no-slot-left", "error", f"disk.{disk}", f"guest {guest} has no free slot of its {offered}",
        "give the guest another controller, and its slots in the sheet",
    )  # fmt: skip
