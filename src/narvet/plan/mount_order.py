"""Partitions that got another mount point, looked at for what the sheet may mean instead: another partition. Pure.

A partition has no name in a sheet but its place. Where one is put in ahead of others, or two change places, each would
get the mount point of another one, and its files would be where others were.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from narvet.formats.filesystems import filesystem
from narvet.ground.findings import Finding, disk_place
from narvet.ground.rules import disks as rules
from narvet.model.estate import Guest, Partition
from narvet.model.layout import PlannedDisk
from narvet.model.moves import Aspect, Difference


def mounted_at(guests: Mapping[str, Guest]) -> dict[str, dict[str, str]]:
    """Return where filesystems are mounted now, by guest and by the first field of their line of fstab."""
    return {name: {entry.spec: entry.file for entry in guest.entries} for name, guest in guests.items()}


def check_order(disk: PlannedDisk, differences: Iterable[Difference], there: Mapping[str, str]) -> Iterator[Finding]:
    """Yield an error for every partition of which the sheet most likely means another one.

    `there` is where filesystems are mounted in the guest now (see `mounted_at`).
    """
    if not there:
        return
    smaller = {one.where.partition for one in differences if one.aspect is Aspect.SMALLER}
    now = {part.number: there.get(_source(part)) for part in disk.wanted.partitions if part.there is not None}
    for part in disk.wanted.partitions:
        own = now.get(part.number)
        if own is None or part.at is None or own == part.at:
            continue
        where = disk_place(disk.name).part(part.number)
        other = next((number for number, at in now.items() if at == part.at), None)
        if other is not None:
            yield rules.changes_places.error(where, own, part.at, other)
        elif part.number in smaller:
            yield rules.smaller_and_elsewhere.error(where, own, part.at)


def _source(part: Partition) -> str:
    state = part.there
    return filesystem(state.kind).fstab_source(state.uuid) if state is not None else ""
