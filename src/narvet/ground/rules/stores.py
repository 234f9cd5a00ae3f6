"""Rules about stores: their folders and their room. Sizes are bytes."""

from __future__ import annotations

from narvet.ground.findings import Wording, rule
from narvet.ground.units import show_apart, show_both, show_bytes


@rule(meaning="The store's folder does not exist.", way_out="Make the folder, or correct `path`.")
def store_missing(path: str) -> Wording:
    """Word a store without a folder."""
    return f"there is no folder {path}", "make the folder, or correct path"


@rule(meaning="The store's folder cannot be written to.", way_out="Get write permission there, or use another store.")
def store_not_writable(path: str) -> Wording:
    """Word a folder that this user may not write to."""
    return f"{path} cannot be written to by this user", "get write permission there, or use another store"


@rule(
    meaning="The store has too little room for what is to be written now.",
    way_out="Make room, or move disks to the store that is named.",
)
def store_without_room(needed: int, most: int, remedy: str, others_need: int = 0, beside: str = "") -> Wording:
    """Word a store that lacks room; `beside` names the stores on the same filesystem that need `others_need` too."""
    need, room = show_apart(needed, most)
    shared = f", and as much as {show_both(others_need)} goes to {beside} beside it" if beside else ""
    return f"writing needs {need} now; there is room for {room}{shared}", remedy


@rule(
    meaning="The store's disks, once filled, need more than the store has.",
    way_out="Move disks to the store that is named, or watch that they do not all fill up.",
)
def store_overpromised(promised: int, room: int, usable: int, lacking: int, remedy: str, beside: str = "") -> Wording:
    """Word a store whose disks promise more than `usable` of its `room`; `beside` names who shares its filesystem."""
    shared = f", as {beside} shares its filesystem" if beside else ""
    may = f"of its {show_both(room)}, {show_both(usable)} may be filled, which is {show_both(lacking)} too little"
    return f"its disks promise {show_both(promised)}; {may}{shared}", remedy


@rule(
    meaning="A store is given more room than its filesystem has.",
    way_out="Correct `room`, or leave it out: then what is free there counts.",
)
def store_room_beyond(room: int, total: int, free: int) -> Wording:
    """Word a store whose `room` in the sheet is more than its filesystem has in all."""
    given, there = show_apart(room, total)
    return (
        f"the sheet gives it {given}; its filesystem has {there}, {show_both(free)} of it free",
        "correct room, or leave it out",
    )


@rule(
    meaning="The image is larger than the files the store's filesystem can hold.",
    way_out="Use a store on a filesystem with larger files, or a smaller disk.",
)
def image_over_file_limit(size: int, filesystem: str, store: str, most: int) -> Wording:
    """Word an image that no file on the store's filesystem can hold."""
    return (
        f"its image has {show_bytes(size)}; a file on the {filesystem} of store {store} has at most {show_bytes(most)}",
        "use a store on a filesystem with larger files, or make the disk smaller",
    )
