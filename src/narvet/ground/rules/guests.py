"""Rules about guests: roots, owners, mount points, entries, and what their systems can use. Sizes are bytes."""

from __future__ import annotations

from collections.abc import Sequence

from narvet.ground.findings import Wording, rule
from narvet.ground.units import counted


@rule(
    meaning="The guest's root folder does not exist or cannot be read.",
    way_out="Correct `root`, or leave it out and paste the entries by hand.",
)
def root_missing(reason: str) -> Wording:
    """Word a root that cannot be read."""
    return reason, "correct root, or leave it out and paste the entries by hand"


@rule(
    meaning="The guest's root lies in an image whose filesystem may not be changed now: a guest has it open, did not "
    "shut down, or keeps something in it that is not known here.",
    way_out="Start the guest and shut it down cleanly, then write again.",
)
def root_not_changeable(root: str, reason: str) -> Wording:
    """Word a root that nothing may be written to."""
    return (
        f"nothing can be changed in {root}: {reason}",
        "start the guest and shut it down cleanly, or leave root out and paste the entries by hand",
    )


@rule(
    meaning="Entries that were written for this sheet are in a root that is no guest's root now; a guest that starts "
    "from it still mounts those disks.",
    way_out="Remove the entries there, or remove that root if no guest starts from it any more.",
)
def root_left(root: str, count: int) -> Wording:
    """Word a root that `count` entries were left in."""
    verb = "is" if count == 1 else "are"
    return (
        f"{counted(count, 'entry', 'entries')} of this sheet {verb} left in {root}, which is no guest's root now",
        "remove them there, or remove that root if no guest starts from it any more",
    )


@rule(
    meaning="This Windows keeps disks that it sees for the first time offline, so that they get no letters.",
    way_out='Say new_disks = "online" for the guest, or bring the disks online in it.',
)
def new_disks_offline(guest: str) -> Wording:
    """Word a Windows that does not use new disks."""
    return (
        f"guest {guest} keeps new disks offline by its policy for them",
        'say new_disks = "online", or bring them online in the guest',
    )


@rule(
    meaning="A link in the guest's root leads out of it or in circles; Narvet does not follow it.",
    way_out="Put a plain file in the link's place.",
)
def root_unsafe(reason: str) -> Wording:
    """Word a link that is not followed."""
    return reason, "put a plain file in the link's place"


@rule(
    meaning="The owner is not a user or group of the guest.",
    way_out="Correct the name, make the account in the guest first, or give numbers; for Windows a SID.",
)
def owner_unknown(owner: str, guest: str, *, accounts_known: bool) -> Wording:
    """Word an owner that a Linux guest does not have, or that cannot be looked up without its root."""
    unknown = "" if accounts_known else ", whose users are not known without its root"
    return (
        f'"{owner}" is not a user and group of guest {guest}{unknown}',
        'correct the name, make the account in the guest first, or give numbers, such as "1200:1200"',
    )


@owner_unknown.worded
def account_unknown(name: str) -> Wording:
    """Word a Windows account that is another one on every machine."""
    return (
        f'"{name}" is not a name that means the same on every Windows machine',
        'give its SID ("S-1-5-21-1-2-3-1001"), a service ("NT SERVICE\\name"), or a name such as "Users"',
    )


@rule(
    meaning="A mount point has another owner, which only the superuser can change.",
    way_out="Nothing while the disk is mounted, as its own root counts then. Write as root to have it set.",
)
def owner_not_set(at: str, found: str, asked: str) -> Wording:
    """Word a mount point whose owner this user cannot change."""
    return (
        f"the folder {at} belongs to {found}, not to {asked}, which only the superuser can change; once mounted, the "
        "disk's own root counts",
        "write as root to have it set",
    )


@rule(
    meaning="The mount point cannot be made in the guest, or is not one for its system.",
    way_out="Choose another mount point: a path for Linux; for Windows a letter, or a folder on an ntfs volume of "
    "the sheet.",
)
def mount_point_not_possible(reason: str, remedy: str = "choose another mount point") -> Wording:
    """Word a mount point that cannot be made."""
    return reason, remedy


@rule(
    meaning="Two filesystems of the sheet would be mounted at the same place.",
    way_out="Give one of them another mount point.",
)
def mount_point_twice(at: str, other: str) -> Wording:
    """Word a mount point that two filesystems are to have; `other` is the place of the first one."""
    return f"{at} is already the mount point of {other}", "give one of them another mount point"


@rule(
    meaning="One mount point is inside another filesystem of the sheet.",
    way_out="Make the folder on the outer filesystem after the first start, or choose a mount point beside it.",
)
def mount_points_nested(at: str, outer: str) -> Wording:
    """Word a mount point on a filesystem that is empty at first; `outer` is that one's place."""
    return (
        f"{at} is inside the filesystem of {outer}, which is empty when it is first mounted",
        "make the folder there after the first start, or choose a mount point beside it",
    )


@rule(
    meaning="The guest's folder at the mount point holds files, which the mount will hide.",
    way_out="Move the files to the disk after the first start, or choose an empty folder.",
)
def mount_point_not_empty(at: str) -> Wording:
    """Word a mount point that holds files."""
    return (
        f"{at} holds files in the guest's root, which cannot be reached while the disk is mounted over them",
        "move them to the disk after the first start, or choose an empty folder",
    )


@rule(
    meaning="The guest already mounts something else at this place.",
    way_out="Remove that line of fstab, or choose another mount point or letter.",
)
def mount_point_in_use(line: int, source: str, at: str) -> Wording:
    """Word a mount point that a line of the guest's fstab has."""
    return (
        f"line {line} of the guest's fstab mounts {source} at {at}",
        "remove that line, or choose another mount point",
    )


@mount_point_in_use.worded
def letter_in_use(letter: str, guest: str, taken: Sequence[str]) -> Wording:
    """Word a letter that the guest has in use."""
    return (
        f"{letter} is one of the letters that guest {guest} has in use: {', '.join(taken)}",
        "choose another letter, or correct the guest's letters",
    )


@rule(meaning="The letter is one that Windows keeps for something else.", way_out="Choose a letter from D: on.")
def letter_reserved(letter: str) -> Wording:
    """Word a letter for diskettes."""
    return (
        f"Windows keeps {letter} for diskettes, and some programs pass it over",
        "choose a letter from D: on",
    )


@rule(
    meaning="The guest may give a volume any letter by itself.",
    way_out="Give it a letter, or use a GPT, which can say that it is to have none.",
)
def letter_by_guest() -> Wording:
    """Word a volume on an MBR without a letter."""
    return (
        "the guest gives it the next free letter: an MBR cannot say that it is to have none",
        "give it a letter, or use a GPT",
    )


@rule(
    meaning="The guest's fstab already mounts a filesystem with the same UUID elsewhere.",
    way_out="Remove that line of fstab, or give the sheet its mount point.",
)
def uuid_in_use(line: int, source: str, there: str, wanted: str) -> Wording:
    """Word a filesystem that a line of fstab mounts elsewhere."""
    return (
        f"line {line} of the guest's fstab mounts {source} at {there}, not at {wanted}",
        "remove that line, or give the sheet its mount point",
    )


@rule(meaning="The guest's fstab already mounts a filesystem by the same label.", way_out="Choose another label.")
def label_in_use(line: int, source: str) -> Wording:
    """Word a line of fstab that would mount the new filesystem by its label."""
    return (
        f"line {line} of the guest's fstab mounts {source}, which would fit this disk as well",
        "choose another label",
    )


@rule(
    meaning="The guest's fstab already mounts this filesystem there, with other options; they stay as they are.",
    way_out="Nothing. Someone has chosen other mount options, and they stay.",
)
def entry_kept(line: int, kind: str, options: str) -> Wording:
    """Word a line of fstab that mounts the same in another way."""
    return f"line {line} of the guest's fstab mounts it with {kind} and {options}; it is kept so", ""


@rule(
    meaning="A file that Narvet did not write is where a Windows guest's registry text must go.",
    way_out="Move it away, or name the sheet or the guest differently.",
)
def entries_in_the_way(reason: str) -> Wording:
    """Word a file where the registry text is to be."""
    return reason, "move it away, or name the sheet or the guest differently"


@rule(
    meaning="The guest's system cannot use such a table or filesystem.",
    way_out="Use one that the message names.",
)
def not_for_guest(reason: str, remedy: str) -> Wording:
    """Word what a guest's system cannot use."""
    return reason, remedy


@rule(
    meaning="The guest's version of its system cannot use what is asked.",
    way_out="Use what the message names: Windows has GPT data disks from 5.2, exfat from 6.0, 4096-byte sectors "
    "from 6.2, clusters over 64 KiB from 10.0.16299 on, Linux xfs as it is made here from 5.10; controllers: "
    "docs/sheet.md.",
)
def guest_too_old(what: str, needed: str, version: str, remedy: str) -> Wording:
    """Word what a guest's system has only from version `needed` on."""
    return f"{what} needs {needed}; the guest has {version}", remedy
