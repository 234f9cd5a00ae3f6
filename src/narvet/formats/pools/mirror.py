"""What a kernel notes of a mirrored volume's copies, at the start of the extent that is kept for each. Pure.

Linux writes a record there once it has used the volume: which copies failed, and how far one that is made anew has
come. Before that the extent reads as zeros.
"""

from __future__ import annotations

from narvet.ground.records import Record, u32, u64

MAGIC = 0x64526D44
_NONE = (1 << 64) - 1


class CopyState(Record, title="state of a mirrored volume's copy", size=64):
    """The record of the kernel's driver for such volumes, its first part; little-endian."""

    magic: int = u32(0, "", "DmRd")
    compat_features: int = u32(4, "", "flags")
    num_devices: int = u32(8, "", "copies")
    array_position: int = u32(12, "", "which copy this is, from 0")
    events: int = u64(16, "", "counts changes of this record")
    failed_devices: int = u64(24, "", "a bit for each copy that failed")
    disk_recovery_offset: int = u64(32, "sectors", "how far this copy was made anew; all ones once it is whole")
    array_resync_offset: int = u64(40, "sectors", "how far the copies were made alike; all ones once they are")
    level: int = u32(48, "", "1")
    layout: int = u32(52, "", "0")
    stripe_sectors: int = u32(56, "sectors", "0")
    flags: int = u32(60, "", "further flags")


def why_not_whole(data: bytes) -> str:
    """Return why a copy with this state cannot be counted on, empty if it can or was never used."""
    state = CopyState.decode(data[: CopyState.size])
    if state.magic != MAGIC:
        return "" if not any(data) else "the state of a copy does not read"
    if state.failed_devices:
        return "a copy of it failed"
    if state.disk_recovery_offset != _NONE:
        return "a copy of it is not complete yet"
    return ""
