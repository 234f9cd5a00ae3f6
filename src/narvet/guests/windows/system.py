"""Windows as a guest's system: letters and folder mounts, owners by SID, entries as a registry text that it imports."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from narvet.formats.filesystems.contract import Capacity, Folder
from narvet.formats.tables.contract import DataPartition
from narvet.ground.findings import Finding, Place, guest_place
from narvet.ground.rules import guests as rules
from narvet.ground.sids import WELL_KNOWN, sid_of
from narvet.ground.units import MIB, show_as_windows
from narvet.guests.contract import (
    DiskAsked,
    DiskDefaults,
    GuestAsked,
    OwnerAsked,
    Ownership,
    PartitionAsked,
    PartitionDefaults,
    PartitionKey,
)
from narvet.guests.windows.checks import FILESYSTEMS, GPT_SINCE, check_disk, check_limits, is_older
from narvet.guests.windows.mounts import folder_mounts, is_letter, letter_of, registry_values, taken_back
from narvet.guests.windows.registry import HEAD, KEY, guest_with_text, value_line, value_meaning
from narvet.guests.windows.steps import WriteRegistryText
from narvet.model.estate import Disk, Guest, Partition
from narvet.model.layout import PlannedDisk
from narvet.model.moves import Aspect, Difference, Step
from narvet.sheet.form import DiskForm, GuestForm, PartitionForm
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
        GuestForm: ("root",),
        DiskForm: (),
        PartitionForm: ("mode", "options", "needed"),
    }
    mount_point_hint = 'use a letter, such as "T:"'

    def disk_defaults(self, asked: DiskAsked) -> DiskDefaults:
        """Return a GPT, or an MBR for versions without it, and what Windows itself sets aside on a GPT."""
        form = asked.disk
        table = form.table or ("mbr" if is_older(asked.guest, GPT_SINCE) else "gpt")
        usual = _SET_ASIDE if table == "gpt" and (form.size is None or form.size >= _SET_ASIDE_FROM) else 0
        return DiskDefaults(table, usual if form.set_aside is None else form.set_aside)

    def partition_defaults(self, asked: PartitionAsked) -> PartitionDefaults:
        """Return an NTFS of the system's own, which gets no letter unless the sheet gives it one."""
        form = asked.partition
        attributes: tuple[str, ...] | None = form.attributes
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

    def wanted(self, disks: Iterable[PlannedDisk], found: Guest, others: Iterable[PlannedDisk] = ()) -> Guest:
        """Return the registry values that a guest's disks ask for, and those taken back; None if there are none."""
        own = tuple(disks)
        values = registry_values(own)
        back = taken_back(values, (*own, *others), found.values or ())
        return Guest(found.name, found.entries_path, values=(*values, *back) or None)

    def only(self, disks: Iterable[PlannedDisk], found: Guest) -> Guest:
        """Return the registry values of some disks, among those that are there already."""
        own = self.wanted(disks, found).values or ()
        values = {value.name: value for value in (*(found.values or ()), *own)}
        return Guest(found.name, found.entries_path, values=tuple(values.values()) or None)

    def check_mounts(self, disks: Iterable[PlannedDisk], found: Guest) -> Iterator[Finding]:
        """Yield an error where a registry text cannot be written."""
        if found.problem and any(disks):
            yield rules.entries_in_the_way.error(guest_place(found.name), found.problem)

    def differences(self, wanted: Guest, found: Guest) -> Iterator[Difference]:
        """Yield a registry text that is not there, or has other values."""
        if _are_others(wanted, found):
            there = None if found.values is None else "other values"
            yield Difference(guest_place(found.name), Aspect.REGISTRY, "as the sheet has it", there)

    def is_mounted(self, disk: PlannedDisk, found: Guest) -> bool:
        """Return whether the guest's registry text ties a letter or folder to a disk."""
        return (
            bool(found.values) and disk.origin is None and bool(set(registry_values([disk])) & set(found.values or ()))
        )

    def steps(self, wanted: Guest, found: Guest) -> Iterator[Step]:
        """Yield the writing of the registry text, if it is not as wanted."""
        if wanted.values is not None and _are_others(wanted, found):
            changes = not set(found.values or ()) <= set(wanted.values)
            yield WriteRegistryText(found.name, found.entries_path or "", wanted.values, changes)

    def removal(self, disk: PlannedDisk, left: Guest, found: Guest) -> Iterator[Step]:
        """Yield the writing of the registry text as it is without a disk."""
        if found.values and found.values != (left.values or ()):
            yield WriteRegistryText(disk.guest, found.entries_path or "", left.values or (), is_change=True)

    def entries_go_to(self, guest: Guest) -> str:
        """Return the registry text that the guest imports."""
        return f"{guest.entries_path}, to be imported in the guest"

    def entry_lines(self, wanted: Guest) -> tuple[str, ...]:
        """Return the values as lines of a registry text."""
        return tuple(map(value_line, wanted.values or ()))

    def entry_rows(self, wanted: Guest) -> tuple[tuple[str, ...], ...]:
        """Return what each value is of, and what that is known by."""
        return tuple(map(value_meaning, wanted.values or ()))

    def entry_text(self, wanted: Guest) -> str:
        """Return the registry text."""
        return "\n".join([HEAD, "", KEY, *self.entry_lines(wanted)])

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
        """Return what is found of the registry text beside the sheet."""
        return guest_with_text(asked.name, asked.sheet.parent / f"{asked.sheet.stem}.{asked.name}.reg")


def _are_others(wanted: Guest, found: Guest) -> bool:
    """Return whether values are wanted that are not just those of the registry text, in whatever order."""
    return wanted.values is not None and (found.values is None or set(found.values) != set(wanted.values))


def _account(name: str, place: Place) -> tuple[str, tuple[Finding, ...]]:
    """Return the SID of a Windows account; one that cannot be told from its name has a finding."""
    sid = sid_of(name)
    found = () if sid is not None else (rules.account_unknown.error(place, name),)
    return sid or WELL_KNOWN[_SYSTEM], found


SYSTEM = Windows()
