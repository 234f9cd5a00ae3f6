"""The gate before anything that cannot be undone: what on a disk is certain enough to be given up or moved.

A structure that merely parses is not enough. The table must be sound, a partition must carry one filesystem and no sign
of another, its type must agree, and the filesystem must be clean and checked in full.
"""

from __future__ import annotations

from collections.abc import Container, Iterator
from typing import NamedTuple

from narvet.block.contract import BlockDevice
from narvet.block.window import Window
from narvet.formats.filesystems import candidates
from narvet.formats.filesystems.contract import Claims, Filesystem
from narvet.formats.tables import table_format
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent
from narvet.ground.offers import offers
from narvet.model.estate import Disk, Partition


class _Sign(NamedTuple):
    """Bytes that something other than Narvet's filesystems puts at an offset of its volume."""

    offset: int
    signature: bytes
    what: str


_OTHERS = (
    _Sign(0, bytes.fromhex("4c554b53babe"), "the header of an encrypted volume"),
    _Sign(3, b"-FVE-FS-", "the header of an encrypted volume"),
    _Sign(512, b"LABELONE", "the label of a volume manager"),
    _Sign(4096, bytes.fromhex("fc4e2ba9"), "the header of a disk array"),
    _Sign(65600, b"_BHRfS_M", "the header of another filesystem"),
    _Sign(32769, b"CD001", "the header of another filesystem"),
    _Sign(1024, b"H+\0\x04", "the header of another filesystem"),
)
_SWAP_LEFT_TO_LOADERS = 1024  # bytes, zero in swap that was made anew


def table_doubts(found: Disk) -> tuple[str, ...]:
    """Return why the table of a surveyed disk is not certain: damage, overlaps, or nothing at all that can be read."""
    inside = {id(finding) for part in found.partitions if part.filesystem for finding in part.filesystem.findings}
    doubts = [one.message for one in found.findings if one.level == "error" and id(one) not in inside]
    reach = 0
    for part in sorted(found.partitions, key=lambda one: one.start):
        if part.start < reach:
            doubts.append(f"partition {part.number} overlaps the one ahead of it")
        if part.end > found.size:
            doubts.append(f"partition {part.number} ends behind the end of the disk")
        reach = max(reach, part.end)
    return tuple(doubts)


def partition_doubt(found: Disk, part: Partition, device: BlockDevice) -> str:
    """Return why what lies on a partition is not certain enough to give up what it says is unused, empty if it is.

    The survey must have been a deep one.
    """
    facts = part.filesystem
    if facts is None:
        return "nothing on it can be read"
    if facts.findings:
        return facts.findings[0].message
    if part.number and not table_format(found.table).suits(part.entry.type, facts.kind):
        return f"its type {part.entry.type} is not one for {facts.kind}"
    try:
        return _second_sign(Window(device, part.start, part.size), facts.kind)
    except ImageError as error:
        return str(error)


def _second_sign(window: Window, filesystem: str) -> str:
    """Return what else a partition looks like, besides the filesystem found on it."""
    others = [kind.name for kind in candidates(window) if kind.name != filesystem and _claims(kind, window)]
    if others:
        return f"it carries the signatures of both {filesystem} and {others[0]}"
    for sign in _OTHERS:
        end = sign.offset + len(sign.signature)
        if end <= window.size and window.read(sign.offset, len(sign.signature)) == sign.signature:
            return f"it carries {filesystem} and {sign.what}"
    if filesystem == "swap" and any(window.read(0, _SWAP_LEFT_TO_LOADERS)):
        return "there is something ahead of its swap signature"
    return ""


def _claims(kind: Filesystem, window: Window) -> bool:
    return kind.claims(window) if offers(kind, Claims) else True


def doubts_inside(found: Disk, device: BlockDevice) -> dict[int, str]:
    """Return the partitions of a deeply surveyed disk that must stay as they are, by number, and why; empty if unknown.

    A partition on which nothing can be read has no reason that anybody needs to hear.
    """
    doubts = ((part, partition_doubt(found, part, device)) for part in found.partitions)
    return {part.number: doubt if part.filesystem else "" for part, doubt in doubts if doubt}


def unused(found: Disk, device: BlockDevice, kept: Container[int]) -> Iterator[Extent]:
    """Yield the runs of a deeply surveyed disk that its filesystems certainly keep nothing in, ascending.

    Partitions whose numbers are in `kept` stay as they are.
    """
    for part in sorted(found.partitions, key=lambda one: one.start):
        if part.number in kept or part.filesystem is None:
            continue
        window = Window(device, part.start, part.size)
        kind = next(kind for kind in candidates(window) if kind.name == part.filesystem.kind)
        for start, length in kind.unused(window):
            yield Extent(part.start + start, length)
