"""The entries that make a sheet's mounts persist: shown, or installed into a root."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from narvet.ground.errors import RequestError, nearest
from narvet.ground.findings import Finding, has_errors
from narvet.guests import guest_system
from narvet.guests.contract import HasRoots
from narvet.model.layout import Layout
from narvet.usecases.layout import work_out


@dataclass(frozen=True)
class Installed:
    """Entries that were added to a root, and those that were there already; none of either where findings forbid it."""

    added: int
    there: int
    findings: tuple[Finding, ...]


def entries(sheet: Path, guest: str | None = None) -> Layout:
    """Return a sheet worked out, whose guests have the entries; `guest` must be one of them if it is given.

    Raises:
        RequestError: the sheet is not a valid one, or has no such guest.
    """
    layout = work_out(sheet).layout
    if guest is not None and guest not in layout.guests:
        raise RequestError(f'{sheet}: there is no guest "{guest}" in the sheet{nearest(guest, layout.guests)}')
    return layout


def install_entries(sheet: Path, guest: str, root: str, *, dry: bool = False) -> Installed:
    """Add a guest's entries to the fstab in a root folder, which need not be the one that the sheet names.

    A `dry` call only counts them.

    Raises:
        RequestError: there is no such guest, or its system has no entries that go into a root.
    """
    layout = entries(sheet, guest)
    system, wanted = guest_system(layout.systems[guest]), layout.guests[guest]
    if not isinstance(system, HasRoots):
        raise RequestError(f"guest {guest} has no fstab; import {wanted.entries_path} in it once the sheet is written")
    found = system.observe_root(root, [entry.file for entry in wanted.entries])
    disks = [disk for disk in layout.disks if disk.guest == guest]
    findings = (*found.findings, *system.check_mounts(disks, found))
    added, there = (0, 0) if has_errors(findings) else system.install(wanted, found, dry=dry)
    return Installed(added, there, findings)
