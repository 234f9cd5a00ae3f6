"""What a survey found, held against what was asked: the differences that confirm shows and write acts on."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from narvet.filesystems import filesystem
from narvet.filesystems.contract import FilesystemFacts
from narvet.layout.facts import (
    Facts,
    MountEntry,
    MountPointFacts,
    OriginFacts,
    PartitionFound,
    RegistryFacts,
    RootFacts,
    Survey,
)
from narvet.layout.model import LaidDisk, LaidPartition, Layout
from narvet.layout.mounts import kept_entries, missing_entries
from narvet.tables import table_format
from narvet.tables.contract import attribute_names
from narvet.units import show_bytes


@dataclass(frozen=True)
class Difference:
    """One thing that is not as asked.

    `lasting` is false for what a guest may well change in use, such as owner and mode; with `in_bytes` both texts are
    numbers of bytes.
    """

    where: str
    asked: str
    found: str
    lasting: bool = True
    in_bytes: bool = False

    @property
    def shown(self) -> tuple[str, str]:
        """What was asked and what was found, for people."""
        if not self.in_bytes:
            return self.asked, self.found
        return show_bytes(int(self.asked)), show_bytes(int(self.found))


def is_ours(disk: LaidDisk, origin: OriginFacts | None, found: Survey) -> bool:
    """Return whether an image carries the id that this sheet gives the disk: it was made for it, at whatever size.

    A copy carries the ids of its origin, and a child names it. Once the origin of a copy is gone, nothing tells.
    """
    if origin is not None:
        return origin.is_base if disk.origin and disk.origin.how == "child" else _is_copy(origin, found)
    if disk.table != "none":
        return found.table_id == disk.table_id
    kept = [part.filesystem.uuid for part in found.partitions if part.filesystem]
    return bool(disk.partitions) and disk.partitions[0].uuid in kept


def _is_copy(origin: OriginFacts, found: Survey) -> bool:
    if origin.survey is None or found.table_id or origin.survey.table_id:
        return origin.survey is None or found.table_id == origin.survey.table_id
    kept, there = (
        [part.filesystem.uuid for part in one.partitions if part.filesystem] for one in (found, origin.survey)
    )
    return kept == there


def compare(disk: LaidDisk, found: Survey | None) -> tuple[Difference, ...]:
    """Return every difference between a disk as laid out and its image as found."""
    where = f"disk.{disk.name}"
    if found is None:
        return (Difference(where, f"an image at {disk.path}", "nothing"),)
    return tuple(_differences(disk, found, where))


def compare_all(layout: Layout, facts: Facts) -> tuple[Difference, ...]:
    """Return every difference between a layout and what is there: images, mount points and entries."""
    found = [difference for disk in layout.disks for difference in compare(disk, facts.images.get(disk.name))]
    for finding in layout.findings:
        if finding.rule in ("image-elsewhere", "disk-left-over"):
            found.append(Difference(finding.where, "its place in the sheet", finding.message))
    for guest, values in layout.registry.items():
        there = facts.registry.get(guest)
        if there is not None and there.values != values:
            found.append(Difference(f"guest.{guest} registry text", "as the sheet has it", _registry(there)))
    for guest, wanted in layout.entries.items():
        root = facts.roots.get(guest)
        if root is None or root.path is None or root.findings:
            continue
        for entry in missing_entries(wanted, root.entries):
            found.append(Difference(f"guest.{guest} fstab", f"{entry.spec} at {entry.file}", "nothing"))
        found += _kept_entries(guest, wanted, root)
        for disk in layout.disks:
            if disk.guest == guest:
                found += [one for part in disk.partitions for one in _mount_point(guest, part, root)]
    return tuple(found)


def _kept_entries(guest: str, wanted: tuple[MountEntry, ...], root: RootFacts) -> Iterator[Difference]:
    """Yield the entries that mount what is wanted in another way."""
    for entry, there in kept_entries(wanted, root.entries):
        told = (f"{entry.file} {entry.vfstype} {entry.mntops}", f"{there.file} {there.vfstype} {there.mntops}")
        yield Difference(f"guest.{guest} fstab line {there.line}", *told, lasting=False)


def _mount_point(guest: str, part: LaidPartition, root: RootFacts) -> Iterator[Difference]:
    there = root.mount_points.get(part.at or "")
    where = f"guest.{guest} {part.at}"
    if there is None:
        return
    if not there.exists:
        yield Difference(where, "a mount point", "nothing")
    elif there.empty and there.owner_can_be_set and not point_as_asked(part, there):
        asked = f"{part.uid}:{part.gid} {part.mode:04o}"
        yield Difference(where, asked, f"{there.uid}:{there.gid} {there.mode:04o}", lasting=False)


def point_as_asked(part: LaidPartition, there: MountPointFacts) -> bool:
    """Return whether a mount point has the owner and mode that its filesystem is to have."""
    return (there.uid, there.gid, there.mode) == (part.uid, part.gid, part.mode)


def _registry(there: RegistryFacts) -> str:
    return "nothing" if there.values is None else "other values"


def _differences(disk: LaidDisk, found: Survey, where: str) -> Iterator[Difference]:
    yield from _fields(where, (
        ("format", disk.format, found.format),
        ("size", disk.size, found.size),
        ("table", disk.table, found.table),
        ("table id", disk.table_id or "none", found.table_id or "none"),
    ))  # fmt: skip
    if disk.space == "full" and found.space != "full":
        yield Difference(f"{where} space", "full", found.space, lasting=False)
    for finding in found.findings:
        if finding.level == "error":
            yield Difference(finding.where, "sound", finding.message)
    if disk.origin is not None:
        return
    there = {part.place.number: part for part in found.partitions}
    for part in disk.partitions:
        place = f"{where}.partition {part.number}"
        if part.number not in there:
            yield Difference(place, "a partition", "nothing")
            continue
        yield from _partition(disk, part, there.pop(part.number), place)
    for number in there:
        yield Difference(f"{where}.partition {number}", "nothing", "a partition")


def _partition(disk: LaidDisk, part: LaidPartition, found: PartitionFound, where: str) -> Iterator[Difference]:
    if part.number:
        yield from _fields(where, (
            ("start", part.start, found.place.start),
            ("size", part.size, found.place.size),
            ("type", part.type, found.place.type),
            ("id", part.id, found.place.id),
            ("label", part.label if table_format(disk.table).keeps_labels else "", found.place.label),
        ))  # fmt: skip
        flags = (_flags(disk, part.attributes), _flags(disk, found.place.attributes))
        yield from _fields(where, (("attributes", *flags),), lasting=False)
    facts = found.filesystem
    if part.filesystem is None or facts is None:
        asked, there = part.filesystem or "no filesystem", facts.kind if facts else "no filesystem"
        yield from _fields(where, (("filesystem", asked, there),))
        return
    total = part.shows.total if part.shows else 0
    yield from _fields(where, (
        ("filesystem", part.filesystem, facts.kind),
        ("uuid", part.uuid, facts.uuid),
        ("total shown", total, facts.total),
    ))  # fmt: skip
    if part.geometry is not None:
        yield from _rights_and_links(part, facts, where)
    if facts.mode is None:  # the mount decides
        return
    yield from _fields(where, (
        ("owner", f"{part.uid}:{part.gid}", f"{facts.uid}:{facts.gid}"),
        ("mode", f"{part.mode:04o}", f"{facts.mode or 0:04o}"),
    ), lasting=False)  # fmt: skip


def _flags(disk: LaidDisk, attributes: int) -> str:
    return ", ".join(attribute_names(table_format(disk.table).attributes, attributes)) or "none"


def _rights_and_links(part: LaidPartition, facts: FilesystemFacts, where: str) -> Iterator[Difference]:
    kind = filesystem(part.filesystem or "")
    if facts.rights:
        yield from _fields(where, (("rights", kind.rights(part.geometry), facts.rights),), lasting=False)
    there = dict(facts.links)
    for path, target in kind.links(part.geometry):
        yield from _fields(f"{where} folder {path}", (("leads to", target, there.get(path, "nowhere")),))


def _fields(where: str, rows: tuple[tuple[str, object, object], ...], *, lasting: bool = True) -> Iterator[Difference]:
    for name, asked, found in rows:
        if asked != found:
            in_bytes = isinstance(asked, int) and isinstance(found, int)
            yield Difference(f"{where} {name}", str(asked), str(found), lasting, in_bytes)
