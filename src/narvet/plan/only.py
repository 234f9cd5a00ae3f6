"""A layout narrowed to some of its disks: what becomes of the others is as if nothing were asked of them. Pure."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from narvet.ground.findings import Finding, disk_place
from narvet.ground.rules import disks as rules
from narvet.guests import guest_system
from narvet.model.estate import Estate, Guest
from narvet.model.facts import Facts
from narvet.model.layout import Layout, PlannedDisk
from narvet.plan.diff import diff_guests


def counted_only(disks: tuple[PlannedDisk, ...], facts: Facts) -> tuple[PlannedDisk, ...]:
    """Return disks of which only the named ones need room in their stores now; all of them if none is named."""
    if not facts.only:
        return disks
    return tuple(disk if disk.name in facts.only else replace(disk, needs=0) for disk in disks)


def narrowed(layout: Layout, facts: Facts) -> Layout:
    """Return a layout in which only the named disks, and their entries, are not as wanted; the same if none is named.

    What is found about other disks is left out; what is found about stores and guests stays.
    """
    only = facts.only
    if not only:
        return layout
    guests = {name: _guest(name, layout, facts) for name in layout.guests}
    differences = tuple(one for one in layout.differences if one.where.kind == "disk" and one.where.name in only)
    findings = [one for one in layout.findings if one.where.kind != "disk" or one.where.name in only]
    return replace(
        layout,
        guests=guests,
        differences=(*differences, *diff_guests(Estate(guests=guests), facts.found, layout.systems)),
        findings=(*findings, *_not_there(layout, facts)),
        left_behind={name: one for name, one in layout.left_behind.items() if name in only},
    )


def _guest(name: str, layout: Layout, facts: Facts) -> Guest:
    own = [disk for disk in layout.disks if disk.guest == name and disk.name in facts.only]
    return guest_system(layout.systems[name]).only(own, facts.found.guests.get(name, Guest(name)))


def _not_there(layout: Layout, facts: Facts) -> Iterator[Finding]:
    """Yield an error for every named disk that starts from another one which is not written, nor named."""
    states = {disk.name: disk.state for disk in layout.disks}
    for disk in layout.disks:
        start = facts.origins[disk.name].disk if disk.name in facts.only and disk.origin is not None else None
        if start is not None and start not in facts.only and states.get(start) not in ("as asked", None):
            yield rules.start_not_written.error(disk_place(disk.name), start)
