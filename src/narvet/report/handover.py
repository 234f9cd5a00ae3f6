"""A handover as the parts of a page: what was asked, what is there, what is left to do for each guest."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from narvet.ground.errors import printable
from narvet.ground.units import counted, show_both, show_bytes
from narvet.guests import guest_system
from narvet.report.cores import bands_of, name_of
from narvet.report.facts import where_of
from narvet.report.paper import Code, Figure, Heading, Part, Rows, Steps, Tone, Words
from narvet.report.picture import cores_of, pages
from narvet.report.pools import spread_of

if TYPE_CHECKING:
    from narvet.ground.findings import Finding
    from narvet.model.layout import Layout, PlannedDisk
    from narvet.model.pools import PlannedPool
    from narvet.usecases.handover import Handover

_IN_A_FIGURE = 4
_MOST_DRAWN = 400
_TONES: dict[str, Tone] = {"error": "error", "warning": "warning", "note": "plain"}


def parts(done: Handover) -> Iterator[Part]:
    """Yield the parts of the page, in order."""
    layout = done.layout
    yield Heading(layout.title, 1)
    yield Words(f"{done.sheet}, {done.when}. Mark of the review: {done.mark}")
    yield from _state(done)
    yield Heading("Disks")
    yield _disks(layout)
    yield from _guests(done)
    yield Heading("Pictures")
    yield Words("Depth is the offset on the disk; each run is as tall as its size has digits.")
    yield from _figures(layout)
    yield Heading("Ids")
    yield _ids(layout)
    if layout.stores:
        yield Heading("Stores")
        yield _stores(layout)
    if layout.findings:
        yield Heading("Findings")
        yield from map(_finding, layout.findings)
    if done.digests:
        yield Heading("Digests of the images, SHA-256")
        yield Code([f"{digest}  {printable(path)}" for path, digest in done.digests.items()])
    if done.events:
        yield Heading("What was done")
        yield _events(done)


def _state(done: Handover) -> Iterator[Part]:
    """Yield whether everything is as asked, and what is not."""
    layout = done.layout
    missing = [disk for disk in layout.disks if disk.state == "to make"]
    if not layout.differences:
        yield Words(f"Everything is as the sheet asks: {counted(len(layout.disks), 'disk')} read back.", "good")
        return
    if missing:
        yield Words(f"{counted(len(missing), 'disk')} of {len(layout.disks)} not written yet.", "warning")
    yield Words("Not as the sheet asks:", "warning")
    rows = [(where_of(one), *one.shown) for one in layout.differences]
    yield Rows(("where", "asked", "found"), rows)
    if done.left:
        yield Words("narvet write would do this, in order:")
        yield Steps([f"{step.touches}: {step.summary}" for step in done.left])


def _disks(layout: Layout) -> Rows:
    headings = (
        "disk",
        "guest",
        "store",
        "slot",
        "size",
        "format",
        "filesystem",
        "mounted at",
        "owner, mode",
        "available",
        "state",
    )
    rows = [row for disk in layout.disks for row in _disk_rows(disk)]
    rows += [row for pool in layout.pools for row in _pool_rows(pool)]
    return Rows(headings, rows, frozenset({4, 9}))


def _pool_rows(pool: PlannedPool) -> Iterator[tuple[str, ...]]:
    for volume in pool.volumes:
        part, there = volume.wanted.partitions[0], pool.becomes.volume(volume.volume)
        mount, inside = part.mount, part.filesystem
        owner = f"{mount.owner} {mount.mode:04o}" if mount and mount.at else ""
        shown = show_both(part.capacity.available) if part.capacity else ""
        on = f"on {', '.join(pool.disks_of(there))}"
        own = f"{pool.name}.{volume.volume}", pool.guest, on, "", show_both(volume.wanted.size), spread_of(there)
        yield (*own, inside.kind if inside else "none", part.at or "", owner, shown, pool.state)


def _disk_rows(disk: PlannedDisk) -> Iterator[tuple[str, ...]]:
    image = disk.wanted.image
    own = (
        disk.name,
        disk.guest,
        disk.store,
        disk.slot or "none",
        show_both(image.size),
        f"{image.format}, {image.space}",
    )
    for part in disk.wanted.partitions:
        if disk.wanted.is_set_aside(part):
            continue
        mount, inside = part.mount, part.filesystem
        mode = f" {mount.mode:04o}" if mount and not mount.volume and mount.at else ""
        owner = f"{mount.owner}{mode}" if mount and mount.at else ""
        shown = show_both(part.capacity.available) if part.capacity else ""
        yield (*own, inside.kind if inside else "none", part.at or "", owner, shown, disk.state)
        own = ("", "", "", "", "", "")
    if own[0]:
        yield (*own, "none", "", "", "", disk.state)


def _guests(done: Handover) -> Iterator[Part]:
    """Yield what each guest gets, and what is to be done there by hand."""
    layout = done.layout
    by_hand = {work.guest: work for work in done.by_hand}
    for name, guest in layout.guests.items():
        if not any(disk.guest == name for disk in layout.disks):
            continue
        system = guest_system(layout.systems[name])
        lines = system.entry_lines(guest)
        yield Heading(f"Guest {name}, {layout.systems[name]}")
        work, door = by_hand.get(name), layout.doors.get(name)
        if work is not None:
            yield Words(f"{work.title}:")
            yield Steps(work.steps)
        elif door is not None:
            state = "running" if door.runs else "off" if door.is_open else "not reached"
            yield Words(f"Its disks are plugged in through its door, {door.kind} at {door.at}; the guest is {state}.")
        if lines:
            yield Words(f"Its entries, which go to {system.entries_go_to(guest)}:")
            yield Code(lines)


def _figures(layout: Layout) -> Iterator[Part]:
    disks = layout.disks
    if len(disks) > _MOST_DRAWN:
        yield Words(f"{counted(len(disks), 'disk')} are too many for this page; narvet picture draws them.")
        return
    for at in range(0, len(disks), _IN_A_FIGURE):
        own = disks[at : at + _IN_A_FIGURE]
        (canvas,) = pages("", cores_of(own, layout.pools), (), _IN_A_FIGURE)
        yield Figure(canvas, [line for disk in own for line in _instead(disk, layout.pools)])


def _instead(disk: PlannedDisk, pools: Iterable[PlannedPool]) -> Iterator[str]:
    """Yield a disk as a core sample in plain letters."""
    marks = {"filesystem": "##", "table": "xx", "unused": "  "}
    bands = bands_of(disk, pools)
    wide = max(len(show_bytes(band.start)) for band in bands)
    yield f"{disk.name}  {show_both(disk.size)}, {disk.wanted.image.format}; {disk.wanted.table_name}"
    for band in bands:
        what = f"{band.name}  {band.what}" if band.name else band.what
        at = f", at {band.mount_point}" if band.mount_point else ""
        yield f"{show_bytes(band.start):>{wide}} |{marks[band.made_of]}| {show_both(band.size)}  {what}{at}"
    yield ""


def _ids(layout: Layout) -> Rows:
    rows = []
    for disk in layout.disks:
        rows.append((disk.name, "serial", disk.plug.serial or "its service gives one"))
        if disk.wanted.table_id:
            rows.append(("", f"{disk.wanted.table_name} table", disk.wanted.table_id))
        for part in disk.wanted.partitions:
            if part.entry.id:
                rows.append(("", f"partition {part.number}, {name_of(part)}", part.entry.id))
            if part.filesystem and part.filesystem.uuid:
                rows.append(("", f"{part.filesystem.kind} on partition {part.number}", part.filesystem.uuid))
    for pool in layout.pools:
        rows.append((f"pool {pool.name}", "pool", pool.becomes.id))
        for volume in pool.volumes:
            inside = volume.wanted.partitions[0].filesystem
            rows.append(("", f"volume {volume.volume}", pool.becomes.volume(volume.volume).id))
            if inside is not None:
                rows.append(("", f"{inside.kind} on volume {volume.volume}", inside.uuid))
    return Rows(("disk", "of", "id"), rows)


def _stores(layout: Layout) -> Rows:
    rows = [
        (one.name, printable(one.place), *(show_both(size) for size in (one.room, one.promised, one.present)))
        for one in layout.stores
    ]
    return Rows(("store", "folder", "room", "promised", "present"), rows, frozenset({2, 3, 4}))


def _finding(one: Finding) -> Words:
    told = f"{one.level} {one.rule}, {one.where}: {printable(one.message)}"
    return Words(f"{told}. {one.remedy[:1].upper()}{one.remedy[1:]}." if one.remedy else f"{told}.", _TONES[one.level])


def _events(done: Handover) -> Rows:
    rows = []
    for one in done.events:
        what = f"{one.did}, {show_both(one.size)}" if one.size else one.did
        rows.append((one.when[:19].replace("T", " "), one.disk or one.guest, what, printable(one.touched)))
    return Rows(("when, UTC", "for", "what", "touched"), rows)
