"""What a review or survey has to say: each finding follows a named rule and carries a way out."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Level = Literal["error", "warning", "note"]

RULES: dict[str, str] = {
    "base-changed": "The base of a child is not the image the child was made from.",
    "base-in-use": "A disk of the sheet is the base of another, and would change under it.",
    "bytes-not-known": "Nothing that Narvet can read lies on the disk.",
    "cluster-limits": "The size of an NTFS's clusters keeps it from something that smaller or larger ones allow.",
    "disk-too-small": "The disk cannot hold its partition table and the partitions asked for.",
    "entries-in-the-way": "A file that is not Narvet's lies where a Windows guest's registry text is to be written.",
    "entry-kept": "The guest's fstab already mounts this filesystem there, in words of its own, which are kept.",
    "file-limit": "The purpose calls for files larger than the filesystem can hold.",
    "filesystem-damaged": "Structures of a filesystem do not match their checksums or one another.",
    "filesystem-needs-recovery": "A filesystem was not unmounted cleanly; its journal is replayed at the next mount.",
    "filesystem-not-checked": "A filesystem is of a kind or version whose structures Narvet does not check.",
    "filesystem-past-end": "A filesystem says it is larger than what it lies on.",
    "filesystem-too-large": "The filesystem cannot be as large as its partition.",
    "filesystem-too-small": "The partition is too small for its filesystem.",
    "guest-too-old": "The guest's version of its system cannot use what is asked.",
    "ids-twice": "Two disks of a guest carry the same ids, so that it cannot tell them apart.",
    "image-blank": "Nothing has been written to the image yet.",
    "image-cannot-be-read": "What lies where an image should be is not one that can be read.",
    "image-damaged": "An image breaks its format's specification, or uses what cannot be read yet.",
    "image-differs": "An image of this sheet's exists, but is laid out differently from what the sheet now asks.",
    "image-empty": "The image holds no bytes at all.",
    "image-in-the-way": "A file Narvet did not make lies where an image is to be written.",
    "image-over-file-limit": "The image is larger than the files the store's filesystem can hold.",
    "larger-than-guest-makes": "The guest's system uses such a filesystem at this size, but cannot make one.",
    "letter-by-guest": "Nothing keeps the guest from giving a volume a letter of its own choice.",
    "letter-reserved": "The letter is one that Windows keeps for something else.",
    "label-in-use": "The guest's fstab already mounts a filesystem by the same label.",
    "key-not-heeded": "Filesystem, table or guest have no such thing to set, or not to this value.",
    "label-not-possible": "A label has characters that its filesystem cannot store.",
    "label-too-long": "A label has more characters than its filesystem or table can store.",
    "mount-point-in-use": "The guest already mounts something else at this place.",
    "mount-point-not-empty": "The guest's folder at the mount point holds files, which the mount will hide.",
    "mount-point-not-possible": "The mount point cannot be made in the guest, or is not one for its system.",
    "mount-point-twice": "Two filesystems of the sheet would be mounted at the same place.",
    "mount-points-nested": "One mount point lies inside another filesystem of the sheet.",
    "not-for-guest": "The guest's system cannot use such a table or filesystem.",
    "no-slot-left": "The guest's controllers have no free slot for the disk.",
    "origin-unfit": "The image that a disk is to be a copy or a child of is missing or does not fit.",
    "owner-unknown": "The owner is not a user or group of the guest.",
    "partition-misaligned": "A partition does not start on a 4096-byte boundary, which makes writes slow.",
    "partition-past-end": "A partition ends after the last byte a partition may use.",
    "partitions-overlap": "Two partitions claim the same bytes.",
    "rest-is-empty": "No space is left for the partition that was to take the rest.",
    "root-missing": "The guest's root folder does not exist or cannot be read.",
    "root-unsafe": "A link in the guest's root leads out of it or in circles; Narvet does not follow it.",
    "size-over-table": "There are more partitions, or more bytes, than the partition table can describe.",
    "size-over-format": "The image's format, or its sectors or blocks, do not allow what is asked.",
    "size-rounded": "A size is not one that the sectors or the image format can have, and was rounded up.",
    "slot-not-offered": "The guest's controllers do not offer the slot.",
    "slot-taken": "The slot is already taken in the guest.",
    "store-missing": "The store's folder does not exist.",
    "store-not-writable": "The store's folder cannot be written to.",
    "store-overpromised": "The store's disks, once filled, need more than the store has.",
    "store-without-room": "The store has too little room for what is to be written now.",
    "table-cut-short": "The disk ends before the place where its table says it ends.",
    "table-damaged": "A copy of the partition table does not match its checksums or its specification.",
    "table-not-at-end": "The partition table's second copy is not in the disk's last sectors.",
    "uuid-in-use": "The guest's fstab already mounts a filesystem with the same UUID elsewhere.",
    "zone-differs": "The disk's store and its guest are in different zones.",
}


@dataclass(frozen=True)
class Finding:
    """One thing to be said about a sheet or an image.

    `where` names the place in the reader's terms (`disk.trials.partition 2`, a path), `message` holds the numbers, and
    `remedy` is what to do, empty only for a note that asks for nothing.
    """

    rule: str
    level: Level
    where: str
    message: str
    remedy: str = ""

    def __post_init__(self) -> None:
        if self.rule not in RULES:
            raise ValueError(f"{self.rule} is not a rule")


def has_errors(findings: tuple[Finding, ...] | list[Finding]) -> bool:
    """Return whether any finding forbids going on."""
    return any(finding.level == "error" for finding in findings)
