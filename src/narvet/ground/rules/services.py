"""Rules about stores whose volumes a service hands out. Sizes are bytes."""

from __future__ import annotations

from narvet.ground.findings import Wording, rule
from narvet.ground.units import show_both


@rule(
    meaning="The service that a store's volumes are ordered from does not answer, or not as services do.",
    way_out="See that its address and token are right, and that it runs; `NARVET_TOKENS` names the file of tokens.",
)
def service_not_answering(reason: str) -> Wording:
    """Word a service that does not answer."""
    return reason, "see that its address and token are right, and that it runs"


@rule(
    meaning="A store with a service lacks its zone or its class, or names one that the service does not have.",
    way_out="Give one of those that are named.",
)
def not_offered(what: str, asked: str | None, known: str) -> Wording:
    """Word a zone or class that is missing, or that the service does not have."""
    told = f"its service has no {what} {asked}" if asked else f"it names no {what}"
    return f"{told}; there is {known or 'none'}", f"give {what} one of those"


@rule(
    meaning="The class of a store has no volumes of the disk's size.",
    way_out="Give the disk the size that is named.",
)
def size_not_offered(size: int, name: str, least: int, most: int, step: int, fits: int) -> Wording:
    """Word a size that a class does not have."""
    return (
        f"class {name} has volumes of {show_both(least)} to {show_both(most)}, in steps of {show_both(step)}, none of "
        f"{show_both(size)}",
        f"give the disk a size of {show_both(fits)}" if fits <= most else "spread the data over more disks",
    )


@rule(
    meaning="The service has no guest of this name, or has it in another zone than the volume.",
    way_out="Give the guest the name that it has there, or use a store in its zone.",
)
def guest_not_there(guest: str, zone: str, where: str) -> Wording:
    """Word a guest that a volume cannot be attached to; `where` is its zone, empty where there is no such guest."""
    if where:
        return f"its volume would be in zone {zone}, guest {guest} is in zone {where}", "use a store in that zone"
    return f"its service has no guest {guest}", "give the guest the name that it has there"


@rule(
    meaning="The service has too few volumes left for this sheet.",
    way_out="Have the quota raised, or give volumes back that nobody needs.",
)
def too_many_volumes(needed: int, left: int) -> Wording:
    """Word a quota of volumes that is too small."""
    return (
        f"its service has {left} volumes left to order, and {needed} are needed",
        "have the quota raised, or give back what nobody needs",
    )


@rule(
    meaning="The service has a volume of this disk that was not begun here, and there is no record of it.",
    way_out="Bring the record back into the store's folder, or give the volume back at the service if nobody needs it.",
)
def volume_without_record(number: str, path: str) -> Wording:
    """Word a volume that is there although nothing here knows of it."""
    return (
        f"its service has volume {number} of it already, and there is no record at {path}",
        "bring the record back, or give the volume back there if nobody needs it",
    )


@rule(
    meaning="The service has a volume of a disk that the sheet no longer has, and no record is here: the write was "
    "cut off.",
    way_out="Put the disk back into the sheet, write it, and retire it; or give the volume back at the service.",
)
def volume_left_over(number: str, disk: str) -> Wording:
    """Word a volume whose disk the sheet no longer has, and that was never finished."""
    return (
        f"its service has volume {number} of disk {disk}, which the sheet no longer has, and no record of it is here",
        f"put {disk} back, write and then retire it; or give the volume back there",
    )


@rule(
    meaning="A volume of a service is made, attached and retired; nothing else about it is changed from here yet.",
    way_out="Take the change back; or order a new disk beside it, copy the data in the guest, and retire the old one.",
)
def volume_cannot_change(what: str) -> Wording:
    """Word a disk that is to be changed although it is a volume."""
    return (
        f"it is a volume of a service, and {what} differs, which is not changed there",
        "take the change back, or add a disk beside it, copy in the guest, and retire this one",
    )
