"""A sheet written inside one of its guests: on the real devices that it has there, mounted at once.

Each disk of the guest is looked for by what it is, its ids or its serial, never by where it is. What then follows is
the same as outside: one plan, one diff, steps; only that a device is written in place, and the kernel told.
"""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Literal, cast

from narvet.apply.change import ChangeDisk
from narvet.apply.device import MountVolume, TellKernel, WriteDevice
from narvet.apply.execute import carry_out, sheet_lock
from narvet.apply.online import ChangeDevice, GrowMounted
from narvet.apply.steps import steps
from narvet.formats.signatures import NOT_KNOWN
from narvet.ground.errors import RequestError
from narvet.ground.findings import Finding, disk_place, has_errors
from narvet.ground.meter import OnCopied, metered
from narvet.ground.offers import offers
from narvet.ground.rules import devices as rules
from narvet.ground.rules.disks import cannot_be_changed
from narvet.ground.rules.guests import mount_point_not_empty
from narvet.ground.rules.images import sector_not_recorded
from narvet.ground.values import replace
from narvet.guests import guest_system
from narvet.guests.contract import GuestAsked, MountAsked, WorksInside
from narvet.model.devices import Device
from narvet.model.estate import Disk, Estate, Store
from narvet.model.facts import Facts
from narvet.model.layout import Layout, PlannedDisk
from narvet.model.moves import Aspect, Difference, Step
from narvet.observe import devices as machine
from narvet.observe.images import survey
from narvet.observe.ledger import begun_devices, histories, ledger_path, partitions_to_grow
from narvet.plan.devices import Chosen, choose, grows_mounted
from narvet.plan.existing import as_found
from narvet.plan.layout import plan
from narvet.plan.resolve import settled
from narvet.sheet.form import DiskForm, Sheet
from narvet.sheet.machines import StoreForm
from narvet.sheet.read import read_sheet
from narvet.usecases.layout import WorkedOut, check_names, moment, only
from narvet.usecases.write import Agree, OnDone, OnStart, Written

_HERE = "this machine"
_MUCH = 1 << 62  # what is free on a machine whose devices are what they are


def list_devices(paths: Sequence[Path] = ()) -> tuple[Device, ...]:
    """Return the real block devices of this machine, or those at paths: what each holds, and who uses it.

    Raises:
        RequestError: a path is none of a whole device.
    """
    found = machine.devices()
    if not paths:
        return found
    by_number = {one.number: one for one in found}
    for path in paths:
        if not path.exists() or path.stat().st_rdev not in by_number:
            raise RequestError(f"{path}: this is not a whole block device; narvet devices lists those there are")
    return tuple(by_number[path.stat().st_rdev] for path in paths)


def write_inside(
    sheet: Path,
    guest: str,
    *,
    disks: Iterable[str] = (),
    dry: bool = False,
    agree: Agree = lambda _: True,
    on_start: OnStart = lambda _: None,
    on_done: OnDone = lambda _: None,
    on_copied: OnCopied | None = None,
) -> Written:
    """Write a guest's disks on the devices it has, here inside it: tables, filesystems, mount points, entries, mounts.

    `disks` are the only ones to be written, all if none is named. `dry`, `agree` and the rest are as with `write`.

    Raises:
        RequestError: the sheet is not a valid one, has no such guest, or that one does not run Linux.
        RefusedError: the system refused a step; the steps before it stay done.
    """
    ledger = ledger_path(sheet)
    with sheet_lock(sheet):
        found = _only(_work_out(sheet, guest), sheet, tuple(disks))
        errors = has_errors(found.layout.findings)
        todo = () if errors else _steps(found, begun_devices(ledger), partitions_to_grow(ledger))
        changes = tuple(step for step in todo if step.is_change)
        if dry or (changes and not agree(changes)):
            return Written(found.layout, (*todo, *(() if errors else _mounts(found))) if dry else ())
        on_start(len(todo))
        with metered(on_copied):
            carry_out(sheet, todo, on_done)
        mounts = () if errors else tuple(_mounts(found))
        carry_out(sheet, mounts, on_done)
    return Written(found.layout, (*todo, *mounts))


def confirm_inside(sheet: Path, guest: str) -> Layout:
    """Return a sheet worked out inside a guest, with everything read in full and held against what is mounted.

    Raises:
        RequestError: the sheet is not a valid one, has no such guest, or that one does not run Linux.
    """
    found = _work_out(sheet, guest, deep=True)
    missing = [
        Difference(one.where, Aspect.IMAGE, "a device", None)
        for one in found.layout.findings
        if rules.device_missing.made(one)
    ]
    return replace(found.layout, differences=(*found.layout.differences, *missing, *_not_mounted(found)))


def _work_out(path: Path, guest: str, *, deep: bool = False) -> WorkedOut:
    sheet = read_sheet(path)
    marks = frozenset(begun_devices(ledger_path(path)).values())
    try:
        chosen = choose(sheet, guest, [_as_begun(one, marks) for one in machine.devices()])
    except RequestError as error:
        raise RequestError(f"{path}: {error}") from None
    system = guest_system(sheet.guest[guest].runs)
    if not offers(system, WorksInside):
        raise RequestError(f"{path}: guest {guest} runs {system.name}, inside which Narvet does not work")
    here = _sheet_here(sheet, path, guest, chosen, system.own_root)
    facts = _facts(here, path, guest, chosen, deep=deep)
    asked = settled(here)
    layout = plan(asked, facts)
    layout = replace(layout, findings=tuple(one for one in layout.findings if not _is_idle(one, layout, chosen)))
    said = (rules.device_missing.error(disk_place(name), reason) for name, reason in chosen.missing.items())
    return WorkedOut(replace(layout, findings=(*layout.findings, *said)), facts, asked)


def _only(found: WorkedOut, sheet: Path, names: tuple[str, ...]) -> WorkedOut:
    """Return a sheet as it is worked out where only some of the guest's disks are to be written."""
    missing = [one for one in found.layout.findings if rules.device_missing.made(one)]
    check_names(sheet, names, {*found.layout.wanted.disks, *(one.where.name for one in missing)})
    narrow = only(found, names)
    kept = [one for one in found.layout.findings if one.where.kind != "disk" or one.where.name in names]
    return replace(narrow, layout=replace(narrow.layout, findings=tuple(kept))) if names else found


def _is_idle(finding: Finding, layout: Layout, chosen: Chosen) -> bool:
    """Return whether a finding says nothing here: a mount point holds files if the disk itself is mounted there."""
    if sector_not_recorded.made(finding):  # a device has the sectors it has
        return True
    disk = layout.wanted.disks.get(finding.where.name) if finding.where.kind == "disk" else None
    if disk is None:
        return False
    device = chosen.devices[finding.where.name]
    if mount_point_not_empty.made(finding):
        own = (part for part in disk.partitions if part.mount and part.mount.index == finding.where.partition)
        return any(device.is_used(part.number, part.at) for part in own)
    if cannot_be_changed.made(finding):  # as it is mounted, which is what lets the kernel make it larger
        return any(part.number == finding.where.partition and grows_mounted(part, device) for part in disk.partitions)
    return False


def _as_begun(device: Device, marks: Collection[str]) -> Device:
    """Return a device as blank if an earlier try, which was cut off, had begun to write it.

    The table comes last, so what such a try leaves has no format yet; what has one was put there by somebody else.
    """
    begun = device.mark in marks and device.holds.startswith(NOT_KNOWN) and not device.users
    return replace(device, holds="", found=None) if begun else device


def _sheet_here(sheet: Sheet, path: Path, guest: str, chosen: Chosen, root: str) -> Sheet:
    """Return a sheet of what is here: the one guest with its own root, and the disks whose devices are found."""
    disks = {name: _disk_here(sheet.disk[name], device) for name, device in chosen.devices.items()}
    form = replace(sheet.guest[guest], root=root, door=None)
    return replace(
        sheet,
        title=sheet.title or path.stem,
        dated=moment(sheet.dated),
        store={_HERE: StoreForm(path=root)},
        guest={guest: form},
        disk=disks,
    )


def _disk_here(form: DiskForm, device: Device) -> DiskForm:
    """Return a disk as it is on a device: its size and sectors are those of that, unless the sheet has others."""
    return replace(
        form,
        store=_HERE,
        device=None,
        asked_format="raw",
        asked_space="full",
        size=form.size or device.size,
        usable=None,
        asked_sector_size=cast("Literal[512, 4096]", device.sector_size),
        copy_of=None,
        base=None,
    )


def _facts(here: Sheet, path: Path, guest: str, chosen: Chosen, *, deep: bool) -> Facts:
    found = {
        name: _in_full(device) if deep and not device.users else device.found
        for name, device in chosen.devices.items()
        if device.found is not None and not _is_foreign(here, name, device)
    }
    points = tuple(part.at for form in here.disk.values() for part in form.partition if part.at)
    written = histories(ledger_path(path)).whole.entries
    own = guest_system(here.guest[guest].runs).observe(GuestAsked(guest, here.guest[guest], path, points, written))
    store = Store(here.store[_HERE].path, free=_MUCH, total=_MUCH)
    estate = Estate({name: one for name, one in found.items() if one is not None}, {guest: own}, {_HERE: store})
    return Facts(estate, devices=chosen.devices)


def _in_full(device: Device) -> Disk:
    return survey(device.path, deep=True, sector_size=device.sector_size)


def _is_foreign(here: Sheet, name: str, device: Device) -> bool:
    """Return whether what lies on a device is not what was written there for a disk."""
    return name not in choose(here, here.disk[name].guest, [replace(device, serial="")]).devices


def _steps(found: WorkedOut, begun: Mapping[str, str], to_grow: Collection[tuple[str, int]]) -> tuple[Step, ...]:
    """Return what is left to do, with devices in place of images."""
    every, devices = steps(found.layout, found.facts), found.facts.devices
    every = tuple(step for step in every if not isinstance(step, ChangeDisk))
    images = {disk.path: (disk, devices[disk.name]) for disk in found.layout.disks if disk.state == "to make"}
    told = [TellKernel(name, "", there, devices[name]) for name, there in found.facts.found.disks.items()]
    steps_here = [_on_device(*images[step.touches], begun) if step.touches in images else step for step in every]
    return (*(step for step in told if step.is_needed), *_in_use(found, to_grow), *steps_here)


def _in_use(found: WorkedOut, to_grow: Collection[tuple[str, int]]) -> Iterator[Step]:
    """Yield what is changed on devices while they are used; `to_grow` is what a cut kept from growing earlier."""
    for disk in found.layout.disks:
        there = found.facts.found.disks.get(disk.name)
        moves = [one for one in found.layout.differences if one.where.kind == "disk" and one.where.name == disk.name]
        if there is None:
            continue
        device = found.facts.devices[disk.name]
        kept, wanted = {part.number: part.entry for part in there.partitions}, as_found(disk.wanted, there, moves)
        if any(kept.get(part.number) != part.entry for part in wanted.partitions):
            yield ChangeDevice(disk.name, "", wanted, device, there)
        grown = {number for name, number in to_grow if name == disk.name}
        grown |= {one.where.partition or 0 for one in moves if one.aspect in (Aspect.LARGER, Aspect.MORE_SHOWN)}
        for part in disk.wanted.partitions:
            if part.number in grown and part.filesystem is not None and grows_mounted(part, device):
                yield GrowMounted(disk.name, "", part, part.filesystem.kind)


def _on_device(disk: PlannedDisk, device: Device, begun: Mapping[str, str]) -> WriteDevice:
    return WriteDevice(disk.name, disk.guest, disk.wanted, device, was_begun=begun.get(disk.name) == device.mark)


def _asked(found: WorkedOut) -> Iterator[tuple[MountAsked, Device]]:
    """Yield what the guest is asked to mount, with the device that it lies on."""
    for runs in set(found.layout.systems.values()):
        system = guest_system(runs)
        if offers(system, WorksInside):
            yield from ((one, found.facts.devices[one.where.name]) for one in system.mounts(found.layout.disks))


def _mounts(found: WorkedOut) -> Iterator[Step]:
    """Yield the mounts of what is not mounted yet, outer ones first."""
    fresh = {disk.name for disk in found.layout.disks if disk.state == "to make"}
    for one, device in _asked(found):
        name, only = one.where.name, found.facts.only
        if not device.is_used(one.partition.number, one.at) and (not only or name in only):
            yield MountVolume(name, "", device.path, one.partition, one.kind, one.options, promised=name in fresh)


def _not_mounted(found: WorkedOut) -> Iterator[Difference]:
    """Yield what is not mounted as its entry says, and what shows less than is written down."""
    for one, device in _asked(found):
        if one.where.name not in found.facts.found.disks:
            continue
        if not device.is_used(one.partition.number, one.at):
            yield Difference(one.where, Aspect.MOUNTED, one.at or "used for swap", None)
        elif one.at is not None and one.partition.capacity is not None:
            shown, total = os.statvfs(one.at), one.partition.capacity.total
            if shown.f_blocks * shown.f_frsize < total:  # more is well: what is written down may be older
                yield Difference(one.where, Aspect.MORE_SHOWN, total, shown.f_blocks * shown.f_frsize)
