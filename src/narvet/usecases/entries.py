"""The entries that make a sheet's mounts persist: shown, or installed into a root."""

from __future__ import annotations

import os
from pathlib import Path

from narvet.block.publish import clear_folders
from narvet.ground.errors import RequestError, nearest
from narvet.ground.findings import Finding, has_errors
from narvet.ground.offers import offers
from narvet.ground.values import Frozen
from narvet.guests import guest_system
from narvet.guests.contract import HasRoots
from narvet.model.estate import Root
from narvet.model.layout import Layout
from narvet.usecases.layout import work_out


class Installed(Frozen):
    """Entries that were added to a root, and those that were there already; none of either where findings forbid it."""

    added: int
    there: int
    findings: tuple[Finding, ...]


def entries(sheet: Path, guest: str | None = None) -> Layout:
    """Return a sheet worked out, whose guests have the entries; `guest` must be one of them if it is given.

    Raises:
        RequestError: the sheet is not a valid one, or has no such guest.
    """
    return _with_guest(sheet, work_out(sheet).layout, guest)


def _with_guest(sheet: Path, layout: Layout, guest: str | None) -> Layout:
    if guest is not None and guest not in layout.guests:
        raise RequestError(f'{sheet}: there is no guest "{guest}" in the sheet{nearest(guest, layout.guests)}')
    return layout


def install_entries(
    sheet: Path, guest: str, root: str, *, partition: int | str | None = None, dry: bool = False
) -> Installed:
    """Add a guest's entries to the fstab in a root, which need not be the one that the sheet names.

    `root` is a folder, or an image that has it, on `partition` or where what it holds tells. A `dry` call only counts.

    Raises:
        RequestError: there is no such guest, or its system has no entries that go into a root.
    """
    found_of_sheet = work_out(sheet)
    layout = _with_guest(sheet, found_of_sheet.layout, guest)
    system, wanted = guest_system(layout.systems[guest]), layout.guests[guest]
    if not offers(system, HasRoots):
        raise RequestError(f"guest {guest} has no fstab; import {wanted.entries_path} in it once the sheet is written")
    place = Root(root, partition, moment=found_of_sheet.sheet.dated)
    if not dry and Path(root).is_file():
        clear_folders(Path(os.path.realpath(root)))
    found = system.observe_root(place, [entry.file for entry in wanted.entries])
    disks = [disk for disk in layout.mountable if disk.guest == guest]
    findings = (*found.findings, *system.check_mounts(disks, found))
    added, there = (0, 0) if has_errors(findings) else system.install(wanted, found, dry=dry)
    return Installed(added, there, findings)
