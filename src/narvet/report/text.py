"""Layouts, differences and findings as text: pure functions from values to what rich prints."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Literal

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from narvet.ground.errors import printable
from narvet.ground.findings import LEVELS, Finding, Rule, guest_place, has_errors, image_place
from narvet.ground.offers import offers
from narvet.ground.rules.disks import not_as_asked
from narvet.ground.rules.guests import entry_kept
from narvet.ground.units import counted, show_binary, show_both, show_bytes, show_decimal
from narvet.guests import guest_system
from narvet.guests.contract import UnlocksSeals, WritesSizes
from narvet.model.plugs import Plug
from narvet.plan.by_hand import HandWork, plug_in, show_rates
from narvet.report.changes import before_and_after, grid
from narvet.report.cores import Band, bands_of, bands_with
from narvet.report.facts import entry_facts, where_of
from narvet.report.totals import available_of, by_place, headed, totals

if TYPE_CHECKING:
    from narvet.formats.filesystems.contract import Capacity
    from narvet.model.devices import Device
    from narvet.model.estate import Disk, Partition
    from narvet.model.layout import Layout, PlannedDisk, StoreCapacity
    from narvet.model.moves import Difference, Step
    from narvet.report.terminal import Marks
    from narvet.usecases.attach import Attaching
    from narvet.usecases.enlarge import Resized
    from narvet.usecases.explain import ExplainedKey
    from narvet.usecases.history import Event
    from narvet.usecases.layout import Reviewed
    from narvet.usecases.make import Made
    from narvet.usecases.write import Written

MOST_IN_DEPTH = 8
"""With more disks than this a review gives each a line; those named on the command line are still shown in depth."""

MOST_LISTED = 200
"""With more disks than this a review adds them up guest by guest, and leaves their entries to `narvet entries`."""


LEFT: Literal["left"] = "left"


def core(bands: Iterable[Band], marks: Marks) -> RenderableType:
    """Return a disk as a core sample: depth on the left, the material, then length and what is there.

    Where the terminal is narrow, that stands on a line of its own.
    """
    table = grid("right", "left", "right") if marks.narrow else grid("right", "left", "right", "left")
    parts: list[RenderableType] = []
    for band in bands:
        text = Text.assemble((f"{band.name}  ", "name"), band.what) if band.name else Text(band.what, "dim")
        if band.mount_point:
            text.append(f" {marks.arrow} {band.mount_point}")
        material = Text(getattr(marks, band.made_of), band.made_of)
        row = show_bytes(band.start), material, show_binary(band.size)
        if marks.narrow:
            table.add_row(*row)
            parts += [table, Padding(text, (0, 0, 0, 4))]
            table = grid("right", "left", "right")
        else:
            table.add_row(*row, text)
    return Group(*parts) if marks.narrow else table


def review(reviewed: Reviewed, named: Sequence[str], marks: Marks, depth: str = "") -> RenderableType:
    """Return a whole review; `named` are the disks to be shown in depth, none meaning all if they are few.

    `depth` is "brief" for a line each, "long" for all in depth with all entries.
    """
    layout = reviewed.layout
    most = {"brief": 0, "long": len(layout.disks)}.get(depth, MOST_IN_DEPTH)
    deep = set(named) or ({disk.name for disk in layout.disks} if len(layout.disks) <= most else set())
    parts: list[RenderableType] = [Text(layout.title, "name"), _counted(layout), ""]
    if len(deep) < len(layout.disks) and not named:
        listed = depth == "brief" or len(layout.disks) <= MOST_LISTED
        parts += [_brief(layout.disks, marks), ""] if listed else totals(layout)
        parts += ["Name disks after the sheet to see them in depth.", ""] if depth != "brief" else []
    for disk in layout.disks:
        if disk.name in deep:
            parts += [_disk(disk, layout, marks), ""]
    parts += _pools(layout, deep, marks)
    guests = {disk.guest for disk in layout.disks if disk.name in deep}
    parts += _by_hand(layout, [disk for disk in layout.disks if disk.name in named])
    parts += _guest_changes([one for one in layout.differences if one.where.name in guests], marks)
    if not named:
        parts += [_stores(layout.stores, marks), ""] if layout.stores else []
        with_entries = depth == "long" or (depth != "brief" and len(layout.disks) <= MOST_LISTED)
        parts += _guests(layout, marks) if with_entries else []
        parts += _must_be_off(reviewed.steps)
    return Group(*parts)


def _pools(layout: Layout, deep: Collection[str], marks: Marks) -> Iterable[RenderableType]:
    """Yield the pools that disks shown in depth are members of."""
    from narvet.report.pools import planned

    for pool in layout.pools:
        if any(one.disk in deep for one in pool.members.values()):
            yield planned(layout, pool, marks)
            yield ""


def _by_hand(layout: Layout, disks: Iterable[PlannedDisk]) -> Iterable[RenderableType]:
    """Return how disks are plugged into guests that have no door."""
    own: dict[str, list[PlannedDisk]] = {}
    for disk in disks:
        if disk.guest not in layout.doors:
            own.setdefault(disk.guest, []).append(disk)
    for guest, every in own.items():
        yield from _work(plug_in(guest, every))
        yield ""


def _work(work: HandWork) -> Iterable[RenderableType]:
    yield Text(work.title, "name")
    yield numbered(work.steps)


def _counted(layout: Layout) -> Text:
    guests = len({disk.guest for disk in layout.disks})
    counts = [counted(len(layout.disks), "disk"), counted(guests, "guest"), counted(len(layout.stores), "store")]
    counts[1:1] = [counted(len(layout.pools), "pool")] if layout.pools else []
    hosts = {*(store.host for store in layout.stores), *layout.guest_hosts.values()} - {""}
    counts += [counted(len(hosts), "host")] if hosts else []
    return Text(", ".join(counts), "dim")


def _brief(disks: Iterable[PlannedDisk], marks: Marks) -> RenderableType:
    """Return a line for each disk; the least of it where the terminal is narrow."""
    whole = ("disk", "~guest", "~store", "size", "available", "~state")
    table = headed("disk", "size", "~state") if marks.narrow else headed(*whole)
    for disk in disks:
        size, shown = show_binary(disk.size), show_binary(available_of(disk))
        more = (disk.guest, disk.store, size, shown)
        table.add_row(Text(disk.name, "name"), *((size,) if marks.narrow else more), disk.state)
    return table


def _disk(disk: PlannedDisk, layout: Layout, marks: Marks) -> RenderableType:
    place = f"for {disk.guest} at {_slot(disk)}, in store {disk.kept_in}{_class(disk)}; {_state(disk)}"
    if disk.origin is not None:
        place += f"; a {disk.origin.how} of {disk.origin.seen_from(disk.wanted.image.host)}"
    place += f"\n{_recognised(disk)}"
    core_of = _core(disk.wanted, bands_of(disk, layout.pools), disk.system, disk.name, place, marks)
    return Group(core_of, _changes(disk, layout.differences, marks)) if disk.state == "to change" else core_of


def _class(disk: PlannedDisk) -> str:
    """Return what a service gives a volume, nothing for other disks."""
    order = disk.spec.order
    if order is None or not order.operations:
        return ""
    return f" ({order.volume_class}, {counted(order.operations, 'operation')} a second)"


def _slot(disk: PlannedDisk) -> str:
    """Return where a disk is plugged in, and whether its guest must be off for that."""
    if disk.spec.order is not None:
        return "a position that its service gives"
    if disk.slot is None:
        return "no slot"
    if disk.plugged is not None:
        return f"{disk.slot}, plugged in now"
    return disk.slot if disk.plug.guest_may_run else f"{disk.slot}, while that is off"


def _recognised(disk: PlannedDisk) -> str:
    """Return what a guest knows a disk by, and how it is plugged in where that is not as usual."""
    plug, usual = disk.plug, Plug()
    size = guest_system(disk.system).writes_size(disk.size)
    told = [
        (f"inside: serial {plug.serial}, {size}" if plug.serial else f"inside: {size}")
        + (f", table id {disk.wanted.table_id}" if disk.wanted.table_id else ""),
        "read-only" if plug.read_only else "",
        "shared" if plug.shared else "",
        f"hold {plug.hold}" if plug.hold != usual.hold else "",
        f"at most {show_rates(plug.ceiling)}" if plug.ceiling != usual.ceiling else "",
        f"at least {show_rates(plug.floor)}" if plug.floor != usual.floor else "",
    ]
    return "; ".join(one for one in told if one)


def attached(done: Attaching) -> RenderableType:
    """Return what was done at guests through their doors, and the lists of what is to be done by hand."""
    from narvet.usecases.attach import SMALLER

    table = grid("left", "left", "left", "left")
    for one in done.done:
        slot = f"{one.guest} {one.slot}" if one.slot else one.guest
        did = f"{one.did}; --enlarge makes it larger" if SMALLER in one.did else one.did
        table.add_row(Text(one.disk, "name"), did, slot, Text(f"serial {one.serial}", "dim"))
    parts: list[RenderableType] = [table] if done.done else []
    for work in done.by_hand:
        parts += [*([""] if parts else []), *_work(work)]
    return Group(*parts)


def history(events: Iterable[Event], marks: Marks) -> RenderableType:
    """Return what was done under its day, times in UTC: a row each, or where the terminal is narrow some lines."""
    parts: list[RenderableType] = []
    days: dict[str, list[Event]] = {}
    for one in events:
        days.setdefault(one.when[:10], []).append(one)
    for day, own in days.items():
        table, lines = grid("left", "left", "left", "left"), list[RenderableType]()
        for one in own:
            size = f"{one.did}, {show_both(one.size)}" if one.size else one.did
            when, name = Text(one.when[11:19], "dim"), Text(one.disk or one.guest, "name")
            if marks.narrow:
                lines += [
                    Text.assemble(when, "  ", name),
                    Padding(size, (0, 0, 0, 4)),
                    Padding(one.touched, (0, 0, 0, 4)),
                ]
            else:
                table.add_row(when, name, size, one.touched)
        every = Group(*lines) if marks.narrow else table
        parts += [Text(f"{day or 'without a day'}, UTC", "dim"), Padding(every, (0, 0, 1, 2))]
    return Group(*parts) if parts else Text("Nothing was done yet.")


def devices(found: Sequence[Device]) -> RenderableType:
    """Return a machine's devices, a few lines each."""
    if not found:
        return Text("This machine has no block devices.")
    parts: list[RenderableType] = []
    for one in found:
        head = Text.assemble((one.path, "name"), f"  {show_both(one.size)}")
        about = [
            f"serial {one.serial}" if one.serial else "no serial",
            one.model,
            f"sectors of {show_bytes(one.sector_size)}",
        ]
        about += [
            "rotates" if one.rotates else "flash",
            "read-only" if one.read_only else "",
            "removable" if one.removable else "",
        ]
        parts += [head, Padding(Text(", ".join(word for word in about if word), "dim"), (0, 0, 0, 2))]
        parts.append(Padding(Text(f"holds {one.holds}" if one.holds else "blank"), (0, 0, 0, 2)))
        parts += [Padding(Text(user), (0, 0, 0, 2)) for user in one.users]
        parts.append("")
    return Group(*parts[:-1])


def numbered(steps: Iterable[str]) -> RenderableType:
    """Return steps, numbered from 1."""
    table = grid("right", "left")
    for number, step in enumerate(steps, 1):
        table.add_row(f"{number}.", step)
    return Padding(table, (0, 0, 0, 2))


def _changes(disk: PlannedDisk, differences: Iterable[Difference], marks: Marks) -> RenderableType:
    """Return what a disk that exists is and what it becomes."""
    own = [one for one in differences if one.where.kind == "disk" and one.where.name == disk.name]
    moves = [one for one in own if one.answer.is_move]
    table = before_and_after(moves, disk.place, _by_number(disk.wanted), marks)
    return Padding(Group("What changes", Padding(table, (0, 0, 0, 2))), (1, 0, 0, 2))


def resized(done: Resized, marks: Marks) -> RenderableType:
    """Return what a disk was and what it is now, or that nothing changed."""
    failed = has_errors(done.findings)
    head = Text.assemble((done.after.path, "name"), f"  {show_both((done.before if failed else done.after).size)}")
    if failed:
        return Group(head, "Nothing was changed: see to the errors first.")
    if not done.changes:
        return Group(head, "There is nothing to be changed.")
    changed = before_and_after(done.changes, image_place(done.after.path), _by_number(done.after), marks)
    return Group(head, Padding(changed, (0, 0, 0, 2)))


def _by_number(disk: Disk) -> Iterable[tuple[str, Partition]]:
    return [(f"partition {part.number}" if part.number else "", part) for part in disk.partitions]


def made(one: Made, marks: Marks) -> RenderableType:
    """Return a disk that was made without a sheet."""
    wanted = one.image.wanted
    return _core(wanted, bands_with(wanted, one.image.pieces), one.system, one.path, "made", marks)


def _core(disk: Disk, bands: Iterable[Band], system: str, name: str, place: str, marks: Marks) -> RenderableType:
    image = disk.image
    sectors = f"{disk.table_name}, sectors of {show_bytes(image.sector_size)}"
    head = Text.assemble((name, "name"), f"  {show_both(image.size)}, {image.format}, {image.space}; {sectors}")
    shown = [shows(part, part.capacity, system, marks) for part in disk.partitions if part.capacity]
    return Group(head, Text(place, "dim"), Padding(core(bands, marks), (1, 0, 0, 2)), *shown)


def _state(disk: PlannedDisk) -> str:
    return f"to make, {show_binary(disk.wanted.image.stored)} at first" if disk.state == "to make" else disk.state


def shows(part: Partition, shows: Capacity, system: str, marks: Marks, what: str = "the partition") -> RenderableType:
    """Return what the guest will show for a filesystem, and the account of where the other bytes went.

    Where the terminal is narrow, only the bytes are given.
    """
    table = grid("right", "left") if marks.narrow else grid("right", "right", "right", "left")

    def row(sign: str, size: int, what: str, style: str = "") -> None:
        sizes = () if marks.narrow else (show_binary(size), show_decimal(size))
        table.add_row(f"{sign}{show_bytes(size)}", *sizes, what, style=style)

    row("", part.size, what)
    for loss in shows.losses:
        row("- ", loss.size, loss.what, "dim")
    row("", shows.available, "available to fill", "name")
    row("", shows.total, "shown as the total size", "name")
    head = Text.assemble(f"The guest will show {'at' if part.at else 'for'} ", (part.at or part.entry.label, "name"))
    writes = guest_system(system)
    own = [Padding(Text(writes.shows(shows)), (0, 0, 0, 2))] if offers(writes, WritesSizes) else []
    return Padding(Group(head, Padding(table, (0, 0, 0, 2)), *own), (1, 0, 0, 2))


def _stores(stores: Iterable[StoreCapacity], marks: Marks) -> RenderableType:
    """Return what each store has; only its room and what is left where the terminal is narrow."""
    stores = tuple(stores)
    hosts = ("~host",) if any(one.host for one in stores) and not marks.narrow else ()
    whole = ("store", *hosts, "room", "kept free", "promised", "present", "left")
    table = headed("store", "room", "left") if marks.narrow else headed(*whole)
    for store in stores:
        left = show_binary(store.left) if store.left >= 0 else f"- {show_binary(-store.left)}"
        sizes = (store.room, store.kept, store.promised, store.present)
        shown = [show_binary(size) for size in (sizes[:1] if marks.narrow else sizes)]
        host = (store.host or "this machine",) if hosts else ()
        table.add_row(Text(store.name, "name"), *host, *shown, Text(left, "" if store.left >= 0 else "warning"))
    return table


def _guests(layout: Layout, marks: Marks) -> Iterable[RenderableType]:
    for name, guest in layout.guests.items():
        system = guest_system(layout.systems[name])
        rows = system.entry_rows(guest)
        if not rows:
            continue
        yield Text.assemble((name, "name"), f" {marks.arrow} {system.entries_go_to(guest)}")
        table = grid(*(LEFT for _ in rows[0]))
        for row in rows:
            table.add_row(*row)
        yield Padding(table, (0, 0, 1, 2))
        lines = system.unlock_lines(guest) if offers(system, UnlocksSeals) else ()
        if offers(system, UnlocksSeals) and lines:
            yield Text.assemble((name, "name"), f" {marks.arrow} {system.unlocks_go_to(guest)}")
            yield Padding(Text("\n".join(lines)), (0, 0, 1, 2))


def _guest_changes(differences: Iterable[Difference], marks: Marks) -> Iterable[RenderableType]:
    """Return what guests have already that becomes something else; nothing if all stays."""
    own = [one for one in differences if one.where.kind == "guest" and one.answer.is_move and one.found is not None]
    for name in dict.fromkeys(one.where.name for one in own):
        yield Text.assemble("What changes in ", (name, "name"))
        table = grid("left", "left", "left", "left")
        for one in own:
            if one.where.name == name:
                becomes, was = one.shown
                table.add_row(where_of(one).removeprefix(str(guest_place(name))).strip(". "), was, marks.arrow, becomes)
        yield Padding(table, (0, 0, 1, 2))


def _must_be_off(steps: Iterable[Step]) -> Iterable[RenderableType]:
    """Return which guests must be off while steps are done, and for which paths; nothing if all may run."""
    paths: dict[str, list[str]] = {}
    for step in steps:
        if not step.guest_may_run:
            paths.setdefault(step.guest, []).append(step.touches)
    for guest, touched in paths.items():
        own = list(dict.fromkeys(touched))
        changes = f"{', '.join(own)} {'changes' if len(own) == 1 else 'change'}"
        yield Text.assemble((guest, "name"), f" must be off while this is written: {changes}.")
    yield from [""] if paths else []


def entry_texts(layout: Layout, guest: str | None) -> str:
    """Return the entries of one guest, ready to paste or to import, or those of all guests under their names."""
    if guest is not None:
        return guest_system(layout.systems[guest]).entry_text(layout.guests[guest])
    lines = entry_facts(layout)
    return "\n".join(f"# {name}\n" + "\n".join(own) for name, own in lines.items())


def findings(found: Sequence[Finding], marks: Marks) -> RenderableType:
    """Return findings, errors first: level, rule and place, then what it is and the way out."""
    parts: list[RenderableType] = []
    for finding in sorted(found, key=lambda one: LEVELS.index(one.level)):
        head = (f"{finding.level} ", finding.level), f"{finding.rule}  ", (str(finding.where), "name")
        parts.append(Text.assemble(*head))
        parts.append(Padding(Text(printable(finding.message)), (0, 0, 0, 2)))
        if finding.remedy:
            parts.append(Padding(Text(f"{marks.arrow} {finding.remedy}"), (0, 0, 0, 2)))
        parts.append("")
    return Group(*parts)


def rules(every: Mapping[str, Rule[...]], marks: Marks, *, in_full: bool) -> RenderableType:
    """Return rules with what they mean, and `in_full` with the way out."""
    if not in_full:
        table = headed("rule", "~what it means")
        for name, rule in every.items():
            table.add_row(Text(name, "name"), rule.meaning)
        return table
    parts: list[RenderableType] = []
    for name, rule in every.items():
        parts += [Text(name, "name"), Padding(Text(rule.meaning), (0, 0, 0, 2))]
        parts += [Padding(Text(f"{marks.arrow} {rule.way_out}"), (0, 0, 0, 2)), ""]
    return Group(*parts)


def keys(every: Iterable[ExplainedKey]) -> RenderableType:
    """Return keys of a sheet, with what each means and what stands in for it."""
    parts: list[RenderableType] = []
    for one in every:
        place = "a sheet" if one.table == "sheet" else f"[{one.table}]"
        parts += [Text.assemble((one.key, "name"), (f"  of {place}", "dim")), Padding(Text(one.meaning), (0, 0, 0, 2))]
        parts += [Padding(Text(f"default: {one.usual}", "dim"), (0, 0, 0, 2))] if one.usual else []
        parts.append("")
    return Group(*parts)


def words(every: Mapping[str, str]) -> RenderableType:
    """Return words with what each means."""
    table = grid("left", "left")
    for word, meaning in every.items():
        table.add_row(Text(word, "name"), meaning)
    return table


def written(done: Written) -> RenderableType:
    """Return what a write did, or why it did nothing."""
    found = done.layout.findings
    if has_errors(found):
        return Text("Nothing was written: correct the errors above first.")
    if not done.done and any(not_as_asked.made(one) or entry_kept.made(one) for one in found):
        return Text("Nothing was changed; what is not as the sheet has it stands above.")
    if not done.done:
        return Text("All is as asked; nothing was changed.")
    if len(done.done) > MOST_LISTED:
        return Group(by_place(done.done, done.layout), "", "narvet history shows each of them.")
    return steps_done(done.done)


def steps_done(done: Sequence[Step]) -> RenderableType:
    """Return steps that were done, a row each."""
    table = grid("left", "left")
    for step in done:
        table.add_row(Text(step.touches, "name"), step.summary)
    return table


def differences(found: Sequence[Difference]) -> RenderableType:
    """Return differences as rows: where, what was asked, what is there."""
    table = headed("where", "~asked", "~found")
    for one in found:
        table.add_row(Text(where_of(one), "name"), *one.shown)
    return table
