"""Real devices that stand for disks: which one is whose, and what keeps one from being written. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import GrowsMounted
from narvet.formats.tables import table_format
from narvet.ground.errors import RequestError, nearest
from narvet.ground.findings import Finding, Place, disk_place
from narvet.ground.offers import offers
from narvet.ground.rules import devices as rules
from narvet.ground.values import Frozen
from narvet.model.devices import Device
from narvet.model.estate import Partition
from narvet.model.facts import Facts
from narvet.model.layout import PlannedDisk
from narvet.model.moves import Aspect, Difference
from narvet.plan.plugs import serial_of
from narvet.sheet.form import DiskForm, Sheet
from narvet.sheet.resolved import DiskIds


class Chosen(Frozen):
    """The devices that were found for a guest's disks, by the disks' names; `missing` has why there is none."""

    devices: Mapping[str, Device]
    missing: Mapping[str, str]


def choose(sheet: Sheet, guest: str, there: Sequence[Device]) -> Chosen:
    """Return which device of a guest is which disk of it: by its ids once it is written, before that by its serial.

    Raises:
        RequestError: there is no such guest.
    """
    if guest not in sheet.guest:
        raise RequestError(f'there is no guest "{guest}" in the sheet{nearest(guest, sheet.guest)}')
    devices: dict[str, Device] = {}
    missing: dict[str, str] = {}
    for name, form in sheet.disk.items():
        if form.guest == guest and form.copy_of is form.base is None:  # those are whole before they come here
            found = _candidates(sheet, name, form, there)
            if len(found) == 1:
                devices[name] = found[0]
            else:
                missing[name] = _why(sheet, name, form, found)
    return Chosen(devices, missing)


def _candidates(sheet: Sheet, name: str, form: DiskForm, there: Sequence[Device]) -> list[Device]:
    written = [one for one in there if _is_written(sheet, name, form, one)]
    if written:
        return written
    if form.device is not None and form.device.only_blank:
        return [one for one in there if one.is_blank and one.size == form.size]
    return [one for one in there if one.serial and one.serial == _serial(sheet, name, form)]


def _serial(sheet: Sheet, name: str, form: DiskForm) -> str:
    own = form.device.serial if form.device else None
    return own or form.serial or serial_of(_ids(sheet, name, form))


def _ids(sheet: Sheet, name: str, form: DiskForm) -> DiskIds:
    return DiskIds(sheet.identity, form.was or name)


def _is_written(sheet: Sheet, name: str, form: DiskForm, one: Device) -> bool:
    """Return whether a device has the ids of a disk."""
    if one.found is None:
        return False
    ids = _ids(sheet, name, form)
    if one.found.table_id:
        return one.found.table_id == (form.table_id or table_format(one.found.table).native_id(ids.table))
    kinds = [filesystem(part.filesystem.kind) for part in one.found.partitions if part.filesystem]
    return any(kind.native_id(ids.filesystem(1)) in one.found.content_ids for kind in kinds)


def _why(sheet: Sheet, name: str, form: DiskForm, found: Sequence[Device]) -> str:
    if len(found) > 1:
        return f"{', '.join(one.path for one in found)} could each be it; give it a serial, or take the others out"
    if form.device is not None and form.device.only_blank:
        return "there is no blank device of its size here; give its serial, or plug it in"
    return f"there is no device with the serial {_serial(sheet, name, form)} here; plug it in"


def check_devices(
    disks: Iterable[PlannedDisk], facts: Facts, differences: Mapping[str, Sequence[Difference]]
) -> Iterator[Finding]:
    """Yield what keeps devices from being written, and which disks only their guest can see."""
    for name, guest in facts.apart.items():
        yield rules.written_inside.note(disk_place(name).key("device"), guest)
    for disk in disks:
        device, where = facts.devices.get(disk.name), disk_place(disk.name)
        if device is None:
            continue
        if disk.name not in facts.found.disks:
            yield from _check_blank(disk, device, where)
        elif disk.size != device.size:
            yield rules.device_size_differs.error(where.key("size"), device.path, device.size, disk.size)
        elif not changes_in_use(disk, device, differences[disk.name]):
            yield rules.device_cannot_change.error(where, device.path)


def changes_in_use(disk: PlannedDisk, device: Device, differences: Sequence[Difference]) -> bool:
    """Return whether what is to be changed on a device, if anything is, can be while it is used.

    That is partitions more, and partitions larger whose filesystem is mounted and the kernel makes larger itself.
    """
    parts = {part.number: part for part in disk.wanted.partitions}
    for one in differences:
        if not one.answer.is_move or one.aspect is Aspect.PARTITION:
            continue
        part = parts.get(one.where.partition or 0)
        if one.aspect not in (Aspect.LARGER, Aspect.MORE_SHOWN) or part is None or not grows_mounted(part, device):
            return False
    return True


def grows_mounted(part: Partition, device: Device) -> bool:
    """Return whether a partition's filesystem is mounted, and of a kind that the kernel makes larger as it is."""
    if part.filesystem is None or part.at is None or not device.is_used(part.number, part.at):
        return False
    return offers(filesystem(part.filesystem.kind), GrowsMounted)


def _check_blank(disk: PlannedDisk, device: Device, where: Place) -> Iterator[Finding]:
    """Yield what keeps a device from being written for a disk."""
    if device.holds:
        yield rules.device_holds_something.error(where, device.path, device.holds)
    for user in device.users:
        yield rules.device_in_use.error(where, device.path, user)
    if device.partitions and not device.holds:
        yield rules.device_in_use.error(where, device.path, "the kernel has partitions of it")
    if device.read_only:
        yield rules.device_read_only.error(where, device.path)
    if device.size != disk.size:
        yield rules.device_size_differs.error(where.key("size"), device.path, device.size, disk.size)
