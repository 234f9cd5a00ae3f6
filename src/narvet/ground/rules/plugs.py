"""Rules about how disks are plugged into their guests: slots, controllers, fine points, doors."""

from __future__ import annotations

from narvet.ground.findings import Wording, rule


@rule(
    meaning="The guest's controllers have no free slot for the disk.",
    way_out="Give the guest another controller, and its slots in the sheet.",
)
def no_slot_left(guest: str, offered: int) -> Wording:
    """Word a guest whose slots are all taken."""
    return (
        f"guest {guest} has no free slot of its {offered}",
        "give the guest another controller, and its slots in the sheet",
    )


@rule(
    meaning="The guest's controllers do not offer the slot.",
    way_out="Choose a slot that the guest's controllers offer.",
)
def slot_not_offered(slot: str, guest: str) -> Wording:
    """Word a slot that a guest does not have."""
    return f"guest {guest} has no {slot}", "choose a slot that its controllers offer"


@rule(meaning="The slot is already taken in the guest.", way_out="Leave `slot` out: the next free one is used.")
def slot_taken(slot: str, guest: str, holder: str) -> Wording:
    """Word a slot that something else has."""
    return f"{slot} of guest {guest} is taken by {holder}", "leave slot out, and the next free one is used"


@rule(
    meaning="The controller cannot give the guest a disk as it is asked for.",
    way_out="Choose a slot of another controller.",
)
def slot_does_not_suit(slot: str, reason: str) -> Wording:
    """Word a slot whose controller cannot follow a key of the disk."""
    return f"{reason}, so {slot} does not suit", "choose a slot of another controller"


@rule(
    meaning="The guest's system sees disks at this controller only with a driver that it does not bring along.",
    way_out="Install the driver in the guest before, or choose a slot of another controller.",
)
def driver_needed(controller: str, system: str) -> Wording:
    """Word a controller that a system has no driver for."""
    return (
        f"{system} sees disks at {controller} only with a driver that it does not bring along",
        "install the driver in the guest before, or choose a slot of another controller",
    )


@rule(
    meaning="Two disks of a guest would have the same serial, so that it could not tell them apart.",
    way_out="Leave `serial` out: one is made from the disk's name and id.",
)
def serial_twice(serial: str, other: str) -> Wording:
    """Word a serial that another disk of the guest has."""
    return f"disk {other} of the same guest has the serial {serial} too", "leave serial out: one is made from the id"


@rule(
    meaning="Several guests cannot write to an image of this format at once: each keeps a map of it in its memory.",
    way_out='Use `format = "raw"`, or `read_only = true`.',
)
def cannot_be_shared(format_name: str, usable: str) -> Wording:
    """Word a shared disk whose format allows one writer."""
    return (
        f"only one guest at a time can write to an image of the format {format_name}",
        f'use format = "{usable}", or read_only = true',
    )


@rule(
    meaning="The filesystem is made for one guest at a time: two that write to it destroy it.",
    way_out="Mount it in one guest only at any time, or use `read_only = true`.",
)
def not_made_for_sharing(kinds: str) -> Wording:
    """Word a shared disk whose filesystems know of one writer only."""
    return (
        f"{kinds}: made for one guest at a time; two that mount it for writing destroy what is on it",
        "mount it in one guest at a time, or use read_only = true",
    )


@rule(
    meaning='With `hold = "fast"` the host does not wait until writes are stored, even where the guest asks for it.',
    way_out='Keep it for data that can be made again; otherwise use `hold = "safe"` or `hold = "direct"`.',
)
def writes_may_be_lost() -> Wording:
    """Word a disk whose writes the host may lose."""
    return (
        "when the host fails, the guest loses writes that it was told are stored; its filesystem may be damaged",
        'keep it for data that can be made again, or use hold = "safe"',
    )


@rule(meaning="The floor is above the ceiling, so both cannot be kept.", way_out="Lower `floor`, or raise `ceiling`.")
def floor_over_ceiling(least: int, most: int) -> Wording:
    """Word a floor that lies above its ceiling."""
    return f"at least {least} a second and at most {most} cannot both be kept", "lower floor, or raise ceiling"


@rule(
    meaning="The guest's door cannot pass this key on when the disk is attached.",
    way_out="Set it in the hypervisor by hand, or leave the key out.",
)
def not_through_door(key: str) -> Wording:
    """Word a key of a disk that its guest's door cannot pass on."""
    return f"{key} cannot be passed on through the guest's door", f"set it by hand, or leave {key} out"


@rule(
    meaning="The guest's door does not open, so nobody knows what is plugged into it.",
    way_out="Correct `door`, or end what else is connected to it.",
)
def door_does_not_open(reason: str) -> Wording:
    """Word a door that does not open."""
    return reason, "correct the guest's door, or end what else is connected to it"


@rule(
    meaning="The disk is plugged into a guest that runs, so that it cannot be changed from here.",
    way_out="Shut the guest down, or unmount the disk inside and run `narvet detach`; a larger `size` alone can be "
    "given to a running guest with `narvet attach --enlarge`.",
)
def plugged_in(guest: str, where: str, *, only_larger: bool) -> Wording:
    """Word a disk to be changed that a running guest has."""
    live = ", or run narvet attach --enlarge, which only makes the disk larger" if only_larger else ""
    return (
        f"guest {guest} runs and has it plugged in at {where}",
        f"shut the guest down, or unmount it inside and run narvet detach{live}",
    )


@rule(
    meaning="The disk is plugged in at another slot, or in another way, than the sheet has it.",
    way_out="Detach it and attach it again, or correct the sheet.",
)
def plugged_otherwise(guest: str, what: str) -> Wording:
    """Word a disk that is plugged in in another way than is asked for."""
    return f"guest {guest} has it plugged in {what}", "detach it and attach it again, or correct the sheet"


@rule(
    meaning="A guest that may run has the disk plugged in, so that it was looked at, but not read in full.",
    way_out="Nothing, or detach it and confirm again.",
)
def not_read_in_full(guest: str) -> Wording:
    """Word a disk that a guest uses while it is confirmed."""
    return f"guest {guest} has it plugged in, so it was not read in full", ""


@rule(
    meaning="Something else is plugged in at the slot that the disk is to have.",
    way_out="Choose another slot, or take out what is there.",
)
def slot_in_use(guest: str, slot: str, by: str) -> Wording:
    """Word a slot in which a door shows another disk."""
    return f"{slot} of guest {guest} holds {by}", "choose another slot, or leave slot out"
