"""What many disks come to, as short tables: by host, by guest, by store."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Literal

from rich.console import RenderableType
from rich.table import Table
from rich.text import Text

from narvet.ground.units import show_binary
from narvet.model.layout import Layout, PlannedDisk
from narvet.model.moves import Lies, Step

MOST_GUESTS, MOST_LARGEST = 60, 12
"""Guests that are listed all; and of more, the largest."""


def headed(*headings: str) -> Table:
    """Return a table without lines, under headings; all columns but the first and those named with a ~ are numbers."""
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    for index, heading in enumerate(headings):
        words = index == 0 or heading.startswith("~")
        justify: Literal["left", "right"] = "left" if words else "right"
        table.add_column(heading.removeprefix("~"), justify=justify, overflow="fold", no_wrap=not words)
    return table


def totals(layout: Layout) -> Iterable[RenderableType]:
    """Yield what many disks come to: by host, where there are several, and by guest, of many the largest."""
    hosts = {store.name: store.host or "this machine" for store in layout.stores}
    if any(store.host for store in layout.stores):
        yield _summed("host", _kept(layout.disks, lambda disk: hosts[disk.store]))
        yield ""
    guests = _kept(layout.disks, lambda disk: disk.guest)
    if len(guests) <= MOST_GUESTS:
        yield _summed("guest", guests)
    else:
        by_size = sorted(guests, key=lambda guest: -sum(disk.size for disk in guests[guest]))
        rest = [disk for guest in by_size[MOST_LARGEST:] for disk in guests[guest]]
        largest = {guest: guests[guest] for guest in by_size[:MOST_LARGEST]}
        yield _summed("largest guests", {**largest, f"{len(guests) - MOST_LARGEST} others": rest})
    yield ""


def by_place(done: Iterable[Step], layout: Layout) -> RenderableType:
    """Return how many steps were done in each store, and in the roots of guests, with hosts where there are several."""
    hosts = {store.name: store.host for store in layout.stores}
    stores = {disk.name: disk.store for disk in layout.disks}
    made, changed = Counter[tuple[str, str]](), Counter[tuple[str, str]]()
    for step in done:
        store = stores.get(str(getattr(step, "disk", ""))) if step.lies_in is Lies.STORE else None
        host = hosts.get(store, "") if store else layout.guest_hosts.get(step.guest, "")
        place = host, f"store {store}" if store else "pools" if step.lies_in is Lies.STORE else "roots of guests"
        (changed if step.is_change else made)[place] += 1
    table = headed("host", "~", "made", "changed") if any(hosts.values()) else headed("", "made", "changed")
    for host, what in sorted({*made, *changed}):
        counts = str(made[host, what]), str(changed[host, what])
        table.add_row(*([host or "this machine"] if any(hosts.values()) else []), Text(what, "name"), *counts)
    return table


def _kept(disks: Iterable[PlannedDisk], by: Callable[[PlannedDisk], str]) -> dict[str, list[PlannedDisk]]:
    kept: dict[str, list[PlannedDisk]] = {}
    for disk in disks:
        kept.setdefault(by(disk), []).append(disk)
    return kept


def _summed(heading: str, kept: Mapping[str, Sequence[PlannedDisk]]) -> RenderableType:
    table = headed(heading, "disks", "to make", "size", "available")
    for name, own in kept.items():
        to_make = sum(disk.state == "to make" for disk in own)
        size, shown = sum(disk.size for disk in own), sum(available_of(disk) for disk in own)
        table.add_row(Text(name, "name"), str(len(own)), str(to_make), show_binary(size), show_binary(shown))
    return table


def available_of(disk: PlannedDisk) -> int:
    """Return what ordinary users can fill on a disk, in bytes."""
    return sum(part.capacity.available for part in disk.wanted.partitions if part.capacity)
