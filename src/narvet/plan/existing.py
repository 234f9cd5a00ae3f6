"""A disk that exists, planned onto what is there: each filesystem as it is, or as large as it is to become. Pure.

What a filesystem was made with is not what one would be made with today, so its sizes are taken from what was found.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence

from narvet.formats.filesystems import NAMES as FILESYSTEMS
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import (
    CannotChangeError,
    Filesystem,
    FilesystemState,
    Resizing,
    Shrinks,
    UnfitError,
    Wishes,
)
from narvet.formats.images import image_format
from narvet.formats.images.contract import Shortens
from narvet.formats.tables import table_format
from narvet.formats.tables.contract import POOL, Bounds, LinksPartitions, PartitionEntry
from narvet.ground.extents import Extent
from narvet.ground.findings import Finding, Place
from narvet.ground.offers import offers
from narvet.ground.rules import disks as rules
from narvet.ground.units import align_down, align_up, show_bytes
from narvet.ground.values import replace
from narvet.model.estate import Disk, Partition
from narvet.model.moves import Answer, Aspect, Difference
from narvet.plan.place import PartSize


def onto(wanted: Disk, found: Disk, where: Place) -> tuple[Disk, tuple[Finding, ...]]:
    """Return a wanted disk fitted to the one that was found for it, and what keeps it from becoming that."""
    there = {part.number: part for part in found.partitions}
    parts: list[Partition] = []
    said: list[Finding] = []
    for part in wanted.partitions:
        mine = there.get(part.number)
        kept = replace(part, entry=_entry_onto(wanted, part, mine)) if mine and part.number else part
        fitted, findings = _onto(kept, mine, where.part(part.number))
        parts.append(fitted)
        said += findings
    return replace(wanted, partitions=tuple(parts)), tuple(said)


def _entry_onto(wanted: Disk, part: Partition, found: Partition) -> PartitionEntry:
    """Return the entry that a partition is to have: flags that no sheet can name stay as they are."""
    table = table_format(wanted.table)
    named = sum(table.attributes.values())
    attributes = part.entry.attributes & named | found.entry.attributes & ~named
    label = part.entry.label if table.keeps_labels else found.entry.label
    entry = replace(part.entry, attributes=attributes, label=label)
    inside = found.filesystem.kind if found.filesystem else POOL if found.member else None
    if part.mount is None or inside is None or table.suits(found.entry.type, inside):
        entry = replace(entry, type=found.entry.type)  # several types may hold the same
    return replace(entry, id=found.entry.id) if part.mount is None else entry


def keep_places(
    places: Sequence[Extent],
    sizes: Sequence[PartSize],
    numbers: Sequence[int],
    found: Disk,
    bounds: Bounds,
    align: int,
    sector_size: int,
    where: Place,
) -> tuple[list[Extent], list[Finding]]:
    """Return places in which partitions that exist start where they do, and what keeps them from what is asked.

    What the table keeps ahead of the next partition is not reached into either.
    """
    there = {part.number: part for part in found.partitions}
    table = table_format(found.table)
    kept: list[Extent] = []
    said: list[Finding] = []
    reach, end = bounds.first, align_down(bounds.end, align)
    for run, size, number in zip(places, sizes, numbers, strict=True):
        part = there.get(number)
        ahead = table.ahead_of(number, sector_size) if offers(table, LinksPartitions) else 0
        start = part.start if part else align_up(reach, align) + align_up(ahead, align)
        limit = next_start(found, number, start - ahead if part is None else start, end)
        length = run.length
        if size == "rest":
            length = max(limit - start, 0)
            if part is not None and part.end <= bounds.end:
                length = max(length, part.size)  # one that ends off the grid is not cut back to it
            if part is not None and limit != end and run.length > length:
                said.append(rules.rest_ends_early.warning(where.part(number), run.length, limit))
        elif start + length > limit and limit != end:
            said.append(rules.neighbour_in_the_way.error(where.part(number), start + length, limit))
        kept.append(Extent(start, length))
        reach = start + length
    return kept, said


def next_start(found: Disk, number: int, start: int, end: int) -> int:
    """Return the byte up to which a partition that starts at byte `start` may reach; `end` is the last there is.

    What the table keeps ahead of the next partition is not to be reached into either.
    """
    reaches = (one.entry.reach for one in found.partitions if one.number != number and one.start >= start)
    return min((reach for reach in reaches if reach < end), default=end)


def as_found(wanted: Disk, found: Disk, differences: Iterable[Difference]) -> Disk:
    """Return a wanted disk with what a guest has changed since, by `differences`, as it was found."""
    there = {part.number: part for part in found.partitions}
    kept: dict[int, list[Aspect]] = defaultdict(list)
    for one in differences:
        if one.by_guest:
            kept[one.where.partition or 0].append(one.aspect)
    return replace(
        wanted,
        partitions=tuple(
            _as_found(part, there[part.number], kept[part.number]) if part.number in kept else part
            for part in wanted.partitions
        ),
    )


def _as_found(part: Partition, found: Partition, aspects: Iterable[Aspect]) -> Partition:
    for aspect in aspects:
        if aspect is Aspect.LABEL:
            part = replace(part, entry=replace(part.entry, label=found.entry.label))
        elif aspect is Aspect.ATTRIBUTES:
            part = replace(part, entry=replace(part.entry, attributes=found.entry.attributes))
        elif part.filesystem is not None and found.filesystem is not None:
            fields = {Aspect.VOLUME_LABEL: ("label",), Aspect.OWNER: ("uid", "gid"), Aspect.MODE: ("mode",)}[aspect]
            values = {name: getattr(found.filesystem, name) for name in fields}
            part = replace(part, filesystem=replace(part.filesystem, **values))
    return part


def written_anew(wanted: Disk, found: Disk, differences: Iterable[Difference]) -> bool:
    """Return whether a disk's image is written anew: in another place or form, or as its format cannot get smaller."""
    if any(one.answer is Answer.MOVE for one in differences):
        return True
    return wanted.size < found.size and not offers(image_format(found.image.format), Shortens)


def _onto(part: Partition, found: Partition | None, where: Place) -> tuple[Partition, list[Finding]]:
    if found is None or part.member is not None or found.member is not None:
        return _member_onto(part, found, where)
    if (part.seal is None) != (found.seal is None):
        return part, []
    if part.seal is None:
        return _filesystem_onto(part, found, where)
    part = replace(part, seal=found.seal)
    if part.key_file and found.seal and found.seal.version != 2:
        told = "it is sealed by version 1 of the format, which has no place for the key of a file"
        return part, [rules.cannot_be_changed.error(where.key("sealed"), told, "leave key_file out")]
    if found.is_locked:
        return part, list(_locked(part, found, where))
    fitted, said = _filesystem_onto(part.inner, found.inner, where)
    return replace(fitted, entry=part.entry), said


def _locked(part: Partition, found: Partition, where: Place) -> Iterator[Finding]:
    """Yield an error where a sealed partition is to get another size or key file, and no passphrase opens it."""
    if part.size != found.size:
        told = f"it is sealed, and has {show_bytes(found.size)}: its size changes only with its passphrase"
        yield rules.cannot_be_changed.error(where, told, _OPEN_IT)
    has_key = found.seal is not None and found.seal.file_key is not None
    if bool(part.key_file) != has_key:
        told = f"it is sealed, and {'a' if has_key else 'no'} key file opens it: that changes only with its passphrase"
        yield rules.cannot_be_changed.error(where.key("sealed"), told, _OPEN_IT)


_OPEN_IT = "add --unseal, or --passphrase-file FILE (on another host: to its narvet host)"


def _filesystem_onto(part: Partition, found: Partition, where: Place) -> tuple[Partition, list[Finding]]:
    if not is_same(part.filesystem, found.filesystem):
        return part, list(_unknown_cut(part, found, where))
    state, wanted = found.filesystem, part.filesystem
    if state is None or wanted is None or state.shape is None:
        return part, []
    resizing: Resizing | None = None
    said: list[Finding] = []
    if part.size < state.size:
        resizing, said = _shrinking(state, part.size, where, moving=part.may_move)
    elif part.size > found.size or (not part.number and part.size > state.size):
        resizing, said = _growth(state, part.size, where)
        if resizing is not None and resizing.state.shape == state.shape:
            if part.size > found.size:
                said.append(rules.too_little_to_grow.note(where, state.kind, state.shape.unit, part.size - found.size))
            resizing = None
    if part.new is not None:
        for key, why in part.new.options.unlike(part.new.shape, state.shape):
            told = f"the {state.kind} was made with another {key}: {why}"
            said.append(rules.cannot_be_changed.error(where.key(key), told, "make a new disk, and copy the files"))
    becomes = resizing.state if resizing else state
    fitted = replace(
        wanted, kind=state.kind, uuid=state.uuid, shape=becomes.shape, free=becomes.free, features=becomes.features
    )
    return replace(part, filesystem=fitted, there=state, resizing=resizing), said


def _member_onto(part: Partition, found: Partition | None, where: Place) -> tuple[Partition, list[Finding]]:
    """Return a member of a pool as it is there; one that gets more bytes has them once its pool is changed."""
    if found is None or found.member is None:
        return part, []
    size = found.member.shape.size
    if part.size < size:
        told = f"a pool's member has {show_bytes(size)}, and cannot become smaller"
        return part, [rules.cannot_be_changed.error(where, told, "take it out of its pool first, or leave it as large")]
    return (replace(part, member=found.member) if part.member else part), []


def is_same(wanted: FilesystemState | None, found: FilesystemState | None) -> bool:
    """Return whether a filesystem that was found is the one that is wanted: of its kind, with its id."""
    return wanted is not None and found is not None and (wanted.kind, wanted.uuid) == (found.kind, found.uuid)


def _growth(state: FilesystemState, size: int, where: Place) -> tuple[Resizing | None, list[Finding]]:
    try:
        return filesystem(state.kind).grown(state, size), []
    except CannotChangeError as error:
        return None, [rules.cannot_be_changed.error(where, str(error), error.remedy)]


def _shrinking(
    state: FilesystemState, size: int, where: Place, *, moving: bool
) -> tuple[Resizing | None, list[Finding]]:
    kind = filesystem(state.kind)
    try:
        if not offers(kind, Shrinks):
            raise CannotChangeError(
                f"{state.kind} cannot be made smaller; it has {show_bytes(state.size)}, not {show_bytes(size)}",
                "make a new disk and copy the files",
                state.size,
            )
        return kind.shrunk(state, size, moving=moving), []
    except CannotChangeError as error:
        return None, [rules.cannot_be_changed.error(where, str(error), error.remedy)]


def _unknown_cut(part: Partition, found: Partition, where: Place) -> Iterator[Finding]:
    """Yield an error where a partition gets smaller than what lies on it is known to fit."""
    fits = found.filesystem is not None and 0 < found.filesystem.size <= part.size
    if part.size < found.size and not fits:
        told = "what is on it is not known well enough to make it smaller"
        way_out = "make a new disk and copy the files"
        yield rules.cannot_be_changed.error(where, told, way_out)


def offers_of(kind: Filesystem, wishes: Wishes, found: Partition) -> Callable[[int], int] | None:
    """Return what an ordinary user can fill in a filesystem that exists, once nothing is in it, by its size in bytes.

    None if it cannot be made larger, and so offers what it offers.
    """
    state = found.filesystem
    if state is None or state.shape is None or state.kind not in FILESYSTEMS:
        return None
    try:
        fresh = kind.plan(found.size, wishes).capacity()
        own = fresh.total - fresh.free
    except UnfitError:
        own = 0
    files = max(state.total - state.free - own, 0)

    def offers(size: int) -> int:
        if size <= found.size:
            return state.available + files
        try:
            return kind.grown(state, size).state.available + files
        except CannotChangeError:
            return 0

    return offers
