"""A layout narrowed to some of its disks: what becomes of the others is as if nothing were asked of them. Pure."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from narvet.ground.findings import Finding, Place, disk_place
from narvet.ground.rules import disks as rules
from narvet.ground.rules import pools as pool_rules
from narvet.ground.values import replace
from narvet.guests import guest_system
from narvet.model.estate import Estate, Guest
from narvet.model.facts import Facts
from narvet.model.layout import Layout, Mountable, PlannedDisk
from narvet.model.pools import PlannedPool
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
    chosen = {pool.name for pool in layout.pools if only & _disks_of(pool)}
    differences = tuple(one for one in layout.differences if _is_about(one.where, only, chosen))
    findings = [
        one for one in layout.findings if one.where.kind not in ("disk", "pool") or _is_about(one.where, only, chosen)
    ]
    return replace(
        layout,
        guests=guests,
        differences=(*differences, *diff_guests(Estate(guests=guests), facts.found, layout.systems)),
        findings=(*findings, *_not_there(layout, facts), *_not_whole(layout, facts, chosen)),
        pools=tuple(pool if pool.name in chosen else replace(pool, state="as asked") for pool in layout.pools),
        left_behind={name: one for name, one in layout.left_behind.items() if name in only},
    )


def _disks_of(pool: PlannedPool) -> set[str]:
    return {one.disk for one in (*pool.members.values(), *pool.leaving.values())}


def _is_about(where: Place, disks: Collection[str], pools: Collection[str]) -> bool:
    """Return whether something is about one of some disks or pools."""
    if where.kind == "pool":
        return where.pool in pools
    return where.kind == "disk" and where.name in disks


def _not_whole(layout: Layout, facts: Facts, chosen: Collection[str]) -> Iterator[Finding]:
    """Yield an error for every chosen pool one of whose disks is neither as asked nor among those that are written."""
    states = {disk.name: disk.state for disk in layout.disks}
    for pool in layout.pools:
        for name in sorted(_disks_of(pool)) if pool.name in chosen else ():
            if name not in facts.only and states.get(name) != "as asked":
                why = f"disk {name} is one of its members, and is not written with it"
                yield pool_rules.pool_cannot_be_changed.error(pool.place, why, f"name {name}, too, or no disks at all")


def _guest(name: str, layout: Layout, facts: Facts) -> Guest:
    own: list[Mountable] = [disk for disk in layout.disks if disk.guest == name and disk.name in facts.only]
    for pool in layout.pools:
        own += pool.volumes if pool.guest == name and facts.only & _disks_of(pool) else ()
    return guest_system(layout.systems[name]).only(own, facts.found.guests.get(name, Guest(name)))


def _not_there(layout: Layout, facts: Facts) -> Iterator[Finding]:
    """Yield an error for every named disk that starts from another one which is not written, nor named."""
    states = {disk.name: disk.state for disk in layout.disks}
    for disk in layout.disks:
        start = facts.origins[disk.name].disk if disk.name in facts.only and disk.origin is not None else None
        if start is not None and start not in facts.only and states.get(start) not in ("as asked", None):
            yield rules.start_not_written.error(disk_place(disk.name), start)
