"""Mount points of Linux guests, and the lines of fstab that disks ask for, held against those there are. Pure."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from typing import NamedTuple

from narvet.formats.filesystems import NAMES as FILESYSTEMS
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import FilesystemState
from narvet.ground.findings import Finding, Place
from narvet.ground.rules import guests as rules
from narvet.model.estate import Disk, Guest, Mount, MountEntry, MountPoint, Partition
from narvet.model.layout import Mountable

NOWHERE = "none"  # fstab(5): what the second field of swap says
_SWAP = "swap"


class Mounted(NamedTuple):
    """A partition of a sheet that a guest needs a line for, with its filesystem and how that is used."""

    where: Place
    part: Partition
    filesystem: FilesystemState
    mount: Mount

    @property
    def entry(self) -> MountEntry:
        """The entry that mounts it by UUID."""
        kind = filesystem(self.filesystem.kind)
        words = [*(self.mount.options or ("defaults",)), *(() if self.mount.needed else ("nofail",))]
        source = kind.fstab_source(self.filesystem.uuid)
        return MountEntry(source, self.mount.at or NOWHERE, kind.mount_type, ",".join(words), 0, kind.check_pass)


def mounted(disks: Iterable[Mountable]) -> Iterator[Mounted]:
    """Yield what a guest's disks hold that needs a line: what is mounted, and swap."""
    for disk in disks:
        for part in disk.wanted.partitions:
            if part.filesystem is None or part.mount is None:
                continue
            if part.mount.at is not None or part.filesystem.kind == _SWAP:
                yield Mounted(disk.place.part(part.mount.index), part, part.filesystem, part.mount)


def entries_of(disks: Iterable[Mountable]) -> tuple[MountEntry, ...]:
    """Return the entries that a guest's disks ask for; a mount point below another comes after it."""
    return tuple(sorted((one.entry for one in mounted(disks)), key=_order))


def _order(entry: MountEntry) -> tuple[bool, list[str]]:
    return entry.file == NOWHERE, entry.file.split("/")


def mount_points_of(disks: Iterable[Mountable]) -> dict[str, MountPoint]:
    """Return the mount points that a guest's disks ask for, with owner and mode."""
    mounts = (part.mount for disk in disks for part in disk.wanted.partitions if part.mount)
    return {mount.at: MountPoint(uid=mount.uid, gid=mount.gid, mode=mount.mode) for mount in mounts if mount.at}


def check_mounts(disks: Iterable[Mountable], found: Guest) -> Iterator[Finding]:
    """Yield what is to be said about the mount points and entries of a guest's disks."""
    every = list(mounted(disks))
    yield from _among_themselves(every)
    existing = _ByKey(found.entries, (one.entry for one in every)) if found.entries else None
    for one in every if found.entries or found.mount_points else ():
        yield from _in_root(one, found)
        yield from _in_fstab(one, existing) if existing else ()


def _among_themselves(every: list[Mounted]) -> Iterator[Finding]:
    first: dict[str, Place] = {}
    places = [(one.where, one.mount.at) for one in every if one.mount.at]
    for where, at in places:
        other = first.setdefault(at, where)
        if other != where:
            yield rules.mount_point_twice.error(where.key("at"), at, str(other))
    for where, at in places:
        steps = at.split("/")
        above = (first.get("/".join(steps[:length])) for length in range(len(steps) - 1, 1, -1))
        outer = next((one for one in above if one), None)
        if outer:
            yield rules.mount_points_nested.warning(where.key("at"), at, str(outer))


def _in_root(one: Mounted, found: Guest) -> Iterator[Finding]:
    mount, where = one.mount, one.where.key("at")
    there = found.mount_points.get(mount.at or "")
    if there is None or mount.at is None:
        return
    if there.problem:
        yield rules.mount_point_not_possible.error(where, there.problem)
    elif (
        there.exists and there.empty and not there.owner_can_be_set and (there.uid, there.gid) != (mount.uid, mount.gid)
    ):
        owners = f"{there.uid}:{there.gid}", f"{mount.uid}:{mount.gid}"
        yield rules.owner_not_set.note(where, mount.at, *owners)
    elif not there.empty:
        yield rules.mount_point_not_empty.warning(where, mount.at)


class _ByKey:
    """A guest's existing entries by what they mount and where, so that many disks cost one look each.

    `moving` are the sources that are wanted: entries of Narvet's own that mount those are replaced.
    """

    def __init__(self, entries: tuple[MountEntry, ...], wanted: Iterable[MountEntry]) -> None:
        self.moving = {source_of(entry.spec) for entry in wanted}
        self.by_source = {source_of(entry.spec): entry for entry in entries}
        self.by_file = {entry.file: entry for entry in entries}


def source_of(text: str) -> str:
    """Return the first field of a line in one form: `uuid="AB"` and UUID=ab name the same filesystem."""
    tag, equals, value = text.partition("=")
    if not equals:
        return text
    value = value.strip('"')
    return f"{tag.upper()}={value.lower() if tag.upper() == 'UUID' else value}"


def _in_fstab(one: Mounted, existing: _ByKey) -> Iterator[Finding]:
    wanted, where = one.entry, one.where.key("at")
    same = existing.by_source.get(source_of(wanted.spec))
    there = existing.by_file.get(wanted.file) if one.mount.at else None
    if same is not None and same.ours:  # it is replaced
        same = None
    if there is not None and there.ours and source_of(there.spec) in existing.moving:
        there = None
    if same is not None and same.file != wanted.file:
        yield rules.uuid_in_use.error(where, same.line, same.spec, same.file, wanted.file)
    if there is not None and source_of(there.spec) != source_of(wanted.spec):
        yield rules.mount_point_in_use.error(where, there.line, there.spec, wanted.file)
    if same is not None and same.file == wanted.file and (same.vfstype, same.mntops) != (wanted.vfstype, wanted.mntops):
        yield rules.entry_kept.note(where, same.line, same.vfstype, same.mntops)
    labelled = existing.by_source.get(f"LABEL={one.filesystem.label}")
    if labelled is not None:
        yield rules.label_in_use.error(one.where.key("label"), labelled.line, labelled.spec)


def mounting(disk: Disk, existing: Iterable[MountEntry]) -> tuple[MountEntry, ...]:
    """Return the existing entries that mount a filesystem of a disk, wherever they mount it."""
    inside = (part.filesystem for part in disk.partitions if part.filesystem and part.filesystem.uuid)
    sources = {source_of(filesystem(one.kind).fstab_source(one.uuid)) for one in inside}
    return tuple(entry for entry in existing if source_of(entry.spec) in sources)


def missing_entries(wanted: Iterable[MountEntry], existing: Iterable[MountEntry]) -> tuple[MountEntry, ...]:
    """Return the wanted entries whose filesystem no existing entry mounts."""
    known = {source_of(entry.spec) for entry in existing}
    return tuple(entry for entry in wanted if source_of(entry.spec) not in known)


def sources_of(disks: Iterable[Mountable]) -> frozenset[str]:
    """Return what entries name the filesystems on disks by."""
    inside = (part.filesystem for disk in disks for part in disk.wanted.partitions if part.filesystem)
    return frozenset(
        source_of(filesystem(one.kind).fstab_source(one.uuid)) for one in inside if one.kind in FILESYSTEMS
    )


def surplus_entries(
    wanted: Iterable[MountEntry], known: Collection[str], existing: Iterable[MountEntry]
) -> tuple[MountEntry, ...]:
    """Return the existing entries that Narvet wrote for something `known`, and that are not wanted any more."""
    sources = {source_of(entry.spec) for entry in wanted}
    return tuple(
        entry
        for entry in existing
        if entry.ours and source_of(entry.spec) in known and source_of(entry.spec) not in sources
    )


def kept_entries(
    wanted: Iterable[MountEntry], existing: Iterable[MountEntry]
) -> tuple[tuple[MountEntry, MountEntry], ...]:
    """Return each wanted entry, with the existing one, whose filesystem is mounted elsewhere or in another way."""
    known = {source_of(entry.spec): entry for entry in existing}
    both = ((entry, known[source_of(entry.spec)]) for entry in wanted if source_of(entry.spec) in known)
    return tuple(
        (entry, there)
        for entry, there in both
        if (entry.file, entry.vfstype, entry.mntops) != (there.file, there.vfstype, there.mntops)
    )
