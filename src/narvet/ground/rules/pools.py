"""Rules about pools, their members and their volumes. Sizes are bytes."""

from __future__ import annotations

from narvet.ground.findings import Wording, rule
from narvet.ground.units import show_both, show_bytes


@rule(
    meaning="A partition is too small to be a member of a pool: both copies of the pool's text need room.",
    way_out="Make it larger.",
)
def member_too_small(size: int, least: int) -> Wording:
    """Word a member without room for anything."""
    return f"a member of a pool has at least {show_bytes(least)}, and this one {show_bytes(size)}", "make it larger"


@rule(
    meaning="What tells that a partition is a member of a pool does not read.",
    way_out="Let its guest repair it, or put back a copy of the image.",
)
def member_damaged(why: str) -> Wording:
    """Word a member that does not read."""
    return why, "let its guest repair it, or put back a copy of the image"


@rule(
    meaning="A member of a pool is not among the sheet's disks, or its image is not there, so that volumes on it "
    "cannot be read, and nothing in the pool can be changed.",
    way_out="Put its disk back into the sheet, or its image back to where it was. A member that is to leave the pool "
    "loses its `pool` key first; the next write moves what lies on it, and then its disk can go.",
)
def member_missing(pool: str, member: str, hint: str) -> Wording:
    """Word a member that is not there."""
    return (
        f"{_called(member, pool, hint)} is on none of the sheet's disks",
        "put its disk back into the sheet; to take it out of the pool, first remove only its pool key, and write",
    )


def _called(member: str, pool: str, hint: str) -> str:
    return f"member {member} of pool {pool}{f', which a guest had as {hint},' if hint else ''}"


@rule(
    meaning="A member of a pool is on none of the images that were looked at, so that volumes on it cannot be read.",
    way_out="Name its image, too.",
)
def member_not_looked_at(pool: str, member: str, hint: str) -> Wording:
    """Word a member that is on no image of a call."""
    return f"{_called(member, pool, hint)} is on none of these images", "name its image, too"


@rule(
    meaning="A member of a pool is as if it were fresh, while the pool says that it has it: its image was made anew, "
    "and what the pool had on it is lost.",
    way_out="Put back the old image, or a copy of it; or make all of the pool's disks anew, and restore its files.",
)
def member_blank(pool: str, disk: str) -> Wording:
    """Word a member that was made anew under its pool."""
    return (
        f"the member of pool {pool} on disk {disk} is blank: it was made anew, and what the pool had on it is gone",
        "put back the old image; or make all disks of the pool anew, and restore its files",
    )


@rule(
    meaning="Two partitions carry the id of one member of a pool: one is a copy of the other, and guests would use "
    "whichever they find first.",
    way_out="Detach or retire the copy.",
)
def member_twice(pool: str, disk: str, other: str) -> Wording:
    """Word a member that is there twice."""
    return (
        f"disks {other} and {disk} carry the same member of pool {pool}: one is a copy of the other",
        "take the copy out of the sheet",
    )


@rule(
    meaning="The members of a pool lie on several hosts, as a write that moved its disks was cut off. It is not "
    "changed, nor are the entries of its guest, until they are together again.",
    way_out="Write once: the disks go where the sheet has them. Then write again for what else is asked.",
)
def pool_apart(pool: str) -> Wording:
    """Word a pool whose members are on their way from host to host."""
    return (
        f"the members of pool {pool} lie on several hosts; this write brings them together, and changes nothing in it",
        "write again afterwards",
    )


@rule(
    meaning="A pool has no room for a volume as large as asked: of what is free, a striped or mirrored volume can use "
    "only what lies on different members.",
    way_out="Ask for less, or add a disk to the pool.",
)
def pool_without_room(volume: str, asked: int, most: int) -> Wording:
    """Word a volume that is larger than its pool allows."""
    return (
        f"the pool has no room for {show_both(asked)} of volume {volume}; it can have {show_both(most)} at most",
        "ask for that much or less, or add a disk to the pool",
    )


@rule(
    meaning="A volume exists in a pool that the sheet does not have. It stays as it is.",
    way_out="Put it back into the sheet, or remove it: `narvet retire SHEET POOL.VOLUME`.",
)
def volume_left_over(pool: str, volume: str, size: int) -> Wording:
    """Word a volume that was taken out of the sheet."""
    return (
        f"volume {volume} of pool {pool}, {show_both(size)}, is not in the sheet; it stays as it is",
        f"put it back into the sheet, or remove it: narvet retire SHEET {pool}.{volume}",
    )


@rule(
    meaning="A new volume would be made, while one that the sheet no longer has looks as if it were the same one under "
    "its old name.",
    way_out="Give the old name with `was`, and the volume gets the new one. If a new one is meant, remove the old one "
    "first, or make the new one of another size.",
)
def volume_renamed(old: str, new: str) -> Wording:
    """Word a volume that seems to be another one under a new name."""
    return (
        f"volume {new} would be made empty, but volume {old}, which the sheet no longer has, is as large and of the "
        "same filesystem",
        f'if it is that volume, give it was = "{old}"; if a new one is meant, ask for another size',
    )


@rule(
    meaning="A pool, a member or a volume as it exists cannot become what the sheet asks.",
    way_out="Do what the finding says, or set the sheet back.",
)
def pool_cannot_be_changed(why: str, remedy: str) -> Wording:
    """Word something of a pool that cannot be changed."""
    return why, remedy


@rule(
    meaning="A volume lies on disks in several stores without a copy: if one of them is lost, so is the volume.",
    way_out='Keep its disks in one store, or mirror it: `spread = "mirrored"`.',
)
def volume_over_stores(volume: str, stores: tuple[str, ...]) -> Wording:
    """Word a volume that is lost with any of several stores."""
    return (
        f"volume {volume} lies on disks in stores {' and '.join(stores)}: without any of them it is lost",
        "keep its disks in one store, or mirror it",
    )


@volume_over_stores.worded
def copies_in_one_store(volume: str, store: str) -> Wording:
    """Word a mirrored volume whose copies are lost together."""
    return (
        f"all copies of volume {volume} lie in store {store}: they are lost together",
        "put the disks of one copy into another store",
    )


@rule(
    meaning="A copy of a mirrored volume failed, or was not complete when its guest was last off. Nothing in its pool "
    "is changed before that is mended.",
    way_out="Start the guest, and let it make the copies alike.",
)
def mirror_not_whole(volume: str, why: str) -> Wording:
    """Word a mirror that cannot be counted on."""
    return f"volume {volume} is mirrored, and {why}", "start its guest, and let it make the copies alike"


@rule(
    meaning="A mirrored volume is copied whole by the guest's kernel when it first starts, so that thin images on its "
    "further members take all of the volume's bytes.",
    way_out="Nothing need be done; count on it in the stores.",
)
def mirror_is_copied(volume: str, size: int) -> Wording:
    """Word what a first start does to a mirror."""
    return (
        f"the guest's kernel copies volume {volume} whole when it first starts: its images then take "
        f"{show_both(size)} each",
        "",
    )


@rule(
    meaning="A pool holds something of a kind that Narvet does not know; that stays as it is.",
    way_out="Let its guest change it.",
)
def volume_not_known(volume: str, kinds: str) -> Wording:
    """Word a volume of a kind that is not known."""
    return (
        f"volume {volume} is of a kind that is not known here ({kinds}); it stays as it is",
        "let its guest change it",
    )


@rule(
    meaning="The copies of a pool's text are not all alike; the newest one counts.",
    way_out="`narvet write SHEET` makes them alike.",
)
def texts_differ(pool: str) -> Wording:
    """Word copies of a text that are not alike."""
    return (
        f"the copies of the text of pool {pool} are not all alike; the newest one counts",
        "narvet write makes them alike",
    )
