"""Rules about real block devices. Sizes are bytes."""

from __future__ import annotations

from narvet.ground.findings import Wording, rule
from narvet.ground.units import show_both


@rule(
    meaning="The disk is a real device of its guest, which only a Narvet that runs there can see.",
    way_out="Run `narvet write SHEET --inside GUEST` in the guest.",
)
def written_inside(guest: str) -> Wording:
    """Word a disk that is not seen from here."""
    reason = f"it is a real device of {guest}, so it is not looked at from here"
    return reason, f"run narvet write --inside {guest} there"


@rule(
    meaning="The device holds something already, so it is not written.",
    way_out="Choose another device; or, if nobody needs what it holds, make it blank there yourself.",
)
def device_holds_something(path: str, what: str) -> Wording:
    """Word a device that is not blank."""
    return f"{path} holds {what}", "choose another device, or make this one blank if nobody needs that"


@rule(
    meaning="Somebody uses the device, so it is not written.",
    way_out="Unmount it, or end what uses it; be sure that it is the right one.",
)
def device_in_use(path: str, user: str) -> Wording:
    """Word a device in use."""
    return f"{path}: {user}", "be sure that it is the right device, and end its use first"


@rule(meaning="The device cannot be written to.", way_out="Plug it in writable, or choose another one.")
def device_read_only(path: str) -> Wording:
    """Word a device that is read-only."""
    return f"{path} is read-only", "plug it in writable, or choose another device"


@rule(
    meaning="The device has another size than the sheet gives the disk.",
    way_out="Correct `size`, or leave it out, as the device has the size it has.",
)
def device_size_differs(path: str, found: int, asked: int) -> Wording:
    """Word a device of another size."""
    return f"{path} has {show_both(found)}, not {show_both(asked)}", "correct size, or leave it out"


@rule(
    meaning="On a real device inside a guest partitions can be added, and what is mounted made larger (ext4, xfs); the "
    "rest is changed from outside, while no guest uses it.",
    way_out="Mount what is to become larger; or take the disk out, and write the sheet where its image is kept.",
)
def device_cannot_change(path: str) -> Wording:
    """Word a device that is to be changed."""
    return (
        f"{path} is written already, but not as the sheet has it now, and what differs is not changed from inside",
        "mount what is to become larger, or take the disk out and write the sheet where its image is",
    )


@rule(
    meaning="The device that the disk is to be written to is not there, or several could be it.",
    way_out="Plug it in, or give its `serial`; `narvet devices` lists what is there.",
)
def device_missing(reason: str) -> Wording:
    """Word a disk whose device is not found."""
    return reason, "narvet devices lists what is there"
