"""Windows as a guest's system: letters and folder mounts, owners by SID, entries as a registry text that it imports."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from narvet.formats.filesystems.contract import Capacity, Folder
from narvet.formats.filesystems.trees import FileTree
from narvet.formats.tables.contract import DataPartition
from narvet.ground.findings import Finding, Place, guest_place
from narvet.ground.rules import guests as rules
from narvet.ground.sids import WELL_KNOWN, sid_of
from narvet.ground.units import MIB, show_as_windows
from narvet.ground.values import replace
from narvet.guests.contract import (
    DiskAsked,
    DiskDefaults,
    Everything,
    GuestAsked,
    OwnerAsked,
    Ownership,
    PartitionAsked,
    PartitionDefaults,
    PartitionKey,
)
from narvet.guests.roots import OpenRoot, root_asked
from narvet.guests.windows.checks import FILESYSTEMS, GPT_SINCE, check_disk, check_limits, is_older
from narvet.guests.windows.mounts import (
    check_folders,
    check_letters,
    folder_mounts,
    folders_asked,
    identities,
    is_letter,
    letter_of,
    mounted_letters,
    registry_values,
    taken_back,
    volumes_of,
)
from narvet.guests.windows.registry import HEAD, KEY, POLICY_LINES, guest_with_text, value_line, value_meaning
from narvet.guests.windows.root import SYSTEM_HIVE, facts_of, is_windows_root, root_of
from narvet.guests.windows.steps import ChangeRegistry, MountFolder, RemoveRegistryText, WriteRegistryText
from narvet.model.estate import Disk, FoundSystem, Guest, Partition, RegistryValue, Root
from narvet.model.layout import Mountable, PlannedDisk
from narvet.model.moves import Aspect, Difference, Step
from narvet.sheet.contents import PartitionForm
from narvet.sheet.form import DiskForm
from narvet.sheet.machines import GuestForm
from narvet.sheet.resolved import ResolvedDisk, ResolvedSheet

_SET_ASIDE = 16 * MIB  # what Windows itself sets aside on a disk that it divides
_SET_ASIDE_FROM = 128 * MIB  # on smaller disks it would take too large a share
_SYSTEM = "SYSTEM"


class Windows:
    """The system behind `runs = "windows"`."""

    name = "windows"
    data_partition: DataPartition = "basic"
    names_volumes = True
    owners_need_rights = True
    filesystems = FILESYSTEMS
    unused_keys: Mapping[type[GuestForm | DiskForm | PartitionForm], tuple[str, ...]] = {
        GuestForm: (),
        DiskForm: (),
        PartitionForm: ("mode", "options", "needed"),
    }
    mount_point_hint = 'use a letter, such as "T:"'
    knows_pools = False

    def disk_defaults(self, asked: DiskAsked) -> DiskDefaults:
        """Return a GPT, or an MBR for versions without it, and what Windows itself sets aside on a GPT."""
        form = asked.disk
        table = form.table or ("mbr" if is_older(asked.guest, GPT_SINCE) else "gpt")
        usual = _SET_ASIDE if table == "gpt" and (form.size is None or form.size >= _SET_ASIDE_FROM) else 0
        return DiskDefaults(table, usual if form.set_aside is None else form.set_aside)

    def partition_defaults(self, asked: PartitionAsked) -> PartitionDefaults:
        """Return an NTFS of the system's own, which gets no letter unless the sheet gives it one."""
        form = asked.partition
        attributes: tuple[str, ...] | None = form.attributes if isinstance(form, PartitionForm) else None
        if attributes is None:
            attributes = () if form.at and is_letter(form.at) else ("no-letter",)
        return PartitionDefaults(form.filesystem or FILESYSTEMS[0], form.owner or _SYSTEM, attributes)

    def can_mount_at(self, at: str) -> bool:
        """Return whether a mount point is a letter, or a folder on a volume with one."""
        return at[0] != "/"

    def check_disk(self, asked: DiskAsked) -> Iterator[Finding]:
        """Yield what the guest's version of Windows cannot use of a disk as asked."""
        yield from check_disk(asked)

    def check_limits(self, disk: PlannedDisk, asked: ResolvedDisk) -> Iterator[Finding]:
        """Yield what a disk as planned will keep people from doing."""
        yield from check_limits(disk, asked)

    def ownership(self, asked: OwnerAsked) -> tuple[Ownership, tuple[Finding, ...]]:
        """Return owner and rights by SID, where the filesystem keeps them."""
        if asked.kind is None or not asked.kind.keeps_rights:
            return Ownership(), ()
        part, place = asked.partition, asked.place
        owner, found = _account(part.owner, place.key("owner"))
        access: list[tuple[str, str]] = []
        for name, right in part.access:
            sid, unknown = _account(name, place.key("access"))
            access.append((sid, right))
            found += unknown
        return Ownership(owner_sid=owner, access=tuple(access)), found

    def folder_mounts(
        self, sheet: ResolvedSheet, guest: str
    ) -> tuple[Mapping[PartitionKey, tuple[Folder, ...]], tuple[Finding, ...]]:
        """Return what is mounted in folders of a guest's partitions, and what is wrong with its letters and folders."""
        return folder_mounts(sheet, guest)

    def wanted(self, disks: Iterable[Mountable], found: Guest, every: Everything | None = None) -> Guest:
        """Return the registry values that a guest's disks ask for, and those taken back; None if there are none."""
        own = tuple(disks)
        values = registry_values(own)
        every_ = every or Everything(own)
        back = taken_back(values, every_.known_by(identities), found.values or ())
        online = "online" if found.asks_online else ""
        all_values = (*values, *back) or (() if online else None)
        links = {at: part.mount.volume for _, part, at in folders_asked(own) if part.mount} if found.root else {}
        ours = every_.known_by(volumes_of)
        kept = {at.upper() for at in links}
        gone = {at: "" for at, volume in found.links.items() if volume in ours and at.upper() not in kept}
        return Guest(
            found.name,
            found.entries_path,
            values=all_values,
            root=found.root,
            new_disks=online,
            links={**gone, **links},
        )

    def only(self, disks: Iterable[Mountable], found: Guest) -> Guest:
        """Return the registry values of some disks, among those that are there already."""
        if found.root is not None:
            return self.wanted(disks, found)
        own = self.wanted(disks, found).values or ()
        values = {value.name: value for value in (*(found.values or ()), *own)}
        online = "online" if found.asks_online else ""
        return Guest(found.name, found.entries_path, values=tuple(values.values()) or None, new_disks=online)

    def check_mounts(self, disks: Iterable[Mountable], found: Guest) -> Iterator[Finding]:
        """Yield an error where a registry text cannot be written."""
        own = tuple(disks)
        if found.problem and own:
            yield rules.entries_in_the_way.error(guest_place(found.name), found.problem)
        if found.root is None or not found.is_readable:
            return
        yield from check_letters(own, found)
        yield from check_folders(own, found)
        place = guest_place(found.name)
        if found.unclean and next(self.steps(self.wanted(own, found), found), None) is not None:
            yield rules.root_not_changeable.error(place.key("root"), found.root.shown(), found.unclean)
        if own and found.new_disks == "offline" and not found.asks_online:
            yield rules.new_disks_offline.warning(place.key("new_disks"), found.name)

    def differences(self, wanted: Guest, found: Guest) -> Iterator[Difference]:
        """Yield a registry text that is not there, or has other values."""
        if found.root is not None:
            yield from _in_registry(wanted, found)
        elif _are_others(wanted, found):
            there = None if found.values is None else "other values"
            yield Difference(guest_place(found.name), Aspect.REGISTRY, "as the sheet has it", there)

    def is_mounted(self, disk: Mountable, found: Guest) -> bool:
        """Return whether the guest's registry text ties a letter or folder to a disk."""
        return (
            bool(found.values) and disk.origin is None and bool(set(registry_values([disk])) & set(found.values or ()))
        )

    def steps(self, wanted: Guest, found: Guest) -> Iterator[Step]:
        """Yield the writing of the registry text, if it is not as wanted."""
        online = bool(wanted.new_disks)
        if found.root is not None:
            if found.is_readable:
                yield from _folder_steps(wanted, found)
            values, sets_policy = _missing(wanted, found), online and found.new_disks != "online"
            if found.is_readable and (values or sets_policy):
                yield ChangeRegistry(found.name, found.root, values, sets_policy, _replaces(values, found))
            if found.is_readable and found.outdated:
                yield RemoveRegistryText(found.name, found.outdated)
        elif wanted.values is not None and _are_others(wanted, found):
            changes = not set(found.values or ()) <= set(wanted.values)
            yield WriteRegistryText(found.name, found.entries_path or "", wanted.values, changes, online)

    def removal(self, disk: Mountable, left: Guest, found: Guest) -> Iterator[Step]:
        """Yield the writing of the registry text as it is without a disk."""
        if found.root is not None:
            kept = {value.name for value in left.values or () if value.data}
            own = {value.data for value in registry_values([disk])}
            gone = tuple(
                RegistryValue(one.name, b"") for one in found.values or () if one.data in own and one.name not in kept
            )
            volumes = {part.mount.volume for part in disk.wanted.partitions if part.mount}
            for at, volume in found.links.items() if found.is_readable else ():
                if volume in volumes and not left.links.get(at):
                    yield MountFolder(disk.guest, found.root, at, volume, removes=True)
            if gone and found.is_readable:
                yield ChangeRegistry(disk.guest, found.root, gone, is_change=True)
        elif found.values and found.values != (left.values or ()):
            yield WriteRegistryText(disk.guest, found.entries_path or "", left.values or (), is_change=True)

    def entries_go_to(self, guest: Guest) -> str:
        """Return the registry text that the guest imports."""
        if guest.root is not None:
            return guest.root.shown(SYSTEM_HIVE)
        return f"{guest.entries_path}, to be imported in the guest"

    def entry_lines(self, wanted: Guest) -> tuple[str, ...]:
        """Return the values as lines of a registry text."""
        return tuple(map(value_line, wanted.values or ()))

    def entry_rows(self, wanted: Guest) -> tuple[tuple[str, ...], ...]:
        """Return what each value is of, and what that is known by."""
        return tuple(map(value_meaning, wanted.values or ()))

    def entry_text(self, wanted: Guest) -> str:
        """Return the registry text."""
        policy = ("", *POLICY_LINES) if wanted.new_disks else ()
        return "\n".join([HEAD, "", KEY, *self.entry_lines(wanted), *policy])

    def writes_size(self, size: int) -> str:
        """Return the size of a disk as Windows writes it."""
        return show_as_windows(size)

    def shows(self, capacity: Capacity) -> str:
        """Return how Windows writes the size of a filesystem."""
        total, free = show_as_windows(capacity.total), show_as_windows(capacity.free)
        return f"Windows writes it as {total}, {free} of it free, in powers of 1024."

    def uses(self, disk: Disk, part: Partition, found: Guest) -> Iterator[tuple[str, object]]:
        """Yield the letter by the registry text beside the sheet."""
        letter = letter_of(disk, part, found.values or ())
        if letter:
            yield "at", letter

    def observe(self, asked: GuestAsked) -> Guest:
        """Return what is found in the guest's root, or of the registry text beside the sheet."""
        online, root = asked.form.new_disks == "online", root_asked(asked)
        text = asked.sheet.parent / f"{asked.sheet.stem}.{asked.name}.reg"
        if root is not None:
            found = root_of(asked.name, root, asked.mount_points, asks_online=online)
            return replace(found, outdated=str(text) if guest_with_text(asked.name, text).values is not None else "")
        return guest_with_text(asked.name, text, asks_online=online)

    def recognise(self, tree: FileTree, partition: int) -> FoundSystem | None:
        """Return the Windows that lives in a tree of files, None if none does."""
        if not is_windows_root(tree):
            return None
        facts = facts_of(OpenRoot(Root("", partition), tree))
        version = ".".join(map(str, facts.version))
        return FoundSystem(partition, self.name, facts.name, version, tuple(mounted_letters(facts.values)))


def _are_others(wanted: Guest, found: Guest) -> bool:
    """Return whether values are wanted that are not just those of the registry text, in whatever order."""
    if wanted.values is None:
        return False
    same = found.values is not None and set(found.values) == set(wanted.values)
    return not same or found.new_disks != wanted.new_disks


def _missing(wanted: Guest, found: Guest) -> tuple[RegistryValue, ...]:
    """Return the wanted values that a registry does not have, and those without data that it does have."""
    there = {value.name: value.data for value in found.values or ()}
    return tuple(
        value for value in wanted.values or () if (value.data and there.get(value.name) != value.data)
        or (not value.data and value.name in there)
    )  # fmt: skip


def _changed_links(wanted: Guest, found: Guest) -> Iterator[tuple[str, str, str]]:
    """Yield the folders that do not lead where they should: which, to which volume it should, to which it does."""
    there = {at.upper(): volume for at, volume in found.links.items()}
    for at, volume in wanted.links.items():
        if there.get(at.upper(), "") != volume:
            yield at, volume, there.get(at.upper(), "")


def _folder_steps(wanted: Guest, found: Guest) -> Iterator[Step]:
    """Yield what takes the folders of the system's volume to what is wanted, those that go first."""
    changes = sorted(_changed_links(wanted, found), key=lambda one: bool(one[1]))
    for at, volume, now in changes:
        if found.root is not None:
            yield MountFolder(found.name, found.root, at, volume or now, removes=not volume)


def _replaces(values: Iterable[RegistryValue], found: Guest) -> bool:
    """Return whether values that are there are changed or go."""
    there = {value.name for value in found.values or ()}
    return any(value.name in there for value in values)


def _in_registry(wanted: Guest, found: Guest) -> Iterator[Difference]:
    """Yield how a registry differs from what is wanted, value by value."""
    if not found.is_readable:
        return
    place, there = guest_place(found.name), {value.name: value for value in found.values or ()}
    for value in _missing(wanted, found):
        what, becomes = value_meaning(value)
        now = value_meaning(there[value.name])[1] if value.name in there else None
        yield Difference(place.inside(what), Aspect.REGISTRY, becomes if value.data else None, now)
    for at, volume, now in _changed_links(wanted, found):
        aspect = Aspect.MOUNT_POINT if volume else Aspect.ENTRY_SURPLUS
        asked, is_now = (f"volume {one}" if one else None for one in (volume, now))
        yield Difference(place.inside(at), aspect, asked, is_now)
    if found.outdated:
        yield Difference(place, Aspect.REGISTRY, None, found.outdated)
    if wanted.new_disks and found.new_disks != wanted.new_disks:
        yield Difference(place.key("new_disks"), Aspect.REGISTRY, wanted.new_disks, found.new_disks or None)


def _account(name: str, place: Place) -> tuple[str, tuple[Finding, ...]]:
    """Return the SID of a Windows account; one that cannot be told from its name has a finding."""
    sid = sid_of(name)
    found = () if sid is not None else (rules.account_unknown.error(place, name),)
    return sid or WELL_KNOWN[_SYSTEM], found


SYSTEM = Windows()
