"""Rules about the disks of a sheet: their images, origins and partitions. Sizes are bytes."""

from __future__ import annotations

from narvet.ground.findings import Wording, rule
from narvet.ground.units import show_apart, show_bytes


@rule(
    meaning="A disk of the sheet is the base of another, and would change under it.",
    way_out="Take a copy as the base, or take that disk out of the sheet.",
)
def base_in_use(disk: str) -> Wording:
    """Word a base that a guest writes to."""
    return (
        f"it is the image of disk {disk}, which its guest writes to; a base must not change",
        "take a copy of it as the base, or take that disk out of the sheet",
    )


@rule(
    meaning="What is on a disk cannot become what the sheet now asks: it is not clean, not known well enough, or "
    "would be larger than it can be.",
    way_out="Do what the finding says, or set the sheet back.",
)
def cannot_be_changed(why: str, remedy: str) -> Wording:
    """Word something that exists and cannot be changed as asked."""
    return why, f"{remedy}; or leave it as it is"


@cannot_be_changed.worded
def changes_places(there: str, asked: str, other: int) -> Wording:
    """Word a partition that is to be mounted where number `other` of its disk is: most likely that one is meant."""
    return (
        f"it is mounted at {there}, and would be mounted at {asked}, where the files of partition {other} are",
        "list the partitions in the order that they have on the disk; to change mount points about, go by a third one",
    )


@cannot_be_changed.worded
def smaller_and_elsewhere(there: str, asked: str) -> Wording:
    """Word a partition that is to become smaller and is mounted elsewhere: most likely another partition is meant."""
    return (
        f"it is mounted at {there}, and would become smaller and be mounted at {asked}, where its files never were",
        "list the partitions in the order that they have on the disk, or change one thing after the other",
    )


@rule(
    meaning="An image of this sheet exists whose disk the sheet no longer has.",
    way_out="Put the disk back into the sheet; or `narvet retire SHEET NAME`, if it is no longer needed.",
)
def disk_left_over(path: str, disk: str) -> Wording:
    """Word an image whose disk was taken out of the sheet."""
    return (
        f"{path} is the image of disk {disk}, which the sheet no longer has",
        f"put the disk back into the sheet; or retire {disk}, if it is no longer needed",
    )


@rule(
    meaning="A disk would be made empty, while the image of a disk that was taken out of the sheet has the same "
    "layout.",
    way_out="Give the old name with `was`, and its image gets the new name. If a new one is meant, "
    "`narvet write --anew NAME` makes it.",
)
def disk_renamed(path: str, old: str, new: str) -> Wording:
    """Word a disk that seems to be another one under a new name."""
    return (
        f"it would be made empty, but {path} is the image of disk {old}, which the sheet no longer has, and is laid "
        "out alike",
        f'if it is that disk, give it was = "{old}"; if a new one is meant, write with --anew {new}',
    )


@rule(
    meaning="A disk would be made empty, while its image exists somewhere else: its store, format or name was changed.",
    way_out="Set the sheet back, or move the image to where the sheet has it now. If a new one is meant, "
    "`narvet write --anew NAME` makes it.",
)
def image_elsewhere(disk: str, path: str, format_name: str, remedy: str) -> Wording:
    """Word a disk whose image exists elsewhere."""
    return (
        f"its image exists already, at {path}, of format {format_name}; a new one would be empty",
        f"{remedy}; if a new one is meant, write with --anew {disk}",
    )


@rule(
    meaning="A move of the disk was cut off, and left a further image of it.",
    way_out="`narvet write` compares the two, and removes this one if they hold the same. If they differ, see which of "
    "them is the disk's, and move the other one away.",
)
def image_left_by_move(path: str, kept: str) -> Wording:
    """Word a further image of a disk."""
    return f"a move that was cut off left {path}; the disk is {kept}", "write: it goes if both hold the same"


@rule(
    meaning="The ledger or the guest's entries say that a disk was made earlier, but its image is not found.",
    way_out="Put the image back. If it is gone for good, `narvet write --anew NAME` makes a new one.",
)
def image_missing(disk: str, path: str, made_at: str) -> Wording:
    """Word a disk that was made `made_at` a path, by the ledger, or that its guest mounts, if that is empty."""
    known = f"the ledger says that it was made at {made_at}" if made_at else "its guest mounts it"
    return (
        f"{known}, but its image is not found; a new one would be empty",
        f"put the image back at {path}; if it is gone for good, write with --anew {disk}",
    )


@rule(
    meaning="An image of this sheet exists, but is laid out differently from what the sheet now asks.",
    way_out="Set the sheet back to what the image is, or move the image away to have a new one made.",
)
def image_differs(path: str, differences: str) -> Wording:
    """Word an image that is not as the sheet has it now."""
    return (
        f"its image {path} was made differently: {differences}",
        "set the sheet back to what the image is, or move the image away to have a new one made",
    )


@rule(
    meaning="A file that Narvet did not make is where an image is to be written.",
    way_out="Move the file away, or give the disk another name or store. Narvet never overwrites it.",
)
def image_in_the_way(path: str, what: str) -> Wording:
    """Word a file that has the image's name."""
    return (
        f"{path} is there already: {what}, not made for this disk",
        "move it away, or give the disk another name or store",
    )


@rule(
    meaning="Something that guests change in use, such as owner, mode or rights, is not as the sheet has it.",
    way_out="Change it in the guest, or set the sheet to what it is. Narvet leaves it as it is.",
)
def not_as_asked(what: str, asked: str, found: str) -> Wording:
    """Word what a guest may have changed."""
    return (
        f"{what} is {found}, not {asked}; Narvet leaves it as it is",
        "change it in the guest, or set the sheet to what it is",
    )


@rule(
    meaning="Two disks of a guest carry the same ids, so that it cannot tell them apart.",
    way_out="Give them to different guests, or attach one at a time.",
)
def ids_twice(other: str) -> Wording:
    """Word a disk that looks to its guest like another one."""
    return (
        f"it carries the same table id and UUIDs as disk {other} of the same guest, which mixes them up",
        "give them to different guests, or attach one at a time",
    )


@rule(
    meaning="The image that a disk is to be a copy or a child of is missing or does not fit.",
    way_out="Correct the path, or repair what is there.",
)
def origin_unfit(reason: str) -> Wording:
    """Word an origin that cannot be used."""
    return reason, "correct the path, or repair what is there"


@origin_unfit.worded
def copy_too_small(origin: int, asked: int) -> Wording:
    """Word a copy that is asked for smaller than its origin."""
    there, wanted = show_apart(origin, asked)
    return (
        f"the disk it is a copy of has {there}, more than the {wanted} asked for",
        "ask for at least as much, or leave size out",
    )


@rule(meaning="The disk cannot hold its partition table and the partitions asked for.", way_out="Make the disk larger.")
def disk_too_small() -> Wording:
    """Word a disk that does not hold its table."""
    return "the disk cannot hold even its partition table", "make the disk larger"


@rule(
    meaning="No space is left for the partition that was to take the rest.",
    way_out="Make the disk larger or another partition smaller.",
)
def rest_is_empty() -> Wording:
    """Word a partition for which nothing is left."""
    return "nothing is left for it on the disk", "make the disk larger or another partition smaller"


@rule(
    meaning="There are more partitions, or more bytes, than the partition table can describe.",
    way_out="Spread the partitions over more disks.",
)
def size_over_table(asked: int, table: str, most: int) -> Wording:
    """Word more partitions than a table holds."""
    return f"{asked} partitions are asked for; {table} holds {most}", "spread them over more disks"


@size_over_table.worded
def disk_past_table(table: str, reach: int, sector_size: int, size: int) -> Wording:
    """Word a disk larger than its table can `reach`."""
    limit, there = show_apart(reach, size)
    return (
        f"{table} reaches {limit} with sectors of {sector_size} bytes; the disk has {there}, whose rest no partition "
        "could use",
        'use table = "gpt", or a smaller disk',
    )


@rule(
    meaning="The disk's store and its guest are in different zones.",
    way_out="Keep the disk in a store of the guest's zone.",
)
def zone_differs(store: str, store_zone: str, guest: str, guest_zone: str) -> Wording:
    """Word a disk kept in another zone than its guest's."""
    return (
        f"store {store} is in zone {store_zone}, guest {guest} in zone {guest_zone}",
        "keep the disk in a store of the guest's zone",
    )


def file_of(size: int) -> str:
    """Return what a file is called that is in an image's way."""
    return f"a file of {show_bytes(size)}"


@rule(
    meaning="A partition would reach into the one behind it, which cannot be moved.",
    way_out="Leave its size as it is, or put what needs room on a disk of its own.",
)
def neighbour_in_the_way(end: int, start: int) -> Wording:
    """Word a partition that is to end at byte `end`, while the next one starts at byte `start`."""
    return (
        f"it would end at {show_bytes(end)}, but the next partition starts at {show_bytes(start)}",
        "leave its size as it is, or put what needs room on a disk of its own",
    )


@rule(
    meaning="A partition that takes the rest of the disk cannot have all of it, as another one is behind it.",
    way_out="List it last on a new disk, or add a partition that uses what is free.",
)
def rest_ends_early(size: int, next_start: int) -> Wording:
    """Word a partition that is to have `size` bytes, while the next one starts at byte `next_start`."""
    return (
        f"it was to take the rest, {show_bytes(size)}, but the next partition starts at {show_bytes(next_start)}; "
        "what is free elsewhere stays unused",
        "add a partition there, or make a new disk and copy the files",
    )


@rule(
    meaning="A disk starts from another disk of the sheet, which is not written yet and is not to be written now.",
    way_out="Name that disk too, or write the whole sheet.",
)
def start_not_written(disk: str) -> Wording:
    """Word a disk that starts from one which is left out."""
    return f"it starts from disk {disk}, which is not written yet", f"add --only {disk}, or write the whole sheet"


@rule(
    meaning="A partition becomes larger by less than the filesystem on it can make use of.",
    way_out="Nothing: its guest shows what it showed. Ask for more to have the filesystem grow as well.",
)
def too_little_to_grow(kind: str, unit: int, added: int) -> Wording:
    """Word a partition that is made larger by `added` bytes, of which its filesystem makes no use."""
    return (
        f"{show_bytes(added)} more are too little for the {kind} on it, which grows in units of at least "
        f"{show_bytes(unit)}; its guest shows what it showed",
        "",
    )
