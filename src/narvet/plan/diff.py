"""What is wanted compared with what is found: every difference as data, whatever is then done about it. Pure.

Which differences `write` acts on, which it leaves, and which it refuses is the table in `model.moves`.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from narvet.formats.filesystems.contract import FilesystemState, left_links
from narvet.formats.tables import table_format
from narvet.ground.findings import Place, disk_place
from narvet.ground.units import show_binary
from narvet.ground.values import replace
from narvet.guests import guest_system
from narvet.model.estate import NO_TABLE, Disk, Estate, Guest, Image, Partition
from narvet.model.facts import OriginFacts, Recorded
from narvet.model.layout import Origin
from narvet.model.moves import Answer, Aspect, Difference, Value
from narvet.plan.existing import is_same

_NO_FILESYSTEM = "no filesystem"
_MEMBER = "a member of a pool"


def is_ours(wanted: Disk, origin: Origin | None, facts: OriginFacts | None, found: Disk) -> bool:
    """Return whether an image carries the id that a sheet gives a disk: it was made for it, at whatever size.

    A copy carries the ids of its origin, and a child names it. Once the origin of a copy is gone, nothing tells.
    """
    if origin is not None and facts is not None:
        return facts.is_base if origin.how == "child" else _is_copy(facts.found, found)
    if wanted.table != NO_TABLE:
        return found.table_id == wanted.table_id
    return bool(wanted.content_ids) and wanted.content_ids[0] in found.content_ids


def _is_copy(origin: Disk | None, found: Disk) -> bool:
    if origin is None or found.table_id or origin.table_id:
        return origin is None or found.table_id == origin.table_id
    return found.content_ids == origin.content_ids


def diff_disks(
    wanted: Estate, found: Estate, copied: frozenset[str], ledger: Iterable[Recorded] = ()
) -> Mapping[str, tuple[Difference, ...]]:
    """Return the differences of each disk, by its name.

    `copied` are the disks that come from another image, whose partitions are that image's affair. What was asked for
    before, by the ledger, and is asked for still, has been changed by a guest.
    """
    asked = {one.disk: one.asked for one in ledger if one.asked}
    return {
        name: by_ledger(
            diff_disk(disk_place(name), disk, found.disks.get(name), is_copied=name in copied), asked.get(name, {})
        )
        for name, disk in wanted.disks.items()
    }


def by_ledger(differences: Iterable[Difference], asked: Mapping[str, str]) -> tuple[Difference, ...]:
    """Return differences, those that a guest has made marked: what was asked before, by `asked`, and is asked still."""
    return tuple(replace(one, by_guest=True) if asked and _was_asked(one, asked) else one for one in differences)


def _was_asked(one: Difference, asked: Mapping[str, str]) -> bool:
    return one.aspect.answer is Answer.CORRECT and asked.get(_key(one.where.partition, one.aspect)) == one.texts[0]


def _key(partition: int | None, aspect: Aspect) -> str:
    return f"{partition or 0}.{aspect.name.lower()}"


def asked_of(wanted: Disk) -> Mapping[str, str]:
    """Return what is asked of a disk that a guest may change, by keys that the ledger has."""
    return {
        _key(part.number, aspect): str(value)
        for part in wanted.partitions
        for aspect, value in _changeable(wanted, part, in_table=wanted.table)
    }


def _changeable(disk: Disk, part: Partition, *, in_table: str) -> Iterator[tuple[Aspect, Value]]:
    """Yield what a partition has of what may be corrected, in a table of the kind `in_table`."""
    if part.number:
        yield Aspect.LABEL, part.entry.label if table_format(in_table).keeps_labels else ""
        yield Aspect.ATTRIBUTES, ", ".join(disk.attributes(part)) or "none"
    if part.filesystem is not None:
        yield Aspect.VOLUME_LABEL, part.filesystem.label
        if part.filesystem.mode is not None:
            yield Aspect.OWNER, f"{part.filesystem.uid}:{part.filesystem.gid}"
            yield Aspect.MODE, f"{part.filesystem.mode:04o}"


def diff_guests(wanted: Estate, found: Estate, systems: Mapping[str, str]) -> Iterator[Difference]:
    """Yield the differences of the guests' entries."""
    for name, guest in wanted.guests.items():
        yield from guest_system(systems[name]).differences(guest, found.guests.get(name, Guest(name)))


def diff_disk(where: Place, wanted: Disk, found: Disk | None, *, is_copied: bool) -> Iterator[Difference]:
    """Yield every difference between a disk as wanted and as found, None where there is no image."""
    if found is None:
        yield Difference(where, Aspect.IMAGE, f"an image at {wanted.path}", None)
        return
    yield from _placed(where, wanted.image, found.image)
    if wanted.image.format == found.image.format:
        yield from _compared(where, Aspect.ATTACHED, wanted.image.attached or None, found.image.attached or None)
        yield from _compared(where, Aspect.ORDERED, wanted.image.ordered, found.image.ordered)
    if is_copied and wanted.size < found.size:
        yield Difference(where, Aspect.COPY_SMALLER, wanted.size, found.size)
    else:
        yield from _sized(where, wanted.size, found.size)
    if wanted.image.sector_size and found.image.sector_size and found.table != NO_TABLE and not is_copied:
        yield from _compared(where, Aspect.SECTOR, wanted.image.sector_size, found.image.sector_size)
    yield from _compared(where, Aspect.TABLE, wanted.table, found.table)
    yield from _compared(where, Aspect.TABLE_ID, wanted.table_id or "none", found.table_id or "none")
    if wanted.image.space == "full" and found.image.space != "full":
        yield Difference(where, Aspect.SPACE if is_copied else Aspect.FULL, "full", found.image.space)
    if wanted.image.block_size and wanted.image.format == found.image.format and not is_copied:
        yield from _compared(where, Aspect.BLOCK, wanted.image.block_size, found.image.block_size)
    for finding in found.findings:
        if finding.level == "error":
            yield Difference(finding.where, Aspect.SOUNDNESS, "sound", finding.message)
    if not is_copied:
        yield from _partitions(wanted, found, where)


def _placed(where: Place, wanted: Image, found: Image) -> Iterator[Difference]:
    """Yield how place and format differ; an image that goes elsewhere can get another format on the way."""
    places = wanted.path, found.path
    if wanted.host != found.host:
        places = wanted.place, found.place
    yield from _compared(where, Aspect.PLACE, *places)
    form = Aspect.FORM if places[0] != places[1] else Aspect.FORMAT
    yield from _compared(where, form, wanted.format, found.format)


def _partitions(wanted: Disk, found: Disk, where: Place) -> Iterator[Difference]:
    there = {part.number: part for part in found.partitions}
    for part in wanted.partitions:
        other = there.pop(part.number, None)
        if other is None:
            inside = _inside(part)
            asked = f"{inside}, {show_binary(part.size)}"
            yield Difference(where.part(part.number), Aspect.PARTITION, asked, None)
        else:
            yield from _partition(wanted, part, found, other, where.part(part.number))
    for number in there:
        yield Difference(where.part(number), Aspect.PARTITION_TOO_MANY, None, "a partition")


def _partition(wanted: Disk, part: Partition, found: Disk, other: Partition, where: Place) -> Iterator[Difference]:
    if part.number:
        yield from _compared(where, Aspect.START, part.start, other.start)
        yield from _sized(where, part.size, other.size)
        yield from _compared(where, Aspect.TYPE, part.entry.type, other.entry.type)
        yield from _compared(where, Aspect.ID, part.entry.id, other.entry.id)
    there = dict(_changeable(found, other, in_table=wanted.table))
    for aspect, value in _changeable(wanted, part, in_table=wanted.table):
        of_table = aspect in (Aspect.LABEL, Aspect.ATTRIBUTES)
        if aspect in there and (of_table or is_same(part.filesystem, other.filesystem)):
            yield from _compared(where, aspect, value, there[aspect])
    if part.filesystem is None and part.mount is not None and part.member is None:
        return  # left to its guest, or to the pool that it leaves
    if (part.seal is None) != (other.seal is None):
        sealed, plain = "sealed", "not sealed"
        yield Difference(where, Aspect.SEALED, sealed if part.seal else plain, sealed if other.seal else plain)
        return
    if part.seal is not None and other.seal is not None:
        ways = (_BY_FILE_TOO if own else _BY_PASSPHRASE for own in (part.key_file, other.seal.file_key))
        yield from _compared(where, Aspect.OPENED, *ways)
    if other.is_locked and part.filesystem is not None:
        return  # what is inside is not known without its passphrase
    if part.filesystem is None or other.filesystem is None:
        yield from _compared(where, Aspect.FILESYSTEM, _inside(part), _inside(other))
        return
    yield from _filesystem(part.filesystem, other.filesystem, where)


_BY_PASSPHRASE, _BY_FILE_TOO = "by a passphrase", "by a passphrase or a key file"


def _inside(part: Partition) -> str:
    """Return what lies on a partition, in a word."""
    if part.filesystem is not None:
        return part.filesystem.kind
    return _NO_FILESYSTEM if part.member is None else _MEMBER


def _filesystem(wanted: FilesystemState, found: FilesystemState, where: Place) -> Iterator[Difference]:
    yield from _compared(where, Aspect.FILESYSTEM, wanted.kind, found.kind)
    yield from _compared(where, Aspect.UUID, wanted.uuid, found.uuid)
    if wanted.total != found.total:
        aspect = Aspect.MORE_SHOWN if wanted.total > found.total else Aspect.LESS_SHOWN
        yield Difference(where, aspect, wanted.total, found.total)
    if found.rights:
        yield from _compared(where, Aspect.RIGHTS, wanted.rights, found.rights)
    there = dict(found.links)
    for path, target in (one for one in wanted.links if one[1]):
        yield from _compared(where.inside(f"folder {path}"), Aspect.FOLDER, target, there.get(path, "nowhere"))
    for path, target in left_links(wanted, found):
        yield Difference(where.inside(f"folder {path}"), Aspect.FOLDER, None, target)


def _sized(where: Place, asked: int, found: int) -> Iterator[Difference]:
    if asked != found:
        yield Difference(where, Aspect.LARGER if asked > found else Aspect.SMALLER, asked, found)


def _compared(where: Place, aspect: Aspect, asked: Value, found: Value) -> Iterator[Difference]:
    if asked != found:
        yield Difference(where, aspect, asked, found)
