"""Mount points and entries: each guest's lines of fstab, held against those it has and against one another."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator

from narvet.filesystems import filesystem
from narvet.findings import Finding
from narvet.layout.facts import Facts, MountEntry, RootFacts
from narvet.layout.model import LaidDisk, LaidPartition

NOWHERE = "none"  # fstab(5): what the second field of swap says


def entries_of(disks: Iterable[LaidDisk]) -> dict[str, tuple[MountEntry, ...]]:
    """Return each guest's entries; a mount point below another comes after it."""
    made: dict[str, list[MountEntry]] = defaultdict(list)
    for disk in disks:
        if disk.runs == "linux":
            made[disk.guest] += [entry_of(part) for part in disk.partitions if _has_entry(part)]
    return {guest: tuple(sorted(lines, key=_order)) for guest, lines in made.items()}


def _has_entry(part: LaidPartition) -> bool:
    """Return whether a guest needs a line for it: what is mounted, and swap."""
    return part.geometry is not None and (part.at is not None or part.filesystem == "swap")


def _order(entry: MountEntry) -> tuple[bool, list[str]]:
    return entry.file == NOWHERE, entry.file.split("/")


def entry_of(part: LaidPartition) -> MountEntry:
    """Return the entry that mounts a partition's filesystem by UUID."""
    kind = filesystem(part.filesystem or "")
    words = [*(part.mount_options or ("defaults",)), *(() if part.needed else ("nofail",))]
    return MountEntry(
        kind.spec(part.uuid or ""), part.at or NOWHERE, kind.mount_type, ",".join(words), 0, kind.check_pass
    )


def check_mounts(disks: Iterable[LaidDisk], facts: Facts) -> Iterator[Finding]:
    """Yield what is to be said about the mount points of all disks."""
    by_guest: dict[str, list[tuple[str, LaidPartition]]] = defaultdict(list)
    for disk in disks:
        if disk.runs == "windows":
            continue
        places = [(f"disk.{disk.name}.partition {part.index}", part) for part in disk.partitions if _has_entry(part)]
        by_guest[disk.guest] += places
    for guest, places in by_guest.items():
        yield from _among_themselves(places)
        root = facts.roots.get(guest, RootFacts())
        existing = _ByKey(root.entries)
        for where, part in places:
            yield from _in_root(where, part, root)
            yield from _in_fstab(where, part, existing)


def _among_themselves(places: list[tuple[str, LaidPartition]]) -> Iterator[Finding]:
    first: dict[str, str] = {}
    places = [(where, part) for where, part in places if part.at]
    for where, part in places:
        other = first.setdefault(part.at or "", where)
        if other != where:
            yield Finding(
                "mount-point-twice", "error", f"{where}.at", f"{part.at} is already the mount point of {other}",
                "give one of them another mount point",
            )  # fmt: skip
    for where, part in places:
        steps = (part.at or "").split("/")
        above = (first.get("/".join(steps[:length])) for length in range(len(steps) - 1, 1, -1))
        outer = next((one for one in above if one), None)
        if outer:
            yield Finding(
                "mount-points-nested", "warning", f"{where}.at",
                f"{part.at} lies inside the filesystem of {outer}, which is empty when it is first mounted",
                "make the folder there after the first start, or choose a mount point beside it",
            )  # fmt: skip


def _in_root(where: str, part: LaidPartition, root: RootFacts) -> Iterator[Finding]:
    there = root.mount_points.get(part.at or "")
    if there is None:
        return
    if there.problem:
        yield Finding("mount-point-not-possible", "error", f"{where}.at", there.problem, "choose another mount point")
    elif there.exists and there.empty and not there.owner_can_be_set and (there.uid, there.gid) != (part.uid, part.gid):
        yield Finding(
            "owner-not-set", "note", f"{where}.at",
            f"the folder {part.at} belongs to {there.uid}:{there.gid}, not to {part.uid}:{part.gid}, which only the "
            "superuser can change; once mounted, the disk's own root counts",
            "write as root to have it set",
        )  # fmt: skip
    elif not there.empty:
        yield Finding(
            "mount-point-not-empty", "warning", f"{where}.at",
            f"{part.at} holds files in the guest's root, which cannot be reached while the disk is mounted over them",
            "move them to the disk after the first start, or choose an empty folder",
        )  # fmt: skip


class _ByKey:
    """A guest's existing entries by what they mount and where, so that many disks cost one look each."""

    def __init__(self, entries: tuple[MountEntry, ...]) -> None:
        self.by_spec = {_spec(entry.spec): entry for entry in entries}
        self.by_file = {entry.file: entry for entry in entries}


def _spec(text: str) -> str:
    """Return a spec in one form: `uuid="AB"` and UUID=ab name the same filesystem."""
    tag, equals, value = text.partition("=")
    if not equals:
        return text
    value = value.strip('"')
    return f"{tag.upper()}={value.lower() if tag.upper() == 'UUID' else value}"


def _in_fstab(where: str, part: LaidPartition, existing: _ByKey) -> Iterator[Finding]:
    wanted = entry_of(part)
    same = existing.by_spec.get(_spec(wanted.spec))
    there = existing.by_file.get(wanted.file) if part.at else None
    if same is not None and same.file != wanted.file:
        yield Finding(
            "uuid-in-use", "error", f"{where}.at",
            f"line {same.line} of the guest's fstab mounts {same.spec} at {same.file}, not at {wanted.file}",
            "remove that line, or give the sheet its mount point",
        )  # fmt: skip
    if there is not None and _spec(there.spec) != _spec(wanted.spec):
        yield Finding(
            "mount-point-in-use", "error", f"{where}.at",
            f"line {there.line} of the guest's fstab mounts {there.spec} at {wanted.file}",
            "remove that line, or choose another mount point",
        )  # fmt: skip
    if same is not None and same.file == wanted.file and (same.vfstype, same.mntops) != (wanted.vfstype, wanted.mntops):
        yield Finding(
            "entry-kept", "note", f"{where}.at",
            f"line {same.line} of the guest's fstab mounts it with {same.vfstype} and {same.mntops}; it is kept so",
        )  # fmt: skip
    labelled = existing.by_spec.get(f"LABEL={part.geometry.options.label}") if part.geometry else None
    if labelled is not None:
        yield Finding(
            "label-in-use", "error", f"{where}.label",
            f"line {labelled.line} of the guest's fstab mounts {labelled.spec}, which would fit this disk as well",
            "choose another label",
        )  # fmt: skip


def mounting(disk: LaidDisk, existing: Iterable[MountEntry]) -> tuple[MountEntry, ...]:
    """Return the existing entries that mount a filesystem of a disk, wherever they mount it."""
    specs = {_spec(entry_of(part).spec) for part in disk.partitions if part.filesystem and part.uuid}
    return tuple(entry for entry in existing if _spec(entry.spec) in specs)


def missing_entries(wanted: tuple[MountEntry, ...], existing: tuple[MountEntry, ...]) -> tuple[MountEntry, ...]:
    """Return the wanted entries whose filesystem no existing entry mounts."""
    known = {_spec(entry.spec) for entry in existing}
    return tuple(entry for entry in wanted if _spec(entry.spec) not in known)


def kept_entries(
    wanted: tuple[MountEntry, ...], existing: tuple[MountEntry, ...]
) -> tuple[tuple[MountEntry, MountEntry], ...]:
    """Return each wanted entry, with the existing one, whose filesystem is mounted elsewhere or in another way."""
    known = {_spec(entry.spec): entry for entry in existing}
    both = ((entry, known[_spec(entry.spec)]) for entry in wanted if _spec(entry.spec) in known)
    return tuple(
        (entry, there)
        for entry, there in both
        if (entry.file, entry.vfstype, entry.mntops) != (there.file, there.vfstype, there.mntops)
    )
