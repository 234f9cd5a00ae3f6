"""What a sheet leaves open and the guest's system settles: table, filesystem, owner, mode, what is set aside."""

from __future__ import annotations

from typing import Any

from narvet.ground.units import MIB
from narvet.sheet.form import DiskForm, GuestForm, PartitionForm, Sheet

GPT_SINCE = (5, 2)
"""The first version of Windows that uses data disks with a GPT."""

_SET_ASIDE = 16 * MIB  # what Windows itself sets aside on a disk that it divides
_SET_ASIDE_FROM = 128 * MIB  # on smaller disks it would take too large a share
_OWNERS = {"linux": "0:0", "windows": "SYSTEM"}
_FILESYSTEMS = {"linux": "ext4", "windows": "ntfs"}


def settled(sheet: Sheet) -> Sheet:
    """Return a sheet in which every disk has a table, and every partition a filesystem, an owner and a mode."""
    disks = {name: _disk(form, sheet.guest[form.guest]) for name, form in sheet.disk.items()}
    return sheet.model_copy(update={"disk": disks})


def _disk(form: DiskForm, guest: GuestForm) -> DiskForm:
    old = guest.runs == "windows" and guest.version is not None and guest.version[:2] < GPT_SINCE
    table = form.table or ("mbr" if old else "gpt")
    kept = 0
    if guest.runs == "windows" and table == "gpt" and (form.size is None or form.size >= _SET_ASIDE_FROM):
        kept = _SET_ASIDE
    parts = tuple(_partition(part, guest) for part in form.partition)
    aside = kept if form.set_aside is None else form.set_aside
    return form.model_copy(update={"table": table, "set_aside": aside, "partition": parts})


def _partition(part: PartitionForm, guest: GuestForm) -> PartitionForm:
    settled: dict[str, Any] = {
        "filesystem": part.filesystem or _FILESYSTEMS[guest.runs],
        "owner": part.owner or _OWNERS[guest.runs],
        "mode": 0o755 if part.mode is None else part.mode,
    }
    if guest.runs == "windows" and part.attributes is None:
        settled["attributes"] = () if part.at and part.at.endswith(":") else ("no-letter",)
    return part.model_copy(update=settled)
