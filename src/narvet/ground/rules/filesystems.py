"""Rules about filesystems, as they are found and as they are asked for. Sizes are bytes."""

from __future__ import annotations

from collections.abc import Sequence

from narvet.ground.findings import Wording, rule
from narvet.ground.units import show_apart, show_binary, show_both, show_bytes


@rule(
    meaning="Structures of a filesystem do not match their checksums or one another.",
    way_out="Copy the data off, or have the guest repair it, before relying on it.",
)
def filesystem_damaged(fault: str) -> Wording:
    """Word a structure that does not fit its checksum, its specification or another."""
    return fault, "copy the data off, or have the guest repair it, before relying on it"


@filesystem_damaged.worded
def swap_damaged(fault: str) -> Wording:
    """Word damage to swap."""
    return fault, "make it again: nothing in swap is lost"


@rule(
    meaning="A filesystem says that it is larger than its partition or disk.",
    way_out="Do not mount it. The partition or image was made smaller, or was cut short in a copy; fetch it again.",
)
def filesystem_past_end(size: int, there: int) -> Wording:
    """Word a filesystem of `size` that lies on only `there` bytes."""
    return (
        f"the filesystem says it has {show_bytes(size)}, but there are only {show_bytes(there)} for it",
        "do not mount it; the partition or the image was made smaller, or was cut short in a copy",
    )


@rule(
    meaning="A filesystem was not unmounted cleanly; its journal is replayed at the next mount.",
    way_out="Shut the guest down cleanly, or mount and unmount the filesystem once.",
)
def filesystem_needs_recovery() -> Wording:
    """Word a filesystem that is not marked as cleanly unmounted."""
    return (
        "the filesystem is in use or was not unmounted cleanly",
        "shut the guest down cleanly, or have it mount and unmount the filesystem once",
    )


@rule(
    meaning="A filesystem is of a kind or version whose structures Narvet does not check.",
    way_out="Nothing; have the guest check it where it matters.",
)
def filesystem_not_checked(reason: str) -> Wording:
    """Word a filesystem that is not checked in full."""
    return (
        f"it is not checked in full: {reason}",
        "have the guest check it where it matters; what it keeps is treated as all in use",
    )


@rule(
    meaning="The filesystem cannot be as large as its partition.",
    way_out="Make the partition smaller, or use several disks.",
)
def filesystem_too_large(reason: str, most: int) -> Wording:
    """Word a filesystem that is made with at most `most` bytes."""
    return reason, f"make the partition at most {show_bytes(most)}"


@filesystem_too_large.worded
def usable_too_large(reason: str) -> Wording:
    """Word a wish for more than any filesystem of this kind offers."""
    return reason, "ask for less, or for two disks"


@rule(
    meaning="The partition is too small for its filesystem.",
    way_out="Make the partition at least as large as the message says.",
)
def filesystem_too_small(reason: str, least: int) -> Wording:
    """Word a filesystem that needs `least` bytes."""
    return reason, f"make the partition at least {show_bytes(least)}"


@rule(
    meaning="The filesystem, table or guest does not have this setting, or not this value.",
    way_out="Leave the key out, or choose a value that the message names.",
)
def key_without_effect(key: str, owner: str, remedy: str = "") -> Wording:
    """Word a `key` that `owner` (a filesystem, a table) has nothing to set by."""
    return f"{owner} has no {key} to set", remedy or f"leave {key} out"


@key_without_effect.worded
def key_means_nothing(key: str, system: str) -> Wording:
    """Word a `key` that a guest's system has no use for."""
    return f"{key} means nothing to a guest that runs {system}", f"leave {key} out"


@key_without_effect.worded
def value_not_possible(reason: str, remedy: str) -> Wording:
    """Word a value that a filesystem cannot have."""
    return reason, remedy


@key_without_effect.worded
def unit_not_possible(filesystem: str, asked: int, units: Sequence[int]) -> Wording:
    """Word an allocation unit that a filesystem cannot have, with the `units` it can."""
    known = ", ".join(show_binary(unit) for unit in units)
    return (
        f"{filesystem} cannot have allocation units of {show_binary(asked)}; it can have {known}",
        "choose one of those, or leave block out",
    )


@rule(
    meaning="A label has characters that its filesystem cannot store.",
    way_out="Use letters and digits.",
)
def label_not_possible(label: str, filesystem: str) -> Wording:
    """Word a label that a filesystem cannot store."""
    return f'"{label}" has characters that {filesystem} cannot store', "use letters and digits"


@rule(
    meaning="A label has more characters than its filesystem or table can store.",
    way_out="Choose a shorter label: 16 bytes of UTF-8 for ext4 and swap, 12 for xfs, 11 characters for fat32 and "
    "exfat, 32 for ntfs, 36 UTF-16 units for GPT.",
)
def label_too_long(label: str, owner: str, length: int, limit: int) -> Wording:
    """Word a label that takes `length` where `owner` stores `limit`."""
    return f'"{label}" takes {length}; {owner} stores labels of at most {limit}', "choose a shorter label"


@rule(
    meaning="The purpose calls for files larger than the filesystem can hold.",
    way_out="Use a filesystem without that limit: fat32 ends at 4 GiB a file.",
)
def file_limit(filesystem: str, largest_file: int, purpose: str, others: str) -> Wording:
    """Word a filesystem whose largest file is too small for a purpose; `others` are filesystems that would do."""
    return (
        f"a file on {filesystem} has at most {show_bytes(largest_file)}, which files of the purpose {purpose} outgrow",
        f"use {others}",
    )


@rule(
    meaning="The guest's system uses such a filesystem at this size, but cannot make one.",
    way_out="Use exfat or ntfs, or accept that the guest cannot make it again.",
)
def larger_than_guest_makes(filesystem: str, size: int, most: int) -> Wording:
    """Word a filesystem that the guest uses, but could not make at this size."""
    there, limit = show_apart(size, most)
    return (
        f"Windows uses a {filesystem} of {there}, but itself makes none over {limit}, so that the guest could not make "
        "it anew",
        "use exfat or ntfs, or a smaller partition",
    )


@rule(
    meaning="With clusters of this size NTFS cannot do something that it can do with smaller or larger ones.",
    way_out="Nothing, if that is as wanted; else choose another `block`.",
)
def cluster_limits(cluster: int, compressed_up_to: int) -> Wording:
    """Word clusters that are too large for compressed files."""
    return (
        f"with clusters of {show_binary(cluster)} the guest cannot compress files on it; it can with "
        f"{show_binary(compressed_up_to)} or less",
        "",
    )


@cluster_limits.worded
def growth_limited(cluster: int, most: int) -> Wording:
    """Word clusters that are too small for much growth."""
    return (
        f"with clusters of {show_binary(cluster)} it can grow to {show_both(most)}, not further",
        "choose a larger allocation unit if it is to grow beyond",
    )
