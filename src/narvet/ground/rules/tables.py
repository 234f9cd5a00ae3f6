"""Rules about partition tables as they are found. Sizes and offsets are bytes."""

from __future__ import annotations

from narvet.ground.findings import Wording, rule
from narvet.ground.units import show_bytes


@rule(
    meaning="A copy of the partition table does not match its checksums or its specification.",
    way_out="One good copy is enough. Copy the data off before anything writes to the disk.",
)
def table_damaged(fault: str) -> Wording:
    """Word damage to a table."""
    return fault, "copy the data off before anything writes to this disk"


@rule(
    meaning="The disk ends before the place where its table says it ends.",
    way_out="The copy of the image was not finished; fetch it again.",
)
def table_cut_short(described: int, size: int) -> Wording:
    """Word a table that describes a disk of `described` bytes on one of `size`."""
    return (
        f"the table describes a disk of {show_bytes(described)}, but this one has {show_bytes(size)}",
        "the copy of this image was not finished, or it was cut; fetch it again",
    )


@rule(
    meaning="The partition table's second copy is not in the disk's last sectors.",
    way_out="The disk was enlarged without its table; the space behind the old end cannot be used yet.",
)
def table_not_at_end(ends: int, size: int) -> Wording:
    """Word a table that ends at byte `ends` of a disk of `size`."""
    return (
        f"the table ends at {show_bytes(ends)}, the disk at {show_bytes(size)}",
        "the disk was enlarged without its table; the space behind the old end cannot be used yet",
    )


@rule(
    meaning="A partition ends after the last byte a partition may use.",
    way_out='Give the partition `size = "rest"`, or make the disk larger. The table takes a little at both ends.',
)
def partition_past_end(start: int, end: int, first: int, last: int) -> Wording:
    """Word a partition from `start` to `end` that leaves what partitions may use, `first` to `last`."""
    return (
        f"it lies from {show_bytes(start)} to {show_bytes(end)}; partitions may use {show_bytes(first)} to "
        f"{show_bytes(last)}",
        "make the partition smaller or the disk larger",
    )


@partition_past_end.worded
def partition_would_pass_end(end: int, last: int) -> Wording:
    """Word a partition asked for that would end at `end`, behind the last byte that partitions may use."""
    return (
        f"it would end at {show_bytes(end)}; partitions may use the disk up to {show_bytes(last)}, which is "
        f"{show_bytes(end - last)} less",
        'give it size = "rest", or make the disk larger',
    )


@rule(meaning="Two partitions claim the same bytes.", way_out="Write to neither; copy off what is readable.")
def partitions_overlap(start: int, ends: int) -> Wording:
    """Word a partition that starts before the one ahead of it `ends`."""
    return (
        f"it starts at {show_bytes(start)}, before the partition ahead of it ends at {show_bytes(ends)}",
        "do not write to either of them; copy off what is readable",
    )


@rule(
    meaning="A partition does not start on a 4096-byte boundary, which makes writes slow.",
    way_out='Use `align = "1 MiB"`.',
)
def partition_misaligned(start: int) -> Wording:
    """Word a partition that starts between two 4096-byte boundaries."""
    return (
        f"it starts at {show_bytes(start)}, {start % 4096} B past a 4096-byte boundary",
        'use align = "1 MiB"',
    )
