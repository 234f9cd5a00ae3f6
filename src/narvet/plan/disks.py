"""One disk of a sheet planned: sizes, places, filesystems, ids, and what is to be said about them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import lru_cache
from types import MappingProxyType
from uuid import UUID

from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import FilesystemState, Folder, UnfitError, Wishes
from narvet.formats.images import ending_of, image_format
from narvet.formats.images.contract import ImageFormat, ImageSpec, Space, violations
from narvet.formats.pools.member import LEAST, MemberState, fresh_shape
from narvet.formats.seals.header import DATA_OFFSET, Seal, new_seal
from narvet.formats.tables import table_format
from narvet.formats.tables.contract import (
    POOL,
    Bounds,
    LinksPartitions,
    PartitionEntry,
    Reserved,
    TableFormat,
    check_alignment,
)
from narvet.ground.errors import BugError
from narvet.ground.extents import Extent
from narvet.ground.findings import Finding, Place, disk_place
from narvet.ground.offers import offers
from narvet.ground.rules import disks as rules
from narvet.ground.rules import filesystems as filesystem_rules
from narvet.ground.rules import images as image_rules
from narvet.ground.rules import pools as pool_rules
from narvet.ground.rules import tables as table_rules
from narvet.ground.units import align_up, show_both
from narvet.ground.values import Frozen, replace
from narvet.guests import guest_system
from narvet.guests.contract import GuestSystem, PartitionKey
from narvet.model.estate import DEFAULT_SECTOR_SIZE, NO_TABLE, Disk, Image, Mount, Partition
from narvet.model.layout import Piece
from narvet.plan.existing import keep_places, offers_of
from narvet.plan.partition_request import PartitionRequest, Site, request_partition
from narvet.plan.place import PartSize, disk_size_for, pieces, place
from narvet.plan.solve import smallest_growth, smallest_size
from narvet.sheet.resolved import ResolvedDisk, ResolvedPartition

_NO_ID = UUID(int=0)
_ANY = disk_place("any")
_LARGE = 1 << 62  # any disk large enough to ask a table how much it takes at either end


def image_path(store_path: str, disk: str, format_name: str) -> str:
    """Return where a disk's image is kept."""
    return f"{store_path}/{disk}{ending_of(format_name)}"


class _Room(Frozen):
    """What the table of a disk is called by, and the partition that is set aside first."""

    table_id: str = ""
    set_aside: Partition | None = None

    @property
    def before(self) -> int:
        """How many partitions come before those of the sheet."""
        return 0 if self.set_aside is None else 1


class PlannedImage(Frozen):
    """A disk planned for a site: what is wanted, what its image is made by, and what its bytes are for."""

    wanted: Disk
    spec: ImageSpec
    pieces: tuple[Piece, ...]


def plan_disk(
    disk: ResolvedDisk,
    site: Site,
    folders: Mapping[PartitionKey, tuple[Folder, ...]] = MappingProxyType({}),
    existing: Disk | None = None,
) -> tuple[PlannedImage, tuple[Finding, ...]]:
    """Return a disk planned and what is to be said about it; `folders` is what is mounted in each partition.

    `existing` is what was found in its place, if that is its own.
    """
    table = table_format(disk.table) if disk.table else None
    both = [request_partition(disk, one, site, folders.get((disk.name, one.index), ())) for one in disk.partitions]
    requests = [request for request, _ in both]
    found = [finding for _, said in both for finding in said]
    if table:
        found += _table_checks(table, disk, requests)
    sizes, too_large = _sizes(disk, requests, existing)
    found += too_large
    size = _disk_size(disk, table, sizes, existing)
    if disk.size is None and site.offered is not None:
        size = site.offered.fit(size)
    found += _size_checks(disk, table, size)
    kinds = tuple(map(type, sizes))
    frame = _frame(disk.table, size, disk.set_aside, disk.align, disk.sector_size, tuple(sizes), kinds)
    room, places = _room(disk, site, frame), frame.places
    if existing is not None and table is not None:
        numbers = [_number(disk, request, table, room.before) for request in requests]
        places, in_the_way = keep_places(
            places, sizes, numbers, existing, frame.bounds, disk.align, disk.sector_size, disk.place
        )
        found += in_the_way
    if table is not None and not (frame.is_well and places is frame.places):
        found += _place_checks(frame.bounds, places, sizes, disk.place)
    parts = [room.set_aside] if room.set_aside else []
    for request, run in zip(requests, places, strict=True):
        native_id = request.kind.native_id(request.wishes.uuid) if request.kind else ""
        adopted = existing is not None and request.asked.uuid is not None
        keeps = adopted and native_id in (existing.content_ids if existing else ())
        part, said = _partition(disk, site, request, run, room, keeps=keeps)
        parts.append(part)
        found += said
    plain = _plain_spec(
        disk.format, size, disk.sector_size, disk.space, disk.block_size, disk.pieces, disk.packed, site.dated
    )
    spec = replace(plain.spec, id=site.ids.image)
    if not plain.is_well:
        found += _format_checks(image_format(disk.format), spec, disk.place)
    return _planned(disk, site, spec, room.table_id, tuple(parts)), tuple(found)


def _planned(
    disk: ResolvedDisk, site: Site, spec: ImageSpec, table_id: str, parts: tuple[Partition, ...]
) -> PlannedImage:
    takes = _takes(disk.table, spec.size, spec.sector_size) if disk.table else _NO_TAKES
    written = takes.total + sum([part.writes for part in parts])
    image = Image(
        path=site.path,
        format=disk.format,
        space=disk.space,
        size=spec.size,
        sector_size=spec.sector_size,
        stored=image_format(disk.format).footprint(spec, written),
        block_size=spec.block_size or 0,
    )
    wanted = Disk(image, disk.table or NO_TABLE, table_id, parts)
    places = tuple([(part.number, Extent(part.start, part.size)) for part in parts])
    return PlannedImage(wanted, spec, pieces(spec.size, takes.reserved, places))


class _Frame(Frozen):
    """What disks have in common whose sizes are the same: what their table leaves, and where partitions lie.

    `aside` is the run that is set aside first. `is_well` says that there is nothing to be said of these places.
    """

    bounds: Bounds
    places: Sequence[Extent]
    aside: Extent | None = None
    is_well: bool = True


@lru_cache(maxsize=1024)
def _frame(
    table: str | None,
    size: int,
    set_aside: int,
    align: int,
    sector_size: int,
    sizes: tuple[PartSize, ...],
    kinds: tuple[type, ...],  # noqa: ARG001 (for the memory all of a disk, a share, is as good as one byte)
) -> _Frame:
    if table is None:
        return _Frame(Bounds(0, size), (Extent(0, size),))
    bounds, aside = _takes(table, size, sector_size).bounds, None
    if set_aside:
        aside = Extent(align_up(bounds.first, align), align_up(set_aside, sector_size))
        bounds = replace(bounds, first=aside.end)
    places = place(sizes, bounds, align, sector_size, _ahead(table, len(sizes), sector_size))
    is_well = not any(True for _ in _place_checks(bounds, places, sizes, _ANY))
    return _Frame(bounds, places, aside, is_well)


class _PlainSpec(Frozen):
    """What images have in common that are made alike; `is_well` says that their format has nothing to say of them."""

    spec: ImageSpec
    is_well: bool


@lru_cache(maxsize=1024)
def _plain_spec(
    format_name: str,
    size: int,
    sector_size: int,
    space: Space,
    block_size: int | None,
    most_of_piece: int | None,
    packed: bool,
    dated: int,
) -> _PlainSpec:
    spec = ImageSpec(
        size=size,
        sector_size=sector_size,
        space=space,
        made=dated,
        block_size=block_size,
        pieces=most_of_piece,
        packed=packed,
    )
    return _PlainSpec(spec, not any(True for _ in _format_checks(image_format(format_name), spec, _ANY)))


def _room(disk: ResolvedDisk, site: Site, frame: _Frame) -> _Room:
    if disk.table is None:
        return _Room()
    table = table_format(disk.table)
    table_id = table.native_id(site.ids.table)
    if frame.aside is None:
        return _Room(table_id)
    native_id = table.native_partition_id(table_id, site.ids.set_aside, 1)
    # what the guest's system expects ahead of all others, for what it may need later
    entry = PartitionEntry(1, frame.aside.start, frame.aside.length, table.aside, native_id, "set aside")
    return _Room(table_id, Partition(entry))


class _Takes(Frozen):
    """What a table takes of a disk, and what it leaves."""

    bounds: Bounds
    reserved: tuple[Reserved, ...]
    total: int


_NO_TAKES = _Takes(Bounds(0, 0), (), 0)


@lru_cache(maxsize=1024)
def _takes(table: str, size: int, sector_size: int) -> _Takes:
    """Return what a table takes; many disks of a sheet have the same."""
    kind = table_format(table)
    reserved = kind.reserved(size, sector_size)
    return _Takes(kind.bounds(size, sector_size), reserved, sum(run.size for run in reserved))


def _table_checks(table: TableFormat, disk: ResolvedDisk, requests: list[PartitionRequest]) -> Iterator[Finding]:
    for one in requests:
        length = table.label_length(one.asked.part_label)
        if length > table.label_limit:
            where = disk.place.part(one.asked.index).key("label")
            yield filesystem_rules.label_too_long.error(where, one.asked.label, table.name, length, table.label_limit)
    if not _is_aligned(disk.align):
        yield from check_alignment(disk.align, disk.place.key("align"))


@lru_cache
def _is_aligned(align: int) -> bool:
    return not any(True for _ in check_alignment(align, _ANY))


@lru_cache(maxsize=1024)
def _ahead(name: str | None, count: int, sector_size: int) -> tuple[int, ...]:
    table = table_format(name) if name else None
    if table is None or not offers(table, LinksPartitions):
        return (0,) * count
    return tuple(table.ahead(index, count, sector_size) for index in range(count))


def _sizes(
    disk: ResolvedDisk, requests: list[PartitionRequest], existing: Disk | None
) -> tuple[list[PartSize], list[Finding]]:
    """Return what each partition takes, with `usable` solved: on a filesystem that exists by what is there."""
    sizes: list[PartSize] = []
    found: list[Finding] = []
    there = {part.filesystem.uuid: part for part in existing.partitions if part.filesystem} if existing else {}
    for one in requests:
        wanted, size = one.asked.usable, one.asked.size
        if wanted is not None and one.kind is not None:
            try:
                part = there.get(one.kind.native_id(one.wishes.uuid))
                size = solved(one, wanted, part.inner if part else None, disk.align)
                size += (part.seal.offset if part and part.seal else DATA_OFFSET) if one.asked.seal else 0
            except UnfitError as error:
                size = wanted
                where = disk.place.part(one.asked.index).key("usable")
                found.append(filesystem_rules.usable_too_large.error(where, str(error)))
        sizes.append(size)
    return sizes, found


def solved(request: PartitionRequest, wanted: int, there: Partition | None, step: int) -> int:
    """Return the bytes, a multiple of `step`, that a partition needs for `wanted` bytes to be filled in it.

    Raises:
        UnfitError: none does.
    """
    kind = request.kind
    if kind is None:
        raise BugError("there is no filesystem to be filled")
    offers = offers_of(kind, request.wishes, there) if there is not None else None
    if offers is None or there is None:
        return smallest_size(kind, request.wishes, wanted, step)
    size = smallest_growth(offers, wanted, there.size, kind.most, step)
    if size is None:
        raise UnfitError(
            f"the {kind.name} that exists cannot be made to offer {show_both(wanted)}", there.size, there.size
        )
    return size


def _disk_size(disk: ResolvedDisk, table: TableFormat | None, sizes: list[PartSize], existing: Disk | None) -> int:
    sector_size, fit = disk.sector_size, image_format(disk.format).fit
    if existing is not None and disk.size == existing.size:
        return existing.size
    if disk.size is not None:
        return align_up(fit(align_up(disk.size, sector_size), disk.block_size), sector_size)
    head = table.bounds(_LARGE, sector_size).first if table else 0
    head = align_up(head, disk.align) + disk.set_aside if disk.set_aside else head
    reserved = table.reserved(_LARGE, sector_size) if table else ()
    tail = reserved[-1].size if len(reserved) > 1 else 0
    fixed = [one for one in sizes if isinstance(one, int)]
    ahead = _ahead(disk.table, len(sizes), sector_size)
    return fit(disk_size_for(fixed, disk.align, sector_size, head, tail, ahead), disk.block_size)


def _size_checks(disk: ResolvedDisk, table: TableFormat | None, size: int) -> Iterator[Finding]:
    where = disk.place.key("size")
    if disk.size is not None and size != disk.size:
        yield image_rules.size_rounded.note(where, disk.format, disk.size, size, disk.sector_size)
    if table and size > table.most(disk.sector_size):
        yield rules.disk_past_table.error(where, table.name, table.most(disk.sector_size), disk.sector_size, size)


def _place_checks(
    bounds: Bounds, places: Sequence[Extent], sizes: Sequence[PartSize], where: Place
) -> Iterator[Finding]:
    if bounds.end <= bounds.first:
        yield rules.disk_too_small.error(where)
        return
    for number, (run, size) in enumerate(zip(places, sizes, strict=True), 1):
        if not run.length:
            yield rules.rest_is_empty.error(where.part(number))
        elif run.end > bounds.end and size != "rest":
            yield table_rules.partition_would_pass_end.error(where.part(number), run.end, bounds.end)


def _partition(
    disk: ResolvedDisk, site: Site, request: PartitionRequest, run: Extent, room: _Room, *, keeps: bool
) -> tuple[Partition, tuple[Finding, ...]]:
    """Return a partition planned; with `keeps` its filesystem exists, and stays."""
    asked, kind, system = request.asked, request.kind, guest_system(site.system)
    entry = _entry(disk, site, request, run, room)
    volume = str(site.ids.partition(asked.position)) if system.names_volumes else ""
    mount = mount_of(request, system, volume, flash=site.flash, read_only=disk.plug.read_only)
    if asked.pool is not None and run.length:
        if run.length < LEAST:
            limits = run.length, LEAST
            return Partition(entry, mount=mount), (
                pool_rules.member_too_small.error(disk.place.part(asked.index), *limits),
            )
        member = MemberState(fresh_shape(site.ids.member(asked.position), run.length))
        return Partition(entry, mount=mount, pool=asked.pool, member=member), ()
    if kind is None or not run.length:
        return Partition(entry, mount=mount, may_move=asked.move_files), ()
    seal = seal_of(asked, site.ids.seal(asked.position)) if asked.seal else None
    part = with_cost(Partition(entry, mount=mount, may_move=asked.move_files, seal=seal), asked)
    wishes = request.wishes._replace(start=run.start + (seal.offset if seal else 0), noise=seal is not None)
    try:
        new = kind.plan(part.inside, wishes)
    except UnfitError as error:
        if keeps and not error.remedy:  # what is there was made by others, and fits as it is
            state = FilesystemState(kind.name, kind.native_id(request.wishes.uuid), request.wishes.label)
            return replace(part, filesystem=state), ()
        return replace(part, seal=None), (unfit(error, part.inside, disk.place.part(asked.index)),)
    return replace(part, filesystem=new.state(), new=new), ()


def seal_of(asked: ResolvedPartition, uuid: UUID) -> Seal | None:
    """Return what a partition or volume is sealed as, with this id, None if it is not to be."""
    if asked.seal is None:
        return None
    return new_seal(str(uuid), asked.label, asked.seal.sector)


def with_cost(part: Partition, asked: ResolvedPartition) -> Partition:
    """Return a partition with what is asked of its keys: what trying a passphrase is to cost, and a key file."""
    form = asked.seal
    return replace(part, cost=(form.memory, form.passes), key_file=form.key_file or "") if form else part


def _number(disk: ResolvedDisk, request: PartitionRequest, table: TableFormat, before: int) -> int:
    return (
        request.asked.number
        or table.numbers(max(len(disk.partitions), request.asked.position))[request.asked.position - 1] + before
    )


def _entry(disk: ResolvedDisk, site: Site, request: PartitionRequest, run: Extent, room: _Room) -> PartitionEntry:
    asked = request.asked
    if disk.table is None:
        return PartitionEntry(0, run.start, run.length, "", "", asked.label)
    table, system = table_format(disk.table), guest_system(site.system)
    number = _number(disk, request, table, room.before)
    return PartitionEntry(
        number=number,
        start=run.start,
        size=run.length,
        type=table.partition_type(POOL if asked.pool else asked.filesystem, system.data_partition),
        id=table.native_partition_id(room.table_id, site.ids.partition(asked.position), number),
        label=asked.part_label,
        attributes=sum([table.attributes.get(name, 0) for name in asked.attributes]) if asked.attributes else 0,
    )


def mount_of(
    request: PartitionRequest, system: GuestSystem, volume: str = "", *, flash: bool, read_only: bool
) -> Mount:
    """Return how a guest is to use what lies on a partition or volume; `volume` is its name in the guest's system."""
    asked, kind = request.asked, request.kind
    counts = not system.owners_need_rights or (kind is not None and kind.keeps_rights)
    return Mount(
        index=asked.index,
        at=asked.at,
        owner=asked.owner if counts else "",
        uid=request.owner.uid,
        gid=request.owner.gid,
        mode=asked.mode,
        access=asked.access,
        options=_mount_options(request, flash=flash, read_only=read_only),
        needed=asked.needed,
        volume=volume,
    )


def _mount_options(request: PartitionRequest, *, flash: bool, read_only: bool) -> tuple[str, ...]:
    """Return the mount options of an entry; those asked for stand in for those that the purpose would bring."""
    if request.kind is None:
        return ()
    asked = request.asked.mount_options
    wishes: Wishes = request.wishes if asked is None else request.wishes._replace(purpose="general")
    words = _words_of(request.kind.name, wishes._replace(uuid=_NO_ID, label=""))
    known = (("ro",) if read_only else ()) + (("discard",) if flash and not read_only else ())
    return tuple(dict.fromkeys((*words, *(asked or ()), *known)))


@lru_cache(maxsize=1024)
def _words_of(kind: str, wishes: Wishes) -> tuple[str, ...]:
    """Return the mount options of a filesystem, which depend neither on its id nor on its label."""
    return filesystem(kind).options.of(wishes).mount_options()


def unfit(error: UnfitError, size: int, where: Place) -> Finding:
    """Return what is to be said of a filesystem that cannot be made in so many bytes."""
    if error.remedy:
        return filesystem_rules.value_not_possible.error(where, str(error), error.remedy)
    if size > error.most:
        return filesystem_rules.filesystem_too_large.error(where, str(error), error.most)
    return filesystem_rules.filesystem_too_small.error(where, str(error), error.least)


def _format_checks(kind: ImageFormat, spec: ImageSpec, where: Place) -> Iterator[Finding]:
    """Yield what the image format does not allow, and what it does not record."""
    if spec.sector_size != DEFAULT_SECTOR_SIZE and not kind.records_sector:
        yield image_rules.sector_not_recorded.note(where.key("sector"), kind.name, spec.sector_size)
    yield from check_violations(kind, spec, where)


def check_violations(kind: ImageFormat, spec: ImageSpec, where: Place) -> Iterator[Finding]:
    """Yield what an image format does not allow of a disk at a place of the sheet."""
    for violation in violations(kind, spec):
        yield image_rules.size_over_format.error(where.key(violation.key), violation.message, violation.remedy)
