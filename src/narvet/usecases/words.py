"""The words that Narvet uses in one meaning each, for people who meet them. Pure."""

from __future__ import annotations

WORDS = {
    "available": "what ordinary users can still fill of a filesystem, the bytes kept back for the superuser left out",
    "base": "an image that a child keeps only its differences from; it must not change",
    "child": "an image that holds only its differences from a base",
    "disk": "one virtual data disk, as its guest sees it",
    "door": "how a guest's hypervisor is reached: the monitor of a running one, or its description in a file",
    "entry": "what makes a mount persist: a line of fstab, or a registry value for a drive letter",
    "finding": "what a review or survey has to say: an error stops a write, a warning wants a look, a note informs",
    "format": "how an image keeps a disk: raw, vhd, vhdx, qcow2 or vmdk",
    "free": "what nothing uses of a filesystem or a store at this moment",
    "full": "an image that takes the whole size of its disk from its store at once",
    "guest": "the machine that uses a disk",
    "image": "the file, or files, that a disk is kept in",
    "layout": "a sheet worked out: every offset, size, id and number",
    "ledger": "the file beside the sheet that says what Narvet did, and when",
    "mark": "a few letters at the end of a review that stand for all it showed; write --reviewed holds a sheet to it",
    "member": "a partition that belongs to a pool",
    "partition": "a part of a disk that its table lists",
    "pool": "partitions of one or several disks, joined; volumes are cut from it",
    "present": "what the images of a store take of it now",
    "promised": "what the images of a store take of it once every disk in it is full",
    "recovery key": "a key that Narvet made for something sealed, to be typed where the passphrase is lost",
    "room": "what the disks of a sheet may take of a store",
    "sealed": "encrypted: what lies there is read only with a passphrase or a recovery key",
    "sheet": "the file in TOML that says which disks are wanted, in which stores, for which guests",
    "slot": "where a disk is plugged into its guest: a controller and a position on it, such as scsi 1",
    "store": "a folder on a host where images are kept",
    "stored": "what an image takes of its store now; a thin one takes less than its disk has",
    "survey": "what is found on an image or a device, made by Narvet or by others",
    "table": "the list of partitions on a disk: gpt, mbr or none",
    "thin": "an image that takes only what is written to it from its store",
    "volume": "a part of a pool on which a filesystem lies, as on a partition",
}


def words_table() -> str:
    """Return the words as a page in Markdown."""
    rows = "".join(f"| {word} | {meaning} |\n" for word, meaning in WORDS.items())
    head = "# The words\n\nEach has one meaning, in output, JSON and docs. `narvet explain WORD` tells it too.\n\n"
    return f"{head}| word | means |\n|---|---|\n{rows}"
