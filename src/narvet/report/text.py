"""Layouts, surveys, differences and findings as text: pure functions from values to what rich prints."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Literal

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from narvet.errors import printable
from narvet.filesystems.contract import Capacity, FilesystemFacts
from narvet.findings import Finding, has_errors
from narvet.guests.fstab import fstab_line
from narvet.guests.registry import value_meaning
from narvet.layout.compare import Difference
from narvet.layout.facts import PartitionFound, Survey
from narvet.layout.model import LaidDisk, LaidPartition, LaidStore, Layout
from narvet.report.cores import Band, band_found, bands_of
from narvet.report.cores import name_of as name_of_part
from narvet.report.terminal import Marks
from narvet.rules import Rule
from narvet.sids import name_of
from narvet.units import show_as_windows, show_binary, show_both, show_bytes, show_decimal

if TYPE_CHECKING:
    from narvet.work.steps import Step

MOST_IN_DEPTH = 8
"""With more disks than this a review gives each a line; those named on the command line are still shown in depth."""

MOST_LISTED = 200
"""With more disks than this a review adds them up guest by guest, and leaves their entries to `narvet entries`."""


def grid(*columns: Literal["left", "right"]) -> Table:
    """Return a table without lines whose columns are aligned as said."""
    table = Table(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    for justify in columns:
        table.add_column(justify=justify, overflow="fold")
    return table


def core(bands: Iterable[Band], marks: Marks) -> RenderableType:
    """Return a disk as a core sample: depth on the left, the material, then length and what lies there."""
    table = grid("right", "left", "right", "left")
    for band in bands:
        text = Text.assemble((f"{band.name}  ", "name"), band.told) if band.name else Text(band.told, "dim")
        if band.place:
            text.append(f" {marks.arrow} {band.place}")
        material = Text(getattr(marks, band.made_of), band.made_of)
        table.add_row(show_bytes(band.start), material, show_binary(band.size), text)
    return table


def review(layout: Layout, named: Sequence[str], marks: Marks) -> RenderableType:
    """Return a whole review; `named` are the disks to be shown in depth, none meaning all if they are few."""
    deep = set(named) or ({disk.name for disk in layout.disks} if len(layout.disks) <= MOST_IN_DEPTH else set())
    parts: list[RenderableType] = [Text(layout.title, "name"), _counted(layout), ""]
    if len(deep) < len(layout.disks) and not named:
        brief = _brief(layout.disks) if len(layout.disks) <= MOST_LISTED else _by_guest(layout.disks)
        parts += [brief, "", "Name disks after the sheet to see them in depth.", ""]
    for disk in layout.disks:
        if disk.name in deep:
            parts += [_disk(disk, marks), ""]
    if not named:
        parts += [_stores(layout.stores), ""]
        parts += _guests(layout, marks) if len(layout.disks) <= MOST_LISTED else []
    return Group(*parts)


def _counted(layout: Layout) -> Text:
    counts = (
        (len(layout.disks), "disk"),
        (len({disk.guest for disk in layout.disks}), "guest"),
        (len(layout.stores), "store"),
    )
    return Text(", ".join(f"{count} {what}{'' if count == 1 else 's'}" for count, what in counts), "dim")


def headed(*headings: str) -> Table:
    """Return a table without lines, under headings; all columns but the first and those named with a ~ are numbers."""
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    for index, heading in enumerate(headings):
        words = index == 0 or heading.startswith("~")
        table.add_column(heading.removeprefix("~"), justify="left" if words else "right", overflow="fold")
    return table


def _brief(disks: Iterable[LaidDisk]) -> RenderableType:
    table = headed("disk", "~guest", "~store", "size", "available", "~state")
    for disk in disks:
        size, shown = show_binary(disk.size), show_binary(_available(disk))
        table.add_row(Text(disk.name, "name"), disk.guest, disk.store, size, shown, disk.state)
    return table


def _by_guest(disks: Iterable[LaidDisk]) -> RenderableType:
    kept: dict[str, list[LaidDisk]] = {}
    for disk in disks:
        kept.setdefault(disk.guest, []).append(disk)
    table = headed("guest", "disks", "to make", "size", "available")
    for guest, own in kept.items():
        to_make = sum(disk.state == "to make" for disk in own)
        size, shown = sum(disk.size for disk in own), sum(_available(disk) for disk in own)
        table.add_row(Text(guest, "name"), str(len(own)), str(to_make), show_binary(size), show_binary(shown))
    return table


def _available(disk: LaidDisk) -> int:
    return sum(part.shows.available for part in disk.partitions if part.shows)


def _disk(disk: LaidDisk, marks: Marks) -> RenderableType:
    place = f"for {disk.guest} at {disk.slot or 'no slot'}, in store {disk.store}; {_state(disk)}"
    if disk.origin is not None:
        place += f"; a {disk.origin.how} of {disk.origin.path}"
    return _core(disk, disk.name, place, marks)


def made(disk: LaidDisk, marks: Marks) -> RenderableType:
    """Return a disk that was made without a sheet."""
    return _core(disk, disk.path, "made", marks)


def _core(disk: LaidDisk, name: str, place: str, marks: Marks) -> RenderableType:
    head = Text.assemble(
        (name, "name"),
        f"  {show_both(disk.size)}, {disk.format}, {disk.space}; {disk.table_name}, sectors of {disk.sector} B",
    )
    shown = [_shows(part) for part in disk.partitions if part.shows]
    return Group(head, Text(place, "dim"), Padding(core(bands_of(disk), marks), (1, 0, 0, 2)), *shown)


def _state(disk: LaidDisk) -> str:
    return f"to make, {show_binary(disk.stores_now)} at first" if disk.state == "to make" else disk.state


def _shows(part: LaidPartition) -> RenderableType:
    """Return what the guest will show for a filesystem, and the account of where the other bytes went."""
    shows = part.shows
    if shows is None:
        return ""
    table = grid("right", "right", "right", "left")
    table.add_row(show_bytes(part.size), show_binary(part.size), show_decimal(part.size), "the partition")
    for loss in shows.losses:
        table.add_row(
            f"- {show_bytes(loss.size)}", show_binary(loss.size), show_decimal(loss.size), loss.what, style="dim"
        )
    for size, what in ((shows.available, "available to fill"), (shows.total, "shown as the total size")):
        table.add_row(show_bytes(size), show_binary(size), show_decimal(size), what, style="name")
    head = Text.assemble(f"The guest will show {'at' if part.at else 'for'} ", (part.at or part.label, "name"))
    said = [_as_windows(shows)] if part.volume else []
    return Padding(Group(head, Padding(table, (0, 0, 0, 2)), *said), (1, 0, 0, 2))


def _as_windows(shows: Capacity) -> RenderableType:
    total, free = show_as_windows(shows.total), show_as_windows(shows.free)
    told = f"Windows writes it as {total}, {free} of it free, in powers of 1024."
    return Padding(Text(told), (0, 0, 0, 2))


def _stores(stores: Iterable[LaidStore]) -> RenderableType:
    table = headed("store", "room", "kept free", "promised", "present", "left")
    for store in stores:
        left = show_binary(store.left) if store.left >= 0 else f"- {show_binary(-store.left)}"
        sizes = (store.room, store.kept, store.promised, store.present)
        shown = [show_binary(size) for size in sizes]
        table.add_row(Text(store.name, "name"), *shown, Text(left, "" if store.left >= 0 else "warning"))
    return table


def _guests(layout: Layout, marks: Marks) -> Iterable[RenderableType]:
    for guest, entries in layout.entries.items():
        root = layout.roots[guest]
        place = f"{root}/etc/fstab" if root else "its fstab, to be pasted by hand: the sheet names no root"
        yield Text.assemble((guest, "name"), f" {marks.arrow} {place}")
        lines = "\n".join(fstab_line(entry) for entry in entries)
        yield Padding(Text(lines, overflow="fold"), (0, 0, 1, 2))
    for guest, values in layout.registry.items():
        yield Text.assemble((guest, "name"), f" {marks.arrow} {layout.roots[guest]}, to be imported in the guest")
        table = grid("left", "left")
        for value in values:
            table.add_row(*value_meaning(value))
        yield Padding(table, (0, 0, 1, 2))


def findings(found: Sequence[Finding], marks: Marks) -> RenderableType:
    """Return findings, errors first: level, rule and place, then what it is and the way out."""
    order = ("error", "warning", "note")
    parts: list[RenderableType] = []
    for finding in sorted(found, key=lambda one: order.index(one.level)):
        parts.append(Text.assemble((f"{finding.level} ", finding.level), f"{finding.rule}  ", (finding.where, "name")))
        parts.append(Padding(Text(printable(finding.message)), (0, 0, 0, 2)))
        if finding.remedy:
            parts.append(Padding(Text(f"{marks.arrow} {finding.remedy}"), (0, 0, 0, 2)))
        parts.append("")
    return Group(*parts)


def rules(told: Mapping[str, Rule], marks: Marks, *, in_full: bool) -> RenderableType:
    """Return rules with what they mean, and `in_full` with the way out."""
    if not in_full:
        table = headed("rule", "~what it means")
        for name, rule in told.items():
            table.add_row(Text(name, "name"), rule.meaning)
        return table
    parts: list[RenderableType] = []
    for name, rule in told.items():
        parts += [Text(name, "name"), Padding(Text(rule.meaning), (0, 0, 0, 2))]
        parts += [Padding(Text(f"{marks.arrow} {rule.way_out}"), (0, 0, 0, 2)), ""]
    return Group(*parts)


def written(layout: Layout, done: Sequence[Step]) -> RenderableType:
    """Return what a write did, or why it did nothing."""
    if has_errors(layout.findings):
        return Text("Nothing was written: correct the errors above first.")
    if not done and any(finding.rule in ("not-as-asked", "entry-kept") for finding in layout.findings):
        return Text("Nothing was changed; what is not as the sheet has it stands above.")
    if not done:
        return Text("All is as asked; nothing was changed.")
    return steps_done(done)


def steps_done(done: Sequence[Step]) -> RenderableType:
    """Return steps that were done, a row each."""
    table = grid("left", "left")
    for step in done:
        table.add_row(Text(step.touches, "name"), step.summary)
    return table


def surveys(found: Sequence[Survey], marks: Marks) -> RenderableType:
    """Return what was found at each path."""
    parts: list[RenderableType] = []
    for one in found:
        parts += [_survey(one, marks), ""]
    return Group(*parts)


def _survey(found: Survey, marks: Marks) -> RenderableType:
    head = Text.assemble((found.path, "name"), f"  {show_both(found.size)}, {found.format}, {found.space}")
    if found.block:
        head.append(f" in blocks of {show_binary(found.block)}")
    head.append(f"; {show_binary(found.allocated)} stored")
    if found.base is not None:
        head.append(f"; a child of {printable(found.base)}")
    table = f"{found.table.upper()} {found.table_id}, sectors of {found.sector} B" if found.table_id else "no table"
    rows = [band_found(part, found.table) for part in found.partitions]
    inside = [Padding(core(rows, marks), (0, 0, 0, 2))] if rows else []
    known = [(part, part.filesystem) for part in found.partitions if part.filesystem]
    details = [Padding(Text(line, overflow="fold"), (0, 0, 0, 2)) for line in _links(known, marks)]
    details = [Padding(_details(known), (0, 0, 0, 2)), *details] if known else []
    return Group(head, Text(table, "dim"), *inside, *details)


def _links(known: Sequence[tuple[PartitionFound, FilesystemFacts]], marks: Marks) -> list[str]:
    """Return the folders that lead to other volumes, a line each."""
    return [
        f"{name_of_part(part)}: {printable(path)} {marks.arrow} {printable(target)}"
        for part, inside in known
        for path, target in inside.links
    ]


def _details(known: Sequence[tuple[PartitionFound, FilesystemFacts]]) -> RenderableType:
    """Return what is known of each filesystem, a row each."""
    table = headed("", "~id", "free", "~root")
    for part, inside in known:
        owner = f"{inside.uid}:{inside.gid} {inside.mode:04o}" if inside.mode is not None else ""
        owner = owner or name_of(inside.rights.partition("D:")[0].removeprefix("O:"))
        table.add_row(Text(name_of_part(part), "name"), inside.uuid, show_binary(inside.free), owner)
    return table


def differences(found: Sequence[Difference]) -> RenderableType:
    """Return differences as rows: where, what was asked, what is there."""
    table = headed("where", "~asked", "~found")
    for one in found:
        table.add_row(Text(one.where, "name"), *one.shown)
    return table
