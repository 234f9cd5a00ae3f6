"""The pools of a sheet: which members they have, which extents become a volume's, and what lies on each. Pure.

A pool starts from what is found of it: what is there stays where it is, and what is asked for besides comes from what
is free. The largest volume takes what all others leave, where it is asked to.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from fractions import Fraction

from narvet.formats.filesystems.contract import FilesystemState, UnfitError
from narvet.formats.pools.allot import Kind, NoRoomError, Transfer, allotted, most, moved_off
from narvet.formats.pools.tree import (
    Member,
    Pool,
    PoolVolume,
    Segment,
    empty_pool,
    numbered,
    renamed,
    with_members,
    with_segments,
    with_volume,
    written_id,
)
from narvet.formats.seals.header import DATA_OFFSET
from narvet.formats.tables.contract import PartitionEntry
from narvet.ground.errors import ImageError
from narvet.ground.findings import Finding, has_errors, pool_place
from narvet.ground.rules import filesystems as filesystem_rules
from narvet.ground.rules import pools as rules
from narvet.ground.units import MIB, TIB, align_up, show_bytes
from narvet.ground.values import Draft, field, replace
from narvet.guests import guest_system
from narvet.model.estate import NO_TABLE, Disk, Guest, Image, Partition
from narvet.model.facts import Facts
from narvet.model.layout import PlannedDisk
from narvet.model.moves import Answer, Aspect, Difference
from narvet.model.pools import VOLUME, FoundPool, MemberPlace, PlannedPool, PlannedVolume
from narvet.plan.diff import by_ledger, diff_disk
from narvet.plan.disks import mount_of, seal_of, solved, unfit, with_cost
from narvet.plan.existing import onto
from narvet.plan.partition_request import Below, PartitionRequest, Site, request_content
from narvet.sheet.resolved import PoolIds, ResolvedPool, ResolvedSheet, ResolvedVolume

_EXTENT, _MOST_EXTENTS = 4 * MIB, TIB // (4 * MIB)
_LARGEST_EXTENT = 1024 * MIB
_ROOM_FOR_TEXTS = 4 * MIB  # that a change of a member stores at most: rings, label, and the log of it


class _Work(Draft):
    """A pool while it is planned: what it has become so far, and what is to be said."""

    sheet: ResolvedSheet
    asked: ResolvedPool
    ids: PoolIds
    disks: Mapping[str, PlannedDisk]
    found: FoundPool | None
    pool: Pool
    members: dict[str, MemberPlace] = field(default_factory=dict)
    said: list[Finding] = field(default_factory=list)

    @property
    def before(self) -> Pool | None:
        return self.found.pool if self.found else None

    @property
    def system(self) -> str:
        return self.sheet.guests[self.asked.guest].runs

    def cannot(self, why: str, remedy: str, volume: str = "") -> None:
        """Take note of what cannot be changed."""
        place = replace(self.asked.place, name=f"{self.asked.name}.{volume}") if volume else self.asked.place
        self.said.append(rules.pool_cannot_be_changed.error(place, why, remedy))


def plan_pools(
    sheet: ResolvedSheet, disks: Iterable[PlannedDisk], facts: Facts
) -> tuple[tuple[PlannedPool, ...], tuple[Finding, ...], tuple[Difference, ...]]:
    """Return the pools of a sheet worked out, what is to be said about them, and how they differ from what is found."""
    every = {disk.name: disk for disk in disks}
    places = _places(every.values())
    owners = {one: found for found in facts.found.pools.values() for one in found.places}
    known = {found.pool.id: found for found in facts.found.pools.values()}
    pools: list[PlannedPool] = []
    said: tuple[Finding, ...] = ()
    differences: tuple[Difference, ...] = ()
    for asked in sheet.pools.values():
        if not guest_system(sheet.guests[asked.guest].runs).knows_pools:
            continue
        found = known.get(asked.id or sheet.pool_ids(asked.name).own)
        mine = places.get(asked.name, {})
        planned, findings = _pool(sheet, asked, every, mine, found, facts)
        findings += tuple(_strangers(asked, mine, found, owners))
        own = tuple(_differences(planned, facts)) if planned is not None else ()
        if any(one.answer.is_move for one in own):
            findings += tuple(_not_whole(asked, found))
        said += findings
        if planned is not None:
            pools.append(_with_state(planned, findings, own))
            differences += own
    return tuple(pools), said, differences


def _pool(
    sheet: ResolvedSheet,
    asked: ResolvedPool,
    disks: Mapping[str, PlannedDisk],
    places: dict[str, MemberPlace],
    found: FoundPool | None,
    facts: Facts,
) -> tuple[PlannedPool | None, tuple[Finding, ...]]:
    """Return a pool planned, None where nothing can be told of it, and what is to be said about it."""
    ids = sheet.pool_ids(asked.name)
    own = asked.id or ids.own
    if not places:
        return None, ()
    if found is None:
        total = sum(one.size for one in places.values())
        start = empty_pool(asked.name, own, asked.extent or _extent_for(total), sheet.dated)
    else:
        start = found.pool
    work = _Work(sheet, asked, ids, disks, found, start, places)
    if found is not None:
        work.said += _known_findings(found)
    if has_errors(work.said) or (found is not None and found.is_apart):
        return _unchanged(work, facts), tuple(work.said)
    _same_kind(work)
    leaving, transfers = _join(work)
    volumes = _volumes(work, facts)
    if leaving and any(one.found is not None and one.wanted.size < one.found.size for one in volumes):
        work.cannot("volumes become smaller while a member leaves", "do one after the other, each with its own write")
    if work.pool != work.before or (found is not None and found.stale):
        work.pool = numbered(work.pool, sheet.dated)
    planned = PlannedPool(
        asked.name, asked.guest, work.pool, work.before, places, volumes, leaving=leaving, transfers=transfers
    )
    work.said += _about(planned, work)
    return planned, tuple(work.said)


def _not_whole(asked: ResolvedPool, found: FoundPool | None) -> Iterator[Finding]:
    """Yield an error for mirrored volumes that cannot be counted on, as long as anything is to be changed."""
    for name, why in found.not_whole.items() if found else ():
        told = f"volume {name} is mirrored, and {why}: nothing in the pool can be changed"
        remedy = "start its guest, and let it make the copies alike"
        yield rules.pool_cannot_be_changed.error(asked.place, told, remedy)


def _extent_for(total: int) -> int:
    """Return the bytes of an extent of a new pool: so many that no text or tool goes through too many of them."""
    extent = _EXTENT
    while total // extent > _MOST_EXTENTS and extent < _LARGEST_EXTENT:
        extent *= 2
    return extent


def _places(disks: Iterable[PlannedDisk]) -> dict[str, dict[str, MemberPlace]]:
    """Return the members that a sheet gives its pools, by the pools' names and their own ids."""
    found: dict[str, dict[str, MemberPlace]] = {}
    for disk in disks:
        for part in disk.wanted.partitions:
            if part.pool and part.member is not None:
                sector = disk.wanted.image.sector_size or 512
                where = disk.name, disk.path, part.number, part.start, part.size
                place = MemberPlace(*where, sector, part.member.shape)
                found.setdefault(part.pool, {})[part.member.shape.id] = place
    return found


def _known_findings(found: FoundPool) -> Iterator[Finding]:
    yield from found.findings
    if found.is_apart:
        yield rules.pool_apart.warning(pool_place(found.pool.name), found.pool.name)
    for name in found.missing:
        hint = found.pool.member(name).hint
        yield rules.member_missing.error(pool_place(found.pool.name), found.pool.name, name, hint)
    if not found.pool.is_known:
        why = "it holds something of a kind that is not known here, so that it is not certain what is free"
        yield rules.pool_cannot_be_changed.error(pool_place(found.pool.name), why, "let its guest finish or undo that")


def _strangers(
    asked: ResolvedPool,
    mine: Mapping[str, MemberPlace],
    found: FoundPool | None,
    owners: Mapping[str, FoundPool],
) -> Iterator[Finding]:
    """Yield an error for every partition that is a member of another pool already."""
    for plain, place in mine.items():
        other = owners.get(plain)
        if other is not None and other is not found:
            why = f"the partition on disk {place.disk} is a member of another pool, {other.pool.name}"
            remedy = f'to take that pool over, give this one id = "{written_id(other.pool.id)}"'
            yield rules.pool_cannot_be_changed.error(asked.place, why, remedy)


def _unchanged(work: _Work, facts: Facts) -> PlannedPool:
    """Return a pool that stays as it is, as it cannot be told what it could become; its guest goes on using it."""
    known = work.found.volumes if work.found else {}
    volumes = []
    for index, one in enumerate(work.asked.volumes, 1):
        if one.name in known:
            mount = mount_of(_request(work, one, facts), guest_system(work.system), flash=False, read_only=False)
            disk = known[one.name]
            disk = replace(disk, partitions=tuple(replace(part, mount=mount) for part in disk.partitions))
            where = work.asked.name, one.name, work.asked.guest, work.system, one.kind
            volumes.append(PlannedVolume(*where, disk, index, one.name))
    return PlannedPool(work.asked.name, work.asked.guest, work.pool, work.before, work.members, tuple(volumes))


def _same_kind(work: _Work) -> None:
    """Take note where a pool that exists is asked to have extents of another size."""
    extent = work.asked.extent
    if work.before is not None and extent is not None and extent != work.before.extent:
        there, wanted = show_bytes(work.before.extent), show_bytes(extent)
        work.cannot(f"its extents have {there}, not {wanted}", "leave extent as it is, or make a new pool")


def _join(work: _Work) -> tuple[dict[str, MemberPlace], tuple[Transfer, ...]]:
    """Give the pool the members that the sheet has; return those that leave it, and what moves for that."""
    there = {one.id: one for one in work.pool.members}
    extent = work.pool.extent
    members: list[Member] = []
    for plain, place in work.members.items():
        shape = place.shape.resized(place.size) if place.size > place.shape.size else place.shape
        member = shape.member(extent)
        if plain in there and member.count < there[plain].count:
            member = replace(member, count=there[plain].count)
        members.append(member)
    leaving = [one for one in work.pool.members if one.id not in work.members]
    work.pool = with_members(work.pool, (*members, *leaving))
    if not leaving or work.found is None:
        return {}, ()
    try:
        becomes, transfers = moved_off(work.pool, [one.name for one in leaving])
    except NoRoomError as error:
        lacking = show_bytes(error.lacking * extent)
        work.cannot(
            f"a member cannot leave it: {lacking} of what lies there find no room on the others",
            "make the others larger, or add a disk to the pool; or make volumes smaller, with a write of its own, "
            "before the member leaves",
        )
        return {}, ()
    work.pool = with_members(with_segments(work.pool, becomes), members)
    there_now = {one.id: work.found.places[one.id] for one in leaving}
    return {plain: replace(one, path=work.disks[one.disk].path) for plain, one in there_now.items()}, transfers


def _volumes(work: _Work, facts: Facts) -> tuple[PlannedVolume, ...]:
    """Give the volumes their extents, that which takes the rest last; return them planned, as the sheet has them."""
    requests = {one.name: _request(work, one, facts) for one in work.asked.volumes}
    old = {one.name: _old_name(work, one) for one in work.asked.volumes}
    for one in work.asked.volumes:
        if old[one.name] not in ("", one.name):
            work.pool = renamed(work.pool, old[one.name], one.name)
    doubtful = set(_refuse_renamed(work, old))
    for one in sorted(work.asked.volumes, key=_order):
        if one.name in doubtful:
            continue
        _allot(work, one, requests[one.name], old[one.name])
    there = {one.name for one in work.pool.volumes}
    return tuple(
        _planned(work, one, index, requests[one.name], old[one.name])
        for index, one in enumerate(work.asked.volumes, 1)
        if one.name in there
    )


def _order(asked: ResolvedVolume) -> tuple[bool, bool]:
    """Return what puts volumes that need several members side by side first, and the one that takes the rest last."""
    return asked.content.size == "rest" and asked.content.usable is None, asked.kind.spread == "linear"


def _request(work: _Work, asked: ResolvedVolume, facts: Facts) -> PartitionRequest:
    guest = facts.found.guests.get(work.asked.guest, Guest(work.asked.guest))
    stores = [work.sheet.stores[work.disks[one.disk].store] for one in work.members.values()]
    ids = work.sheet.ids(next(iter(work.members.values())).disk)
    site = Site("", work.system, guest, ids, work.sheet.dated, flash=all(one.flash for one in stores))
    sector = max(one.sector_size for one in work.members.values())
    striped = asked.kind.spread == "striped"
    below = Below(sector, asked.kind.chunk if striped else 0, asked.kind.width if striped else 1)
    uuid = work.ids.filesystem(_first_name(work, asked))
    place = replace(work.asked.place, name=f"{work.asked.name}.{asked.name}")
    request, said = request_content(asked.content, place, site, uuid, below)
    if request.kind is not None and asked.content.uuid is not None:
        own = request.kind.uuid_of(asked.content.uuid)
        request = replace(request, wishes=request.wishes._replace(uuid=own))
    work.said += said
    return request


def _first_name(work: _Work, asked: ResolvedVolume) -> str:
    """Return the name that a volume's ids follow from: by its id in the pool, if the sheet has it, or the old one."""
    there = {one.name: one.id for one in work.pool.shown}
    ids = [there[name] for name in (asked.name, asked.was) if name in there]
    known = (name for name in (asked.name, asked.was) if name is not None and work.ids.volume(name) in ids)
    return next(known, asked.was or asked.name)


def _old_name(work: _Work, asked: ResolvedVolume) -> str:
    """Return the name that a volume has in the pool now, empty if it has none."""
    names = {one.name for one in work.pool.shown}
    return next((name for name in (asked.name, asked.was) if name is not None and name in names), "")


def _refuse_renamed(work: _Work, old: Mapping[str, str]) -> Iterator[str]:
    """Take note of new volumes that seem to be ones that the sheet no longer has, and yield their names."""
    if work.found is None:
        return
    asked = {one.name for one in work.asked.volumes}
    left = [one for one in work.pool.shown if one.name not in asked]
    for one in work.asked.volumes:
        if old[one.name] or not isinstance(one.content.size, int):
            continue
        count = _rounded(one.content.size, work.pool.extent, one.kind)
        for other in left:
            disk = work.found.volumes.get(other.name)
            inside = disk.partitions[0].filesystem if disk and disk.partitions else None
            if other.count == count and (inside.kind if inside else "") == (one.content.filesystem or ""):
                work.said.append(rules.volume_renamed.error(work.asked.place, other.name, one.name))
                yield one.name


def _rounded(size: int, extent: int, kind: Kind) -> int:
    return align_up(align_up(size, extent) // extent, kind.step)


def _allot(work: _Work, asked: ResolvedVolume, request: PartitionRequest, old: str) -> None:
    """Give a volume its extents."""
    there = work.pool.volume(asked.name) if old else None
    if there is not None and not _is_alike(work, asked, there):
        return
    count = _count(work, asked, request, there)
    if count is None or (there is not None and count == there.count):
        return
    try:
        copies = allotted(work.pool, there, asked.kind, count)
    except NoRoomError:
        at_most = most(work.pool, there, asked.kind) * work.pool.extent
        where = replace(work.asked.place, name=f"{work.asked.name}.{asked.name}").key("size")
        wanted = count * work.pool.extent
        work.said.append(rules.pool_without_room.error(where, asked.name, wanted, at_most))
        return
    own = work.ids.volume(_first_name(work, asked))
    work.pool = with_volume(work.pool, asked.name, own, copies, work.sheet.dated, work.ids.volume)


def _is_alike(work: _Work, asked: ResolvedVolume, there: PoolVolume) -> bool:
    """Return whether a volume that exists lies on its members as asked; take note if it does not."""
    kind = asked.kind
    if there.spread is None:
        return False
    has = Kind(there.spread, there.width if there.spread != "linear" else 1, there.chunk)
    if has.spread == kind.spread and has.width == kind.width and (has.chunk == kind.chunk or not kind.chunk):
        return True
    work.cannot(f"it is {_shown(has)}, not {_shown(kind)}", "make a new volume, and copy the files", asked.name)
    return False


def _shown(kind: Kind) -> str:
    over = f" over {kind.width}" if kind.width > 1 else ""
    chunks = f", in chunks of {show_bytes(kind.chunk)}" if kind.chunk else ""
    return f"{kind.spread}{over}{chunks}"


def _count(work: _Work, asked: ResolvedVolume, request: PartitionRequest, there: PoolVolume | None) -> int | None:
    """Return the extents that a volume is to have, None where that cannot be told."""
    extent, kind, size = work.pool.extent, asked.kind, asked.content.size
    where = replace(work.asked.place, name=f"{work.asked.name}.{asked.name}")
    if asked.content.usable is not None and request.kind is not None:
        disk = work.found.volumes.get(there.name) if work.found and there else None
        part = disk.partitions[0] if disk and disk.partitions and disk.partitions[0].filesystem else None
        try:
            size = solved(request, asked.content.usable, part.inner if part else None, extent * kind.step)
            size += (part.seal.offset if part and part.seal else DATA_OFFSET) if asked.content.seal else 0
            return _rounded(size, extent, kind)
        except UnfitError as error:
            work.said.append(filesystem_rules.usable_too_large.error(where.key("usable"), str(error)))
            return None
    if isinstance(size, Fraction):
        total = work.pool.total // extent
        return max(total * size.numerator // size.denominator // kind.step * kind.step, kind.step)
    if isinstance(size, int):
        return _rounded(size, extent, kind)
    count = most(work.pool, there, kind)
    if not count:
        work.said.append(rules.pool_without_room.error(where, asked.name, extent * kind.step, 0))
        return None
    return max(count, there.count if there else 0)


def _planned(work: _Work, asked: ResolvedVolume, index: int, request: PartitionRequest, old: str) -> PlannedVolume:
    """Return a volume with what lies on it."""
    place = replace(work.asked.place, name=f"{work.asked.name}.{asked.name}")
    size = work.pool.volume(asked.name).count * work.pool.extent
    system = guest_system(work.system)
    disks = [work.disks[one.disk] for one in work.members.values()]
    flash = all(work.sheet.stores[disk.store].flash for disk in disks)
    mount = mount_of(request, system, flash=flash, read_only=any(disk.plug.read_only for disk in disks))
    entry = PartitionEntry(0, 0, size, "", "", asked.content.label)
    seal = seal_of(asked.content, work.ids.seal(_first_name(work, asked)))
    part = Partition(entry, mount=mount, may_move=asked.content.move_files, seal=seal)
    part = with_cost(part, asked.content)
    found = work.found.volumes.get(old) if work.found and old else None
    if request.kind is not None:
        part = _filled(work, part, request, found)
    sector = request.wishes.sector_size
    wanted = Disk(Image(asked.name, VOLUME, "thin", size, sector), NO_TABLE, partitions=(part,))
    if found is not None:
        found = replace(found, image=replace(found.image, path=asked.name))
        wanted, said = onto(wanted, found, place)
        work.said += said
    return PlannedVolume(
        work.asked.name, asked.name, work.asked.guest, work.system, asked.kind, wanted, index, old, found
    )


def _filled(work: _Work, part: Partition, request: PartitionRequest, found: Disk | None) -> Partition:
    kind = request.kind
    if kind is None:
        return part
    try:
        new = kind.plan(part.inside, request.wishes._replace(noise=part.seal is not None))
    except UnfitError as error:
        if found is not None and request.asked.uuid is not None and not error.remedy:
            state = FilesystemState(kind.name, kind.native_id(request.wishes.uuid), request.wishes.label)
            return replace(part, filesystem=state)
        place = replace(work.asked.place, name=f"{work.asked.name}.{work.asked.volumes[request.asked.index - 1].name}")
        work.said.append(unfit(error, part.size, place))
        return part
    return replace(part, filesystem=new.state(), new=new)


def _about(planned: PlannedPool, work: _Work) -> Iterator[Finding]:
    """Yield what is to be said about volumes: left over, lost with a store, copied at the first start."""
    pool, asked = planned.becomes, {one.volume for one in planned.volumes}
    for other in pool.shown:
        if (
            other.name not in asked
            and other.spread is not None
            and not any(one.name == other.name for one in work.asked.volumes)
        ):
            size = other.count * pool.extent
            yield rules.volume_left_over.warning(planned.place, planned.name, other.name, size)
    for volume in planned.volumes:
        there = pool.volume(volume.volume)
        if there.spread == "mirrored":
            copies = [_stores(planned, work, one) for one in pool.inner_volumes(there) if "_rimage_" in one.name]
            if len({store for one in copies for store in one}) == 1 and copies:
                yield rules.copies_in_one_store.note(volume.place, volume.volume, copies[0][0])
            if not volume.old:
                yield rules.mirror_is_copied.note(volume.place, volume.volume, volume.wanted.size)
            continue
        stores = _stores(planned, work, there)
        if len(stores) > 1:
            yield rules.volume_over_stores.warning(volume.place, volume.volume, stores)


def _stores(planned: PlannedPool, work: _Work, volume: PoolVolume) -> tuple[str, ...]:
    return tuple(dict.fromkeys(work.disks[name].store for name in planned.disks_of(volume)))


def _differences(planned: PlannedPool, facts: Facts) -> Iterator[Difference]:
    """Yield how a pool differs from what was found of it."""
    where, before = planned.place, planned.before
    if before is None:
        names = ", ".join(dict.fromkeys(one.disk for one in planned.members.values()))
        yield Difference(where, Aspect.POOL, f"a pool on {names}", None)
    else:
        yield from _of_members(planned, before)
    for volume in planned.volumes:
        if not volume.old:
            part = volume.wanted.partitions[0]
            inside = part.filesystem.kind if part.filesystem else "no filesystem"
            yield Difference(volume.place, Aspect.VOLUME, f"{inside}, {show_bytes(volume.wanted.size)}", None)
            continue
        if volume.old != volume.volume:
            yield Difference(volume.place, Aspect.VOLUME_NAME, volume.volume, volume.old)
        if volume.found is not None:
            own = diff_disk(volume.place, volume.wanted, volume.found, is_copied=False)
            yield from by_ledger(own, facts.volumes_asked.get(volume.name, {}))


def _of_members(planned: PlannedPool, before: Pool) -> Iterator[Difference]:
    there = {one.id: one for one in before.members}
    becomes = {one.id: one for one in planned.becomes.members}
    for plain, place in planned.members.items():
        told = f"disk {place.disk}, partition {place.partition}" if place.partition else f"disk {place.disk}"
        if plain not in there:
            yield Difference(planned.place, Aspect.MEMBER, told, None)
        elif plain in becomes and becomes[plain].count != there[plain].count:
            asked, found = (one.count * before.extent for one in (becomes[plain], there[plain]))
            yield Difference(planned.place.inside(f"on disk {place.disk}"), Aspect.MEMBER_LARGER, asked, found)
    for place in planned.leaving.values():
        yield Difference(planned.place, Aspect.MEMBER_LEAVES, None, f"disk {place.disk}")
    same = planned.becomes.seqno != before.seqno and replace(planned.becomes, seqno=before.seqno) == before
    if same:
        yield Difference(planned.place, Aspect.TEXTS, "alike", "not alike")


def _with_state(planned: PlannedPool, said: Iterable[Finding], differences: Iterable[Difference]) -> PlannedPool:
    own = tuple(differences)
    if has_errors(said) or any(one.answer is Answer.REFUSE for one in own):
        return replace(planned, state="in the way")
    if planned.before is None:
        return planned
    return replace(planned, state="to change" if any(one.answer.is_move for one in own) else "as asked")


def with_pools(disks: Iterable[PlannedDisk], pools: Iterable[PlannedPool]) -> tuple[PlannedDisk, ...]:
    """Return disks with the most bytes that their pools store on them: fresh ones, and now."""
    needs: dict[str, int] = {}
    fresh: dict[str, int] = {}
    for pool in pools:
        changes = pool.state in ("to make", "to change")
        for place in (*pool.members.values(), *pool.leaving.values()):
            fresh[place.disk] = fresh.get(place.disk, 0) + _ROOM_FOR_TEXTS
            needs[place.disk] = needs.get(place.disk, 0) + (_ROOM_FOR_TEXTS if changes else 0)
        for volume in pool.volumes:
            part = volume.wanted.partitions[0]
            for name, size in _spread_over(pool, volume.volume, replace(part, there=None, resizing=None).writes):
                fresh[name] = fresh.get(name, 0) + size
            for name, size in _spread_over(pool, volume.volume, 2 * part.writes) if changes else ():
                needs[name] = needs.get(name, 0) + size
        for name, size in _moved(pool):
            needs[name] = needs.get(name, 0) + size
    return tuple(_with_more(disk, fresh[disk.name], needs[disk.name]) if disk.name in fresh else disk for disk in disks)


def _with_more(disk: PlannedDisk, fresh: int, needs: int) -> PlannedDisk:
    image = disk.wanted.image
    stored = min(image.stored + fresh, max(image.size, image.stored))
    return replace(disk, needs=disk.needs + needs, wanted=replace(disk.wanted, image=replace(image, stored=stored)))


def _spread_over(pool: PlannedPool, volume: str, size: int) -> Iterator[tuple[str, int]]:
    """Yield the most of so many bytes of a volume that each disk gets, by the disks' names."""
    becomes = pool.becomes
    names = {one.name: pool.members[one.id].disk for one in becomes.members if one.id in pool.members}
    for copy in _known_copies(becomes, volume) if size else ():
        held: dict[str, int] = {}
        for segment in copy:
            for name, _ in segment.parts:
                held[name] = held.get(name, 0) + segment.count // len(segment.parts) * becomes.extent
        yield from ((names[name], min(size, most_there)) for name, most_there in held.items() if name in names)


def _moved(pool: PlannedPool) -> Iterator[tuple[str, int]]:
    """Yield the bytes that extents which move take of the disks that they go to, by the disks' names."""
    becomes = pool.becomes
    names = {one.name: pool.members[one.id].disk for one in becomes.members if one.id in pool.members}
    for one in pool.transfers:
        if one.target[0] in names:
            yield names[one.target[0]], one.count * becomes.extent


def _known_copies(pool: Pool, name: str) -> tuple[tuple[Segment, ...], ...]:
    try:
        return pool.copies(pool.volume(name))
    except ImageError:
        return ()


def with_those_of_pools(
    of_disks: Mapping[str, tuple[Difference, ...]], pools: Iterable[PlannedPool], differences: Iterable[Difference]
) -> Mapping[str, tuple[Difference, ...]]:
    """Return the differences of disks with those of the pools that they are members of, whose changes change them."""
    found, of_pools = dict(of_disks), dict[str, list[Difference]]()
    for one in differences:
        of_pools.setdefault(one.where.pool, []).append(one)
    for pool in pools:
        for name in {place.disk for place in (*pool.members.values(), *pool.leaving.values())}:
            found[name] = (*found.get(name, ()), *of_pools.get(pool.name, ()))
    return found
