"""Linux as a guest's system: paths as mount points, owners by number and name, entries as lines of fstab."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.trees import FileTree
from narvet.formats.tables.contract import DataPartition
from narvet.ground.errors import RequestError
from narvet.ground.findings import Finding, guest_place
from narvet.ground.rules import filesystems as filesystem_rules
from narvet.ground.rules import guests as rules
from narvet.ground.units import show_as_linux
from narvet.guests.contract import (
    DiskAsked,
    DiskDefaults,
    Everything,
    GuestAsked,
    MountAsked,
    OwnerAsked,
    Ownership,
    PartitionAsked,
    PartitionDefaults,
)
from narvet.guests.linux.crypttab import (
    Unlocks,
    check_unlocks,
    compared,
    crypttab_line,
    key_file_of,
    key_files_left,
    key_files_of,
    key_to_place,
    seal_sources,
    unlocks_left,
    unlocks_of,
)
from narvet.guests.linux.fstab import fstab_line
from narvet.guests.linux.mounts import (
    check_mounts,
    entries_of,
    kept_entries,
    missing_entries,
    mount_points_of,
    mounted,
    mounting,
    sources_of,
    surplus_entries,
)
from narvet.guests.linux.owners import resolve_owner
from narvet.guests.linux.root import CRYPTTAB, FSTAB, change_entries, change_unlocks, recognised, root_of
from narvet.guests.linux.steps import (
    ChangeEntries,
    ChangeUnlocks,
    MakeMountPoint,
    PlaceKey,
    RemoveEntries,
    RemoveKey,
    RemoveMountPoint,
)
from narvet.guests.roots import root_asked
from narvet.model.estate import Disk, FoundSystem, Guest, Image, MountPoint, Partition, Root
from narvet.model.layout import Mountable, PlannedDisk
from narvet.model.moves import Aspect, Difference, Step
from narvet.sheet.contents import PartitionForm
from narvet.sheet.form import DiskForm
from narvet.sheet.machines import GuestForm
from narvet.sheet.resolved import ResolvedDisk

_SUPERUSER = "0:0"
_SINCE = {"xfs": (5, 10), "exfat": (5, 7), "ntfs": (5, 15)}
"""Kernels from which on filesystems are known as they are made here: large times, drivers that write."""


class Linux:
    """The system behind `runs = "linux"`."""

    name = "linux"
    data_partition: DataPartition = "linux"
    names_volumes = False
    owners_need_rights = False
    filesystems = ("ext4", "xfs", "swap")
    unused_keys: Mapping[type[GuestForm | DiskForm | PartitionForm], tuple[str, ...]] = {
        GuestForm: ("letters", "new_disks"),
        DiskForm: ("set_aside",),
        PartitionForm: ("access", "attributes"),
    }
    own_root = "/"
    knows_pools = True
    mount_point_hint = 'use a path, such as "/srv/trials"'

    def disk_defaults(self, asked: DiskAsked) -> DiskDefaults:
        """Return a GPT, with nothing set aside."""
        return DiskDefaults(asked.disk.table or "gpt")

    def partition_defaults(self, asked: PartitionAsked) -> PartitionDefaults:
        """Return an ext4 of the superuser's."""
        form = asked.partition
        return PartitionDefaults(form.filesystem or self.filesystems[0], form.owner or _SUPERUSER)

    def writes_size(self, size: int) -> str:
        """Return the size of a disk as Linux lists it: one decimal, in powers of 1024, without an i."""
        return show_as_linux(size)

    def mounts(self, disks: Iterable[Mountable]) -> Iterator[MountAsked]:
        """Yield what a guest's disks ask to be mounted, as their lines of fstab say."""
        for one in sorted(mounted(disks), key=lambda one: (one.mount.at is None, (one.mount.at or "").split("/"))):
            entry = one.entry
            yield MountAsked(one.where, one.part, one.mount.at, entry.vfstype, entry.mntops)

    def can_mount_at(self, at: str) -> bool:
        """Return whether a mount point is a path."""
        return at[0] == "/"

    def check_disk(self, asked: DiskAsked) -> Iterator[Finding]:
        """Yield filesystems that the guest's kernel, by its version, does not have, or not as they are made here.

        Distributions bring some of them to older kernels, so that this is no error.
        """
        version = asked.guest.version
        for index, part in enumerate(asked.disk.partition, 1):
            since = _SINCE.get(part.filesystem or "")
            if version and since and version[:2] < since:
                needed, has = (".".join(map(str, one)) for one in (since, version))
                place, remedy = asked.place.part(index).key("filesystem"), "use ext4, or a newer kernel"
                what = f"{part.filesystem}, as it is made here,"
                yield rules.guest_too_old.warning(place, what, f"Linux {needed}", has, remedy)

    def check_limits(self, disk: PlannedDisk, asked: ResolvedDisk) -> Iterator[Finding]:
        """Yield filesystems whose largest file is too small for their purpose."""
        for part in disk.wanted.partitions:
            if part.new is None or part.mount is None or part.filesystem is None:
                continue
            largest, purpose = filesystem(part.filesystem.kind).largest_file, part.new.options.purpose
            if largest is not None and purpose in ("database", "media"):
                place = asked.place.part(part.mount.index).key("filesystem")
                kind, others = part.filesystem.kind, "xfs, ext4 or exfat"
                yield filesystem_rules.file_limit.warning(place, kind, largest, purpose, others)

    def ownership(self, asked: OwnerAsked) -> tuple[Ownership, tuple[Finding, ...]]:
        """Return user and group; one that the guest does not have has a finding, and is left to the superuser."""
        owner, found = asked.partition.owner, asked.guest
        ids = resolve_owner(owner, found)
        if ids is None:
            place, known = asked.place.key("owner"), bool(found.users)
            return Ownership(), (rules.owner_unknown.error(place, owner, found.name, accounts_known=known),)
        return Ownership(*ids), ()

    def wanted(self, disks: Iterable[Mountable], found: Guest, every: Everything | None = None) -> Guest:
        """Return the entries and mount points that a guest's disks ask for, and Narvet's own that none asks for now."""
        own = tuple(disks)
        entries, unlocks = entries_of(own), unlocks_of(own)
        every = every or Everything(own)
        return Guest(
            found.name,
            found.entries_path,
            root=found.root,
            entries=entries,
            mount_points=mount_points_of(own),
            surplus=surplus_entries(entries, every.known_by(sources_of), found.entries),
            unlocks=unlocks,
            unlocks_left=(left := unlocks_left(unlocks, every.known_by(seal_sources), found.unlocks)),
            key_files=(files := key_files_of(own)),
            key_files_left=key_files_left(files, compared(unlocks, found.unlocks, left), found),
        )

    def only(self, disks: Iterable[Mountable], found: Guest) -> Guest:
        """Return the entries and mount points of some disks, and Narvet's own for them that none asks for now."""
        return self.wanted(disks, found)

    def check_mounts(self, disks: Iterable[Mountable], found: Guest) -> Iterator[Finding]:
        """Yield what is to be said about mount points, among themselves and in the guest's root."""
        own = tuple(disks)
        yield from check_mounts(own, found)
        yield from check_unlocks(own, found)
        changes = found.root is not None and found.unclean and self.steps(self.wanted(own, found), found)
        if changes and found.root is not None and found.is_readable and next(changes, None) is not None:
            place = guest_place(found.name).key("root")
            yield rules.root_not_changeable.error(place, found.root.shown(), found.unclean)

    def differences(self, wanted: Guest, found: Guest) -> Iterator[Difference]:
        """Yield entries that are missing or in other words, and mount points that are missing or another's."""
        if not found.is_readable:
            return
        place = guest_place(found.name)
        for entry in missing_entries(wanted.entries, found.entries):
            yield Difference(place.inside("fstab"), Aspect.ENTRY, f"{entry.spec} at {entry.file}", None)
        for entry, there in kept_entries(wanted.entries, found.entries):
            asked, now = (f"{one.file} {one.vfstype} {one.mntops}" for one in (entry, there))
            aspect = Aspect.ENTRY_CHANGED if there.ours else Aspect.ENTRY_WORDS
            yield Difference(place.inside(f"fstab line {there.line}"), aspect, asked, now)
        for there in wanted.surplus:
            where = place.inside(f"fstab line {there.line}")
            yield Difference(where, Aspect.ENTRY_SURPLUS, None, f"{there.spec} at {there.file}")
        yield from _unlocks(wanted, found)
        for at, point in wanted.mount_points.items():
            there_now = found.mount_points.get(at)
            if there_now is not None and not there_now.exists:
                yield Difference(place.inside(at), Aspect.MOUNT_POINT, "a mount point", None)
            elif there_now is not None and _can_be_given(point, there_now):
                yield Difference(place.inside(at), Aspect.MOUNT_POINT_OWNER, _owner(point), _owner(there_now))

    def is_mounted(self, disk: Mountable, found: Guest) -> bool:
        """Return whether the guest's fstab mounts a filesystem of a disk."""
        return bool(mounting(disk.wanted, found.entries))

    def steps(self, wanted: Guest, found: Guest) -> Iterator[Step]:
        """Yield the mount points to be made, corrected or removed, then the changes of entries.

        A mount point goes before the entry that names it: after a cut, the entry alone tells which one is left over.
        """
        root = found.root
        if root is None:
            return
        for at, point in wanted.mount_points.items():
            there = found.mount_points[at]
            if not there.exists or _can_be_given(point, there):
                yield MakeMountPoint(found.name, root, at, point, there.owner_can_be_set, there.exists)
        missing = missing_entries(wanted.entries, found.entries)
        changed = tuple(pair for pair in kept_entries(wanted.entries, found.entries) if pair[1].ours)
        gone = (*(there for entry, there in changed if there.file != entry.file), *wanted.surplus)
        used = {entry.file for entry in wanted.entries}
        for at in dict.fromkeys(one.file for one in gone if one.file.startswith("/") and one.file not in used):
            yield RemoveMountPoint(found.name, root, at)
        for at, key in wanted.key_files.items():
            there_now = found.key_files[at]
            if key_to_place(key, there_now):
                yield PlaceKey(found.name, root, at, key.uuid, there_now.owner_can_be_set)
        for at in wanted.key_files_left:
            yield RemoveKey(found.name, root, at)
        becomes = compared(wanted.unlocks, found.unlocks, wanted.unlocks_left)
        if becomes.is_needed:
            yield ChangeUnlocks(found.name, root, becomes)
        if missing or changed or wanted.surplus:
            yield ChangeEntries(found.name, root, missing, changed, wanted.surplus)

    def removal(self, disk: Mountable, left: Guest, found: Guest) -> Iterator[Step]:
        """Yield the removal of the lines that mount a disk's filesystems, unless another disk asks for them."""
        if found.root is None or disk.origin is not None:
            return
        kept = {entry.spec for entry in left.entries}
        entries = tuple(entry for entry in mounting(disk.wanted, found.entries) if entry.spec not in kept)
        if entries:
            yield RemoveEntries(found.name, found.root, entries)
        sources = {one.source for one in unlocks_of((disk,))} - {one.source for one in left.unlocks}
        gone = tuple(one for one in found.unlocks if one.source in sources)
        for at in key_files_left(left.key_files, Unlocks(surplus=gone), found):
            yield RemoveKey(found.name, found.root, at)
        if gone:
            yield ChangeUnlocks(found.name, found.root, Unlocks(surplus=gone))

    def entries_go_to(self, guest: Guest) -> str:
        """Return the fstab that the lines go into."""
        return guest.root.shown(FSTAB) if guest.root else "its fstab, to be pasted by hand: the sheet names no root"

    def entry_lines(self, wanted: Guest) -> tuple[str, ...]:
        """Return the lines of fstab."""
        return tuple(map(fstab_line, wanted.entries))

    def entry_rows(self, wanted: Guest) -> tuple[tuple[str, ...], ...]:
        """Return the lines of fstab."""
        return tuple((line,) for line in self.entry_lines(wanted))

    def entry_text(self, wanted: Guest) -> str:
        """Return the lines of fstab, and as remarks those of crypttab."""
        more = (f"# etc/crypttab: {line}" for line in self.unlock_lines(wanted))
        return "\n".join((*self.entry_lines(wanted), *more))

    def unlock_lines(self, wanted: Guest) -> tuple[str, ...]:
        """Return the lines of crypttab."""
        return tuple(map(crypttab_line, wanted.unlocks))

    def unlocks_go_to(self, guest: Guest) -> str:
        """Return the crypttab that the lines go into."""
        return guest.root.shown(CRYPTTAB) if guest.root else "its crypttab, to be pasted by hand"

    def key_file(self, part: Partition, found: Guest) -> str:
        """Return the key file that the guest's crypttab has for a sealed partition, empty if it has none."""
        return key_file_of(part, found.unlocks)

    def uses(self, disk: Disk, part: Partition, found: Guest) -> Iterator[tuple[str, object]]:
        """Yield mount point and options by the guest's fstab."""
        del disk
        entry = next(iter(mounting(Disk(Image("", "", "", 0), partitions=(part,)), found.entries)), None)
        if entry is None:
            return
        if entry.file.startswith("/"):
            yield "at", entry.file
        words = [word for word in entry.mntops.split(",") if word]
        if "nofail" not in words:
            yield "needed", True
        options = [word for word in words if word not in ("nofail", "defaults")]
        if options:
            yield "options", options

    def observe(self, asked: GuestAsked) -> Guest:
        """Return what is found in the guest's root, if the sheet names one."""
        root = root_asked(asked)
        return root_of(
            asked.name, root, (at for at in asked.mount_points if self.can_mount_at(at)), asked.written, asked.key_files
        )

    def recognise(self, tree: FileTree, partition: int) -> FoundSystem | None:
        """Return the Linux that lives in a tree of files, None if none does."""
        return recognised(tree, partition)

    def observe_root(self, root: Root, mount_points: Iterable[str]) -> Guest:
        """Return what is found in a root."""
        return root_of("", root, mount_points)

    def install(self, wanted: Guest, found: Guest, *, dry: bool = False) -> tuple[int, int]:
        """Add a guest's lines to a root's fstab, unless `dry`; return how many are added, and how many were there."""
        if wanted.key_files:
            raise RequestError("a key file is put into a root by write only: name the root in the sheet")
        becomes = compared(wanted.unlocks, found.unlocks, ())
        if becomes.missing and not dry and found.root is not None:
            change_unlocks(found.root, Unlocks(becomes.missing))
        missing = missing_entries(wanted.entries, found.entries)
        added = missing if dry or found.root is None else change_entries(found.root, wanted.entries, (), ())
        return len(added), len(wanted.entries) - len(added)


def _unlocks(wanted: Guest, found: Guest) -> Iterator[Difference]:
    """Yield lines of crypttab that are missing, in other words, or too many."""
    becomes, place = compared(wanted.unlocks, found.unlocks, wanted.unlocks_left), guest_place(found.name)
    for one in becomes.missing:
        yield Difference(place.inside("crypttab"), Aspect.ENTRY, f"{one.source} as {one.name}", None)
    for new, old in becomes.changed:
        where = place.inside(f"crypttab line {old.line}")
        yield Difference(where, Aspect.ENTRY_CHANGED, crypttab_line(new), crypttab_line(old))
    for one in becomes.surplus:
        where = place.inside(f"crypttab line {one.line}")
        yield Difference(where, Aspect.ENTRY_SURPLUS, None, f"{one.source} as {one.name}")
    for at, key in wanted.key_files.items():
        there = found.key_files.get(at)
        if key_to_place(key, there):
            now = None if there is None or not there.exists else "not as it was written"
            yield Difference(place.inside(at), Aspect.KEY_FILE, "a key file", now)
    for at in wanted.key_files_left:
        yield Difference(place.inside(at), Aspect.KEY_FILE_LEFT, None, "a key file")


def _can_be_given(wanted: MountPoint, there: MountPoint) -> bool:
    """Return whether a mount point is an empty folder of another owner or mode, which this user can change."""
    return there.exists and there.empty and there.owner_can_be_set and there.ownership != wanted.ownership


def _owner(point: MountPoint) -> str:
    return f"{point.uid}:{point.gid} {point.mode:04o}"


SYSTEM = Linux()
