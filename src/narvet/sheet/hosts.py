"""Where a sheet's stores and guests' roots lie: on which hosts, and from where on their paths start there. Pure."""

from __future__ import annotations

from posixpath import isabs, join, normpath
from typing import Any

from narvet.ground.values import part_names, replace
from narvet.sheet.form import DiskForm, Sheet
from narvet.sheet.machines import DoorForm, GuestForm, RootForm

THIS_MACHINE = ""


def host_of_disk(sheet: Sheet, form: DiskForm) -> str:
    """Return the host that keeps a disk, empty for this machine."""
    store = sheet.store.get(form.store)
    return (store.host or THIS_MACHINE) if store is not None else THIS_MACHINE


def origin_of(sheet: Sheet, form: DiskForm) -> tuple[str, str] | None:
    """Return host and path of the image that a disk comes from, None for none: on the disk's host, or as HOST:PATH."""
    named = form.copy_of or form.base
    if named is None:
        return None
    host, colon, path = named.partition(":")
    return (host, path) if colon and host in sheet.host else (host_of_disk(sheet, form), named)


def host_of_guest(sheet: Sheet, name: str) -> str:
    """Return the host that a guest's root is on, empty for this machine."""
    form = sheet.guest.get(name)
    return (form.host or THIS_MACHINE) if form is not None else THIS_MACHINE


def folder_of(sheet: Sheet, host: str, folder: str) -> str:
    """Return the folder on a host that relative paths start from; `folder` is the sheet's, from the root on."""
    form = sheet.host.get(host)
    return normpath(join(folder, form.folder or "")) if form is not None else folder


def located(sheet: Sheet, folder: str) -> Sheet:
    """Return a sheet in which the paths of what lies on hosts start at the root; `folder` is where the sheet is."""
    if not sheet.host:
        return sheet
    stores = {
        name: replace(form, path=_from(folder_of(sheet, form.host, folder), form.path)) if form.host else form
        for name, form in sheet.store.items()
    }
    guests = {
        name: _located_guest(form, folder_of(sheet, form.host, folder)) if form.host else form
        for name, form in sheet.guest.items()
    }
    disks = {
        name: _located_disk(sheet, form, folder) if form.copy_of or form.base else form
        for name, form in sheet.disk.items()
    }
    return replace(sheet, store=stores, guest=guests, disk=disks)


def _located_guest(form: GuestForm, folder: str) -> GuestForm:
    update: dict[str, Any] = {}
    if isinstance(form.root, RootForm):
        members = tuple(_from(folder, one) for one in form.root.members)
        update["root"] = replace(form.root, image=_from(folder, form.root.image), members=members)
    elif form.root is not None:
        update["root"] = _from(folder, form.root)
    if form.door is not None:
        ways = {name: getattr(form.door, name) for name in part_names(DoorForm)}
        update["door"] = DoorForm(**{name: _from(folder, path) for name, path in ways.items() if path is not None})
    return replace(form, **update) if update else form


def _located_disk(sheet: Sheet, form: DiskForm, folder: str) -> DiskForm:
    found = origin_of(sheet, form)
    if found is None or found[0] == THIS_MACHINE:
        return form
    host, path = found
    there = _from(folder_of(sheet, host, folder), path)
    named = there if host == host_of_disk(sheet, form) else f"{host}:{there}"
    return replace(form, copy_of=named) if form.base is None else replace(form, base=named)


def _from(folder: str, path: str) -> str:
    return path if isabs(path) else join(folder, path)
