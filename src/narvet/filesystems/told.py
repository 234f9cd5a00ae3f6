"""What readers of all filesystems have to say, each thing in one way."""

from __future__ import annotations

from narvet.findings import Finding
from narvet.units import show_bytes


def damaged(where: str, message: str) -> Finding:
    """Return the finding of a structure that does not fit its checksum, its specification or another."""
    remedy = "copy the data off, or have the guest repair it, before relying on it"
    return Finding("filesystem-damaged", "error", where, message, remedy)


def past_end(where: str, size: int, there: int) -> Finding:
    """Return the finding of a filesystem of `size` bytes that lies on only `there` bytes."""
    told = f"the filesystem says it has {show_bytes(size)}, but it lies on {show_bytes(there)}"
    remedy = "do not mount it; the partition or the image was made smaller, or was cut short in a copy"
    return Finding("filesystem-past-end", "error", where, told, remedy)


def in_use(where: str) -> Finding:
    """Return the finding of a filesystem that is not marked as cleanly unmounted."""
    told = "the filesystem is in use or was not unmounted cleanly"
    remedy = "shut the guest down cleanly, or have it mount and unmount the filesystem once"
    return Finding("filesystem-needs-recovery", "warning", where, told, remedy)


def not_checked(where: str, why: str) -> Finding:
    """Return the note on a filesystem that is not checked in full."""
    remedy = "have the guest check it where it matters; what it keeps is treated as all in use"
    return Finding("filesystem-not-checked", "note", where, f"it is not checked in full: {why}", remedy)
