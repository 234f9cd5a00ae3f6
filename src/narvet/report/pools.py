"""Pools as text: members, volumes, what each guest will show of them, and the account of every byte."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, NamedTuple

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from narvet.ground.errors import printable
from narvet.ground.units import show_both, show_bytes
from narvet.report.changes import before_and_after, grid
from narvet.report.text import shows
from narvet.report.totals import headed

if TYPE_CHECKING:
    from narvet.formats.pools.tree import Pool, PoolVolume
    from narvet.model.layout import Layout
    from narvet.model.moves import Difference
    from narvet.model.pools import FoundPool, PlannedPool
    from narvet.report.terminal import Marks


FREE = "free"


class Taken(NamedTuple):
    """Bytes of a pool's members, and what they are for."""

    what: str
    size: int


def account(pool: Pool, members: int) -> Iterator[Taken]:
    """Yield what the bytes of a pool's members are for, `members` in all; the sum is just that."""
    left = members
    for volume in pool.shown:
        own = pool.bytes_of(volume)
        left -= own
        copies = f", {volume.width} copies and their states" if volume.spread == "mirrored" else ""
        yield Taken(f"volume {volume.name}{copies}", own)
    hidden = pool.total - pool.free - sum(pool.bytes_of(one) for one in pool.shown)
    if hidden:
        left -= hidden
        yield Taken("what volumes of kinds not known here take", hidden)
    yield Taken(FREE, pool.free)
    yield Taken("labels, texts, and less than an extent at the ends", left - pool.free)


def spread_of(volume: PoolVolume) -> str:
    """Return how a volume lies on its members, in words."""
    if volume.spread is None:
        return f"of a kind not known here: {', '.join(volume.kinds)}"
    if volume.spread == "linear":
        return "linear"
    if volume.spread == "mirrored":
        return f"mirrored, {volume.width} copies"
    return f"striped over {volume.width}, in chunks of {show_bytes(volume.chunk)}"


def planned(layout: Layout, pool: PlannedPool, marks: Marks) -> RenderableType:
    """Return a pool of a sheet in depth."""
    becomes = pool.becomes
    members = sum(one.size for one in pool.members.values())
    disks = ", ".join(dict.fromkeys(one.disk for one in pool.members.values()))
    head = Text.assemble(
        (f"pool {pool.name}", "name"), f"  {show_both(members)}, extents of {show_bytes(becomes.extent)}"
    )
    place = Text(f"for {pool.guest}, on disks {disks}; {pool.state}; id {becomes.id}", "dim")
    table = (
        headed("volume", "size", "~spread", "~on disks", "~filesystem")
        if not marks.narrow
        else headed("volume", "size")
    )
    for one in pool.volumes:
        volume, part = becomes.volume(one.volume), one.wanted.partitions[0]
        inside = part.filesystem.kind if part.filesystem else "none"
        at = f" {marks.arrow} {part.at}" if part.at else ""
        more = (spread_of(volume), ", ".join(pool.disks_of(volume)), f"{inside}{at}")
        table.add_row(Text(one.volume, "name"), show_bytes(one.wanted.size), *(() if marks.narrow else more))
    parts: list[RenderableType] = [head, place, Padding(table, (1, 0, 1, 2)), _account(becomes, members, marks)]
    for one in pool.volumes:
        part = one.wanted.partitions[0]
        if part.capacity:
            parts.append(shows(part, part.capacity, one.system, marks, "the volume"))
    own = [one for one in layout.differences if one.where.pool == pool.name]
    if pool.state == "to change":
        parts.append(_changes(pool, [one for one in own if one.answer.is_move], marks))
    return Group(*parts)


def _account(pool: Pool, members: int, marks: Marks) -> RenderableType:
    table = grid("right", "left") if marks.narrow else grid("right", "right", "left")
    table.add_row(
        show_bytes(members), *(() if marks.narrow else (show_both(members).partition(" (")[0],)), "its members"
    )
    for one in account(pool, members):
        sizes = () if marks.narrow else (show_both(one.size).partition(" (")[0],)
        table.add_row(f"- {show_bytes(one.size)}", *sizes, one.what, style="name" if one.what == "free" else "dim")
    return Padding(table, (0, 0, 0, 2))


def _changes(pool: PlannedPool, differences: Iterable[Difference], marks: Marks) -> RenderableType:
    parts = [(one.volume, one.wanted.partitions[0]) for one in pool.volumes]
    table = before_and_after(differences, pool.place, parts, marks)
    return Padding(Group("What changes", Padding(table, (0, 0, 0, 2))), (1, 0, 0, 2))


def found(pool: FoundPool) -> RenderableType:
    """Return a pool that was found on images."""
    text = pool.pool
    members = sum(one.size for one in pool.places.values())
    head = Text.assemble(
        (f"pool {printable(text.name)}", "name"), f"  {show_both(members)}, extents of {show_bytes(text.extent)}"
    )
    head.append(f"; id {text.id}, text {text.seqno}")
    rows = grid("left", "left", "right")
    for one in text.members:
        place = pool.places.get(one.id)
        where = (
            f"{place.path} partition {place.partition}" if place and place.partition else place.path if place else ""
        )
        hint = f", a guest had it as {printable(one.hint)}" if one.hint else ""
        rows.add_row(
            Text(printable(one.name), "name"),
            where or Text(f"missing{hint}", "warning"),
            show_bytes(one.count * text.extent),
        )
    volumes = headed("volume", "size", "~spread", "~holds")
    for volume in text.shown:
        disk = pool.volumes.get(volume.name)
        inside = disk.partitions[0].filesystem if disk is not None and disk.partitions else None
        holds = f"{inside.kind} {printable(inside.label)} {inside.uuid}".strip() if inside else "nothing known"
        if disk is None:
            holds = "cannot be read"
        for system in disk.systems if disk else ():
            holds += f"; {printable(system.name)} lives here"
        volumes.add_row(
            Text(printable(volume.name), "name"), show_bytes(volume.count * text.extent), spread_of(volume), holds
        )
    parts: list[RenderableType] = [head, Padding(rows, (0, 0, 0, 2)), Padding(volumes, (1, 0, 0, 2))]
    return Group(*parts, Text(f"{show_both(text.free)} free", "dim"))
