"""Disks that were renamed once, by what the ledger says: their ids follow from the first name for good. Pure.

A sheet says so with `was` until the image has its new name; from then on the ledger remembers it.
"""

from __future__ import annotations

from narvet.formats.filesystems import filesystem
from narvet.formats.tables import table_format
from narvet.ground.values import replace
from narvet.model.facts import Facts, Recorded
from narvet.sheet.resolved import ResolvedDisk, ResolvedSheet


def with_first_names(sheet: ResolvedSheet, facts: Facts) -> ResolvedSheet:
    """Return a sheet whose disks have the names that their images' ids follow from."""
    made = {one.disk: one for one in facts.ledger if one.names}
    firsts = {name: _first_name(sheet, disk, made[name], facts) for name, disk in sheet.disks.items() if name in made}
    disks = {
        name: replace(disk, was=firsts[name]) if disk.was is None and firsts.get(name) else disk
        for name, disk in sheet.disks.items()
    }
    return replace(sheet, disks=disks)


def _first_name(sheet: ResolvedSheet, disk: ResolvedDisk, made: Recorded, facts: Facts) -> str | None:
    """Return the earlier name whose ids an image has; None if that is no earlier one, or another disk's name now."""
    found = facts.found.disks.get(disk.name)
    there = {made.table_id, *(found.content_ids if found and not found.table_id else ())} - {""}
    if disk.name in sheet.disks and there & _ids(sheet, disk, disk.name):
        return None
    return next((name for name in made.names if name not in sheet.disks and there & _ids(sheet, disk, name)), None)


def _ids(sheet: ResolvedSheet, disk: ResolvedDisk, name: str) -> set[str]:
    """Return the ids that an image of a disk has if it was called so first."""
    own = replace(sheet, disks={}).ids(name)
    if disk.table is not None:
        return {table_format(disk.table).native_id(own.table)}
    kinds = [filesystem(part.filesystem) for part in disk.partitions if part.filesystem]
    return {kind.native_id(own.filesystem(1)) for kind in kinds}
