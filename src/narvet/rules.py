"""The rules that findings follow: what each means, and the way out. docs/findings.md is made from them."""

from __future__ import annotations

from typing import NamedTuple

_HEAD = """# The findings

A finding has a level (error, warning, note), a rule, a place, a message with the numbers, and a remedy. An error stops
`write` before anything is written. `narvet explain RULE` tells the same.

| rule | what it means | the way out |
|---|---|---|"""


class Rule(NamedTuple):
    """What a finding by this rule means, and what can be done about it; text in backquotes is as in a sheet."""

    meaning: str
    way_out: str


RULES: dict[str, Rule] = {
    "base-changed": Rule(
        "The base of a child is not the image the child was made from.",
        "Put back the base as it was; what the child holds fits no other.",
    ),
    "base-elsewhere": Rule(
        "A child names a base in another folder. An image may name any file, so such a base is not followed unasked.",
        'If it is the right one, name it: `--base "FILE"`.',
    ),
    "base-in-use": Rule(
        "A disk of the sheet is the base of another, and would change under it.",
        "Take a copy as the base, or take that disk out of the sheet.",
    ),
    "bytes-not-known": Rule(
        "Nothing that Narvet can read lies on the disk.",
        "If the disk is meant to be empty, make a new one. Encrypted disks and formats Narvet does not read "
        "look like this.",
    ),
    "cluster-limits": Rule(
        "The size of an NTFS's clusters keeps it from something that smaller or larger ones allow.",
        "Nothing, if that is as wanted; else choose another `block`.",
    ),
    "disk-left-over": Rule(
        "An image of this sheet exists whose disk the sheet no longer has.",
        "Put the disk back into the sheet, and retire it if it is no longer needed; or move the image away.",
    ),
    "disk-renamed": Rule(
        "A disk would be made empty, while the image of a disk that was taken out of the sheet is laid out alike.",
        "Give the disk its old name. If a new one is meant, `narvet write --anew NAME` makes it.",
    ),
    "disk-too-small": Rule(
        "The disk cannot hold its partition table and the partitions asked for.",
        "Make the disk larger.",
    ),
    "entries-in-the-way": Rule(
        "A file that is not Narvet's lies where a Windows guest's registry text is to be written.",
        "Move it away, or name the sheet or the guest differently.",
    ),
    "entry-kept": Rule(
        "The guest's fstab already mounts this filesystem there, in words of its own, which are kept.",
        "Nothing. Someone has chosen other mount options, and they stay.",
    ),
    "file-limit": Rule(
        "The purpose calls for files larger than the filesystem can hold.",
        "Use a filesystem without that limit: fat32 ends at 4 GiB a file.",
    ),
    "filesystem-damaged": Rule(
        "Structures of a filesystem do not match their checksums or one another.",
        "Copy the data off, or have the guest repair it, before relying on it.",
    ),
    "filesystem-needs-recovery": Rule(
        "A filesystem was not unmounted cleanly; its journal is replayed at the next mount.",
        "Shut the guest down cleanly, or mount and unmount the filesystem once.",
    ),
    "filesystem-not-checked": Rule(
        "A filesystem is of a kind or version whose structures Narvet does not check.",
        "Nothing; have the guest check it where it matters.",
    ),
    "filesystem-past-end": Rule(
        "A filesystem says it is larger than what it lies on.",
        "Do not mount it. The partition or image was made smaller, or was cut short in a copy; fetch it again.",
    ),
    "filesystem-too-large": Rule(
        "The filesystem cannot be as large as its partition.",
        "Make the partition smaller, or use several disks.",
    ),
    "filesystem-too-small": Rule(
        "The partition is too small for its filesystem.",
        "Make the partition at least as large as the message says.",
    ),
    "guest-too-old": Rule(
        "The guest's version of its system cannot use what is asked.",
        "Use what the message names: Windows has GPT data disks from 5.2, exfat from 6.0, 4096-byte sectors "
        "from 6.2, clusters over 64 KiB from 10.0.16299 on.",
    ),
    "ids-twice": Rule(
        "Two disks of a guest carry the same ids, so that it cannot tell them apart.",
        "Give them to different guests, or attach one at a time.",
    ),
    "image-blank": Rule(
        "Nothing has been written to the image yet.",
        "Nothing; it is an empty disk.",
    ),
    "image-cannot-be-read": Rule(
        "What lies where an image should be is not one that can be read.",
        "Move away what lies there.",
    ),
    "image-damaged": Rule(
        "An image breaks its format's specification, or uses what cannot be read yet.",
        "Fetch it again, or repair it where it was made.",
    ),
    "image-differs": Rule(
        "An image of this sheet's exists, but is laid out differently from what the sheet now asks.",
        "Set the sheet back to what the image is, or move the image away to have a new one made.",
    ),
    "image-elsewhere": Rule(
        "A disk would be made empty, while its image exists somewhere else: its store, format or name was changed.",
        "Set the sheet back, or move the image to where the sheet has it now. If a new one is meant, "
        "`narvet write --anew NAME` makes it.",
    ),
    "image-empty": Rule(
        "The image holds no bytes at all.",
        "Write it anew, or fetch it again.",
    ),
    "image-in-the-way": Rule(
        "A file Narvet did not make lies where an image is to be written.",
        "Move the file away, or give the disk another name or store. Narvet never overwrites it.",
    ),
    "image-missing": Rule(
        "A disk was made earlier, by the ledger or by its guest's entries, but its image is gone.",
        "Put the image back. If it is gone for good, `narvet write --anew NAME` makes a new one.",
    ),
    "image-over-file-limit": Rule(
        "The image is larger than the files the store's filesystem can hold.",
        "Use a store on a filesystem with larger files, or a smaller disk.",
    ),
    "key-without-effect": Rule(
        "Filesystem, table or guest have no such thing to set, or not to this value.",
        "Leave the key out, or choose a value that the message names.",
    ),
    "label-in-use": Rule(
        "The guest's fstab already mounts a filesystem by the same label.",
        "Choose another label.",
    ),
    "label-not-possible": Rule(
        "A label has characters that its filesystem cannot store.",
        "Use letters and digits.",
    ),
    "label-too-long": Rule(
        "A label has more characters than its filesystem or table can store.",
        "Choose a shorter label: 16 bytes of UTF-8 for ext4 and swap, 12 for xfs, 11 characters for fat32 and "
        "exfat, 32 for ntfs, 36 UTF-16 units for GPT.",
    ),
    "larger-than-guest-makes": Rule(
        "The guest's system uses such a filesystem at this size, but cannot make one.",
        "Use exfat or ntfs, or accept that the guest cannot make it anew.",
    ),
    "letter-by-guest": Rule(
        "Nothing keeps the guest from giving a volume a letter of its own choice.",
        "Give it a letter, or use a GPT, which can say that it is to have none.",
    ),
    "letter-reserved": Rule(
        "The letter is one that Windows keeps for something else.",
        "Choose a letter from D: on.",
    ),
    "mount-point-in-use": Rule(
        "The guest already mounts something else at this place.",
        "Remove that line of fstab, or choose another mount point or letter.",
    ),
    "mount-point-not-empty": Rule(
        "The guest's folder at the mount point holds files, which the mount will hide.",
        "Move the files to the disk after the first start, or choose an empty folder.",
    ),
    "mount-point-not-possible": Rule(
        "The mount point cannot be made in the guest, or is not one for its system.",
        "Choose another mount point: a path for Linux; for Windows a letter, or a folder on an ntfs volume of "
        "the sheet.",
    ),
    "mount-point-twice": Rule(
        "Two filesystems of the sheet would be mounted at the same place.",
        "Give one of them another mount point.",
    ),
    "mount-points-nested": Rule(
        "One mount point lies inside another filesystem of the sheet.",
        "Make the folder on the outer filesystem after the first start, or choose a mount point beside it.",
    ),
    "no-slot-left": Rule(
        "The guest's controllers have no free slot for the disk.",
        "Give the guest another controller, and its slots in the sheet.",
    ),
    "not-as-asked": Rule(
        "Something that guests change in use, such as owner, mode or rights, is not as the sheet has it.",
        "Change it in the guest, or set the sheet to what it is. Narvet leaves it as it is.",
    ),
    "not-for-guest": Rule(
        "The guest's system cannot use such a table or filesystem.",
        "Use one that the message names.",
    ),
    "origin-unfit": Rule(
        "The image that a disk is to be a copy or a child of is missing or does not fit.",
        "Correct the path, or repair what is there.",
    ),
    "owner-not-set": Rule(
        "A mount point has another owner, which only the superuser can change.",
        "Nothing while the disk is mounted, as its own root counts then. Write as root to have it set.",
    ),
    "owner-unknown": Rule(
        "The owner is not a user or group of the guest.",
        "Correct the name, make the account in the guest first, or give numbers; for Windows a SID.",
    ),
    "partition-misaligned": Rule(
        "A partition does not start on a 4096-byte boundary, which makes writes slow.",
        'Use `align = "1 MiB"`.',
    ),
    "partition-past-end": Rule(
        "A partition ends after the last byte a partition may use.",
        'Give the partition `size = "rest"`, or make the disk larger. The table takes a little at both ends.',
    ),
    "partitions-overlap": Rule(
        "Two partitions claim the same bytes.",
        "Write to neither; copy off what is readable.",
    ),
    "rest-is-empty": Rule(
        "No space is left for the partition that was to take the rest.",
        "Make the disk larger or another partition smaller.",
    ),
    "root-missing": Rule(
        "The guest's root folder does not exist or cannot be read.",
        "Correct `root`, or leave it out and paste the entries by hand.",
    ),
    "root-unsafe": Rule(
        "A link in the guest's root leads out of it or in circles; Narvet does not follow it.",
        "Put a plain file in the link's place.",
    ),
    "sector-not-recorded": Rule(
        "The image's format does not record that the disk has sectors of 4096 bytes.",
        "Attach the disk with sectors of that size, or use vhdx, which records them.",
    ),
    "size-over-format": Rule(
        "The image's format, or its sectors or blocks, do not allow what is asked.",
        "Choose another format, or what it allows.",
    ),
    "size-over-table": Rule(
        "There are more partitions, or more bytes, than the partition table can describe.",
        "Spread the partitions over more disks.",
    ),
    "size-rounded": Rule(
        "A size is not one that the sectors or the image format can have, and was rounded up.",
        "Nothing; or give a size of whole sectors.",
    ),
    "slot-not-offered": Rule(
        "The guest's controllers do not offer the slot.",
        "Choose a slot that the guest's controllers offer.",
    ),
    "slot-taken": Rule(
        "The slot is already taken in the guest.",
        "Leave `slot` out: the next free one is used.",
    ),
    "store-missing": Rule(
        "The store's folder does not exist.",
        "Make the folder, or correct `path`.",
    ),
    "store-not-writable": Rule(
        "The store's folder cannot be written to.",
        "Get write permission there, or use another store.",
    ),
    "store-overpromised": Rule(
        "The store's disks, once filled, need more than the store has.",
        "Move disks to the store that is named, or watch that they do not all fill up.",
    ),
    "store-room-beyond": Rule(
        "A store is given more room than its filesystem has.",
        "Correct `room`, or leave it out: then what is free there counts.",
    ),
    "store-without-room": Rule(
        "The store has too little room for what is to be written now.",
        "Make room, or move disks to the store that is named.",
    ),
    "table-cut-short": Rule(
        "The disk ends before the place where its table says it ends.",
        "The copy of the image was not finished; fetch it again.",
    ),
    "table-damaged": Rule(
        "A copy of the partition table does not match its checksums or its specification.",
        "One sound copy still serves. Copy the data off before anything writes to the disk.",
    ),
    "table-not-at-end": Rule(
        "The partition table's second copy is not in the disk's last sectors.",
        "The disk was enlarged without its table; what lies behind cannot be used yet.",
    ),
    "uuid-in-use": Rule(
        "The guest's fstab already mounts a filesystem with the same UUID elsewhere.",
        "Remove that line of fstab, or give the sheet its mount point.",
    ),
    "zone-differs": Rule(
        "The disk's store and its guest are in different zones.",
        "Keep the disk in a store of the guest's zone.",
    ),
}


def table() -> str:
    """Return docs/findings.md."""
    rows = [f"| `{name}` | {rule.meaning} | {rule.way_out} |" for name, rule in RULES.items()]
    return "\n".join([_HEAD, *rows, ""])
