"""From a sheet and facts to a layout: the one function that everything Narvet shows and writes follows from. Pure."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping

from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import CLEAN_IT, Folder
from narvet.formats.tables import table_format
from narvet.ground.findings import Finding, disk_place, guest_place
from narvet.ground.offers import offers
from narvet.ground.rules import disks as rules
from narvet.ground.rules import guests as guest_rules
from narvet.ground.rules import pools as pool_rules
from narvet.ground.rules.disks import file_of
from narvet.ground.units import MIB
from narvet.ground.values import replace
from narvet.guests import guest_system
from narvet.guests.contract import Everything, MountsInFolders, PartitionKey
from narvet.model.estate import NO_TABLE, Disk, Estate, Guest, Partition
from narvet.model.facts import Facts
from narvet.model.layout import Layout, Mountable, Origin, PlannedDisk
from narvet.model.moves import Answer, Aspect, Difference
from narvet.model.plugs import Plug
from narvet.plan.devices import check_devices
from narvet.plan.diff import diff_disks, diff_guests, is_ours
from narvet.plan.disks import image_path, plan_disk
from narvet.plan.earlier_images import check_earlier, earlier_differences, earlier_images
from narvet.plan.existing import onto, written_anew
from narvet.plan.mount_order import check_order, mounted_at
from narvet.plan.only import counted_only, narrowed
from narvet.plan.origins import check_origins, plan_origin
from narvet.plan.partition_request import Site
from narvet.plan.plugs import check_doors, check_plugs, plan_plugs, with_plugged
from narvet.plan.pools import plan_pools, with_pools, with_those_of_pools
from narvet.plan.relocate import relocated
from narvet.plan.renamed import with_first_names
from narvet.plan.resolve import Settled
from narvet.plan.seals import check_seals
from narvet.plan.services import check_services, class_of, with_order
from narvet.plan.store_capacity import check_stores, plan_stores
from narvet.sheet.resolved import ResolvedDisk, ResolvedSheet

_SHOWN_DIFFERENCES = 3
_ROOM_FOR_TABLES = 4 * MIB  # of partitions and images, with the log of their changes


def plan(asked: Settled, facts: Facts) -> Layout:
    """Return the sheet worked out. The same sheet and facts always give the same layout."""
    resolved = with_first_names(asked.sheet, facts)
    moved = relocated(resolved, facts)
    facts = moved.facts
    plugs = plan_plugs(resolved, facts)
    disks, said = _disks(resolved, facts, plugs)
    pools, of_pools, differ_pools = plan_pools(resolved, disks, facts)
    volumes = tuple(volume for pool in pools for volume in pool.volumes)
    guests = {**_guests(resolved, (*disks, *volumes), facts), **_left_as_they_are(resolved, facts)}
    systems = {name: guest.runs for name, guest in resolved.guests.items()}
    wanted = Estate({disk.name: disk.wanted for disk in disks}, guests)
    copied = frozenset(disk.name for disk in disks if disk.origin is not None)
    of_disks = diff_disks(wanted, facts.found, copied, facts.ledger)
    unclean = tuple(one for disk in disks for one in _check_clean(disk, of_disks[disk.name]))
    there = mounted_at(facts.found.guests)
    elsewhere = tuple(
        one for disk in disks for one in check_order(disk, of_disks[disk.name], there.get(disk.guest, {}))
    )
    said = (*said, *unclean, *elsewhere)
    kept = {one.where.name for one in said if one.level == "error" and rules.cannot_be_changed.made(one)}
    disks = tuple(_with_state(with_plugged(disk, facts), facts, of_disks[disk.name], kept) for disk in disks)
    disks = counted_only(with_pools(disks, pools), facts)
    earlier = earlier_images(disks, facts, resolved)
    stores = plan_stores(resolved, disks, facts.found)
    findings = (
        *check_plugs(resolved, plugs),
        *check_doors(disks, facts, with_those_of_pools(of_disks, pools, differ_pools)),
        *check_devices(disks, facts, of_disks),
        *check_services(resolved, disks, facts, of_disks),
        *asked.findings,
        *said,
        *of_pools,
        *(
            rules.image_left_by_move.warning(disk_place(name), one.image.place, facts.found.disks[name].image.place)
            for name, every in moved.left_behind.items()
            for one in every
        ),
        *(one for volume in volumes if volume.old for one in _not_as_asked(differ_pools, volume.name)),
        *(one for disk in disks for one in _check_existing(disk, facts, of_disks[disk.name])),
        *check_stores(stores, resolved, disks, facts.found.stores),
        *_check_guests(resolved, (*disks, *volumes), guests, facts),
        *check_origins(disks, facts),
        *check_seals(disks, pools, facts, {name: form.host for name, form in resolved.guests.items()}),
        *check_earlier(disks, earlier, facts),
    )
    layout = Layout(
        title=resolved.title,
        disks=disks,
        stores=stores,
        guests=guests,
        systems=systems,
        findings=findings,
        found=facts.found,
        left_behind=moved.left_behind,
        doors=facts.doors,
        pools=pools,
        guest_hosts={name: form.host for name, form in resolved.guests.items() if form.host},
        left_over={one.name: one.image for one in earlier if one.planned is None},
        differences=(
            *(one for own in of_disks.values() for one in own),
            *differ_pools,
            *(
                Difference(one.where, Aspect.STUCK, "as the sheet has it", one.message)
                for one in said
                if rules.cannot_be_changed.made(one)
            ),
            *(
                Difference(
                    disk_place(name), Aspect.LEFT_BEHIND, None, f"{one.image.place}, left by a move that was cut off"
                )
                for name, every in moved.left_behind.items()
                for one in every
            ),
            *earlier_differences(earlier),
            *diff_guests(wanted, facts.found, systems),
        ),
    )
    return narrowed(layout, facts)


_NAME_OF_VOLUME = slice(len("\\??\\Volume{"), len("\\??\\Volume{") + 36)
"""Where the name of a volume stands in what leads to it."""


def _disks(
    sheet: ResolvedSheet, facts: Facts, plugs: Mapping[str, Plug]
) -> tuple[tuple[PlannedDisk, ...], tuple[Finding, ...]]:
    folders, found = _folder_mounts(sheet)
    disks: list[PlannedDisk] = []
    for name, disk in sheet.disks.items():
        planned, said = _disk(sheet, disk, facts, plugs[name], folders)
        disks.append(planned)
        found += (*said, *_check_zone(sheet, planned))
    return tuple(disks), found


def _disk(
    sheet: ResolvedSheet,
    disk: ResolvedDisk,
    facts: Facts,
    plug: Plug,
    folders: Mapping[PartitionKey, tuple[Folder, ...]],
) -> tuple[PlannedDisk, tuple[Finding, ...]]:
    store, device = sheet.stores[disk.store], facts.devices.get(disk.name)
    path = device.path if device else image_path(facts.found.stores[disk.store].path, disk.name, disk.format)
    origin: Origin | None = None
    if disk.origin_path is None:
        guest = facts.found.guests.get(disk.guest, Guest(disk.guest))
        offered = class_of(store, facts.found.stores[disk.store]) if store.service else None
        ids = sheet.ids(disk.name)
        site = Site(path, sheet.system_of(disk), guest, ids, sheet.dated, store.stripe, store.flash, offered)
        existing = _existing(disk, sheet, facts)
        image, said = plan_disk(disk, site, folders, existing)
        if existing is not None:
            fitted, more = onto(image.wanted, existing, disk.place)
            image, said = replace(image, wanted=_without_old_links(fitted, existing, sheet)), (*said, *more)
    else:
        there = facts.origins[disk.name]
        existing = facts.found.disks.get(disk.name)
        origin = Origin("child" if disk.is_child else "copy", there.path, there.host)
        image, said = plan_origin(disk, path, there, existing, sheet.ids(disk.name).image, sheet.dated)
    host = facts.found.stores[disk.store].host
    if host:
        placed = replace(image.wanted.image, host=host)
        image = replace(image, wanted=replace(image.wanted, image=placed))
    spec = with_order(image.spec, disk, sheet, facts)
    if spec.order is not None:
        ordered = replace(image.wanted.image, attached=disk.guest, ordered=spec.order.told)
        image = replace(image, wanted=replace(image.wanted, image=ordered))
    planned = PlannedDisk(
        name=disk.name,
        guest=disk.guest,
        system=sheet.system_of(disk),
        store=disk.store,
        plug=plug,
        wanted=image.wanted,
        spec=spec,
        pieces=image.pieces,
        origin=origin,
    )
    return planned, said


def _without_old_links(wanted: Disk, found: Disk, sheet: ResolvedSheet) -> Disk:
    """Return a wanted disk none of whose folders is to lead to a volume of the sheet that is mounted elsewhere now."""
    there = {part.number: part.filesystem.links for part in found.partitions if part.filesystem}
    if not any(there.values()):
        return wanted
    ours = {
        str(sheet.ids(disk.name).partition(part.index)) for disk in sheet.disks.values() for part in disk.partitions
    }

    def fitted(part: Partition) -> Partition:
        inside = part.filesystem
        if inside is None:
            return part
        asked = {path for path, _ in inside.links}
        old = [
            path for path, to in there.get(part.number, ()) if path not in asked and to.lower()[_NAME_OF_VOLUME] in ours
        ]
        return replace(part, filesystem=replace(inside, links=(*inside.links, *((path, "") for path in old))))

    return replace(wanted, partitions=tuple(map(fitted, wanted.partitions)))


def _existing(disk: ResolvedDisk, sheet: ResolvedSheet, facts: Facts) -> Disk | None:
    """Return what was found in a disk's place, if it carries the ids that the sheet gives the disk."""
    found, ids = facts.found.disks.get(disk.name), sheet.ids(disk.name)
    if found is None:
        return None
    if disk.table is not None:
        return found if found.table_id == table_format(disk.table).native_id(ids.table) else None
    kinds = [filesystem(part.filesystem) for part in disk.partitions if part.filesystem]
    wanted = {ids.member(1), str(ids.seal(1)), *(kind.native_id(ids.filesystem(1)) for kind in kinds)}
    return found if wanted & set(found.content_ids) else None


def _folder_mounts(
    sheet: ResolvedSheet,
) -> tuple[Mapping[PartitionKey, tuple[Folder, ...]], tuple[Finding, ...]]:
    folders: dict[PartitionKey, tuple[Folder, ...]] = {}
    found: tuple[Finding, ...] = ()
    for name, guest in sheet.guests.items():
        system = guest_system(guest.runs)
        if offers(system, MountsInFolders):
            own, said = system.folder_mounts(sheet, name)
            folders |= own
            found += said
    return folders, found


def _guests(sheet: ResolvedSheet, disks: Iterable[Mountable], facts: Facts) -> Mapping[str, Guest]:
    every = Everything(tuple(disks))
    own = _by_guest(every.disks)
    return {
        name: guest_system(guest.runs).wanted(
            own[name],
            facts.found.guests.get(name, Guest(name)),
            every,
        )
        for name, guest in sheet.guests.items()
    }


def _left_as_they_are(sheet: ResolvedSheet, facts: Facts) -> dict[str, Guest]:
    """Return the guests of pools whose members are not together: their entries follow from what is not known then."""
    apart = {one.pool.id for one in facts.found.pools.values() if one.is_apart}
    names = {pool.guest for pool in sheet.pools.values() if (pool.id or sheet.pool_ids(pool.name).own) in apart}
    there = {name: facts.found.guests.get(name, Guest(name)) for name in names}
    return {name: replace(one, mount_points={}) for name, one in there.items()}


def _by_guest(disks: Iterable[Mountable]) -> Mapping[str, list[Mountable]]:
    own: dict[str, list[Mountable]] = defaultdict(list)
    for disk in disks:
        own[disk.guest].append(disk)
    return own


def _check_guests(
    sheet: ResolvedSheet, disks: tuple[Mountable, ...], wanted: Mapping[str, Guest], facts: Facts
) -> Iterator[Finding]:
    own = _by_guest(disks)
    for name in sheet.guests:
        yield from facts.found.guests[name].findings if name in facts.found.guests else ()
    for disk in disks:
        if disk.origin is None and isinstance(disk, PlannedDisk):
            yield from guest_system(disk.system).check_limits(disk, sheet.disks[disk.name])
    for name, guest in sheet.guests.items():
        found, gone = facts.found.guests.get(name, Guest(name)), wanted[name].surplus
        left = replace(found, entries=tuple(entry for entry in found.entries if entry not in gone)) if gone else found
        yield from guest_system(guest.runs).check_mounts(own[name], left)
    every = Everything(tuple(disks))
    for runs, old in facts.left_roots:
        system = guest_system(runs)
        count = sum(1 for _ in system.differences(system.wanted((), old, every), old))
        if count and old.root is not None:
            yield guest_rules.root_left.warning(guest_place(old.name).key("root"), old.root.shown(), count)


def _check_zone(sheet: ResolvedSheet, disk: PlannedDisk) -> Iterator[Finding]:
    store, guest = sheet.stores[disk.store].zone, sheet.guests[disk.guest].zone
    if store and guest and store != guest:
        yield rules.zone_differs.error(disk_place(disk.name), disk.store, store, disk.guest, guest)


def _check_clean(disk: PlannedDisk, differences: Iterable[Difference]) -> Iterator[Finding]:
    """Yield an error for every filesystem in which something is to be corrected, but that may not be changed now."""
    inside = (Aspect.VOLUME_LABEL, Aspect.OWNER, Aspect.MODE)
    wanted = {one.where.partition or 0 for one in differences if one.aspect in inside and one.answer.is_move}
    for part in disk.wanted.partitions:
        if part.number in wanted and part.there is not None and part.there.unclean:
            told = f"the {part.there.kind} cannot be changed: {part.there.unclean}"
            yield rules.cannot_be_changed.error(disk_place(disk.name).part(part.number), told, CLEAN_IT)


def _with_state(disk: PlannedDisk, facts: Facts, differences: tuple[Difference, ...], kept: set[str]) -> PlannedDisk:
    """Return a disk with what becomes of it, and the bytes that this stores; disks in `kept` cannot be changed."""
    found = facts.found.disks.get(disk.name)
    if found is None:
        return replace(disk, state="to make", needs=disk.wanted.image.stored)
    refused = disk.name in kept or any(one.answer is Answer.REFUSE for one in differences)
    if refused or not is_ours(disk.wanted, disk.origin, facts.origins.get(disk.name), found):
        return replace(disk, state="in the way")
    if not any(one.answer.is_move for one in differences):
        return replace(disk, state="as asked")
    moves = written_anew(disk.wanted, found, differences)
    return replace(disk, state="to change", needs=_needs(disk.wanted, found, moves=moves))


def _needs(wanted: Disk, found: Disk, *, moves: bool) -> int:
    """Return the most bytes that changing a disk stores: the log of changes is as large as they are, a copy as it is.

    What only gets another name on the same filesystem needs less; room for a copy is asked for all the same.
    """
    grown = sum(part.writes for part in wanted.partitions if part.resizing)
    new = sum(part.writes for part in wanted.partitions if part.new and part.there is None)
    full = max(wanted.size - found.size, 0) if wanted.image.space == "full" else 0
    changed = 2 * grown + new + full + _ROOM_FOR_TABLES
    return changed + (wanted.size if wanted.image.space == "full" else found.image.stored) if moves else changed


def _check_existing(disk: PlannedDisk, facts: Facts, differences: tuple[Difference, ...]) -> Iterator[Finding]:
    """Yield what is to be said about a disk's existing image."""
    found = facts.found.disks.get(disk.name)
    if found is None:
        return
    where = disk_place(disk.name)
    if not is_ours(disk.wanted, disk.origin, facts.origins.get(disk.name), found):
        yield rules.image_in_the_way.error(where, disk.path, _what_is_there(found))
        return
    refused = [one for one in differences if one.answer is Answer.REFUSE]
    if refused:
        told = "; ".join(
            f"{one.where} {one.aspect.title} is {one.shown[1]}, not {one.shown[0]}"
            for one in refused[:_SHOWN_DIFFERENCES]
        )
        yield rules.image_differs.error(where, disk.path, told)
        return
    for one in differences:
        if one.answer.is_move:
            continue
        yield rules.not_as_asked.warning(one.where, one.aspect.title, *one.shown)


def _not_as_asked(differences: Iterable[Difference], name: str) -> Iterator[Finding]:
    """Yield what is to be said about what stays as it is on a volume, or cannot become what is asked."""
    for one in differences:
        if one.where.name == name and one.answer is Answer.REFUSE:
            told, remedy = f"its {one.aspect.title} is {one.shown[1]}, not {one.shown[0]}", "set the sheet back"
            if one.aspect is Aspect.UUID:
                remedy = f'give it uuid = "{one.shown[1]}", if it is that one; or set the sheet back'
            yield pool_rules.pool_cannot_be_changed.error(one.where, told, remedy)
        elif one.where.name == name and one.answer is Answer.LEAVE:
            yield rules.not_as_asked.warning(one.where, one.aspect.title, *one.shown)


def _sentence(one: Difference) -> str:
    asked, there = one.shown
    return f"{one.where} {one.aspect.title} is {there}, not {asked}"


def _what_is_there(found: Disk) -> str:
    what = file_of(found.size)
    if found.table != NO_TABLE:
        what += f" with a {found.table} table {found.table_id}"
    elif found.partitions:
        what += " with a filesystem"
    fault = next((finding for finding in found.findings if finding.level == "error"), None)
    return f"{what} ({fault.message})" if fault else what
