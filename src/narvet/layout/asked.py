"""A partition as a sheet asks for it: owner, label and the options of its filesystem, checked against the guest."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from narvet.filesystems import filesystem
from narvet.filesystems.contract import Filesystem, Folder, Options
from narvet.findings import Finding
from narvet.identity import derive
from narvet.layout.facts import RootFacts
from narvet.sheet.model import DiskForm, PartitionForm, Sheet
from narvet.sids import WELL_KNOWN, sid_of
from narvet.units import show_binary

_LARGEST_ID = (1 << 32) - 2  # the largest user or group number; the next means "no one"


@dataclass(frozen=True)
class Asked:
    """A partition as asked, with what the sheet leaves to defaults and to its guest filled in."""

    number: int
    form: PartitionForm
    label: str
    filesystem_label: str
    uid: int
    gid: int
    options: Options


def ask(
    sheet: Sheet,
    disk: str,
    number: int,
    form: DiskForm,
    root: RootFacts,
    folders: tuple[Folder, ...],
    found: list[Finding],
) -> Asked:
    """Return a partition as asked; what is wrong with it is added to `found`."""
    part = form.partition[number - 1]
    where = f"disk.{disk}.partition {number}"
    owner, owner_sid, access = (0, 0), "", tuple[tuple[str, str], ...]()
    if sheet.guest[form.guest].runs == "linux":
        owner = _owner(part.owner or "", root, form.guest, f"{where}.owner", found)
    elif part.filesystem == "ntfs":
        owner_sid = _account(part.owner or "", f"{where}.owner", found)
        access = tuple((_account(name, f"{where}.access", found), right) for name, right in part.access.items())
    label = part.label or (disk if len(form.partition) == 1 else f"{disk}-{number}")
    fs_label = label
    if part.filesystem != "none":
        kind = filesystem(part.filesystem or "")
        fs_label = _filesystem_label(kind, label, found, f"{where}.label", chosen=part.label is not None)
        wrong = list(_key_checks(kind, part, form.sector, where))
        found += wrong
        if any(finding.where.endswith(".block") for finding in wrong):
            part = part.model_copy(update={"block": None})
    uid, gid = owner
    stripe = sheet.store[form.store].stripe
    options = Options(
        uuid=derive(sheet.identity, "disk", disk, "partition", number, "filesystem"),
        label=fs_label,
        purpose=part.purpose,
        sector=form.sector,
        uid=uid,
        gid=gid,
        mode=part.mode or 0,
        made=sheet.dated,
        block=part.block,
        inode_each=part.inode_each,
        journal=part.journal,
        reserved=part.reserved,
        chunk=stripe.chunk if stripe else 0,
        stripe=stripe.chunk * stripe.disks if stripe else 0,
        owner_sid=owner_sid,
        access=access,
        folders=folders,
    )
    return Asked(number, part, label, fs_label, uid, gid, options)


def _filesystem_label(kind: Filesystem[Any], label: str, found: list[Finding], where: str, *, chosen: bool) -> str:
    """Return the label as the filesystem stores it; one that nobody chose is made to fit."""
    stored = kind.stored_label(label)
    if stored is None and not chosen:
        stored = kind.stored_label("".join(sign if sign.isascii() and sign.isalnum() else "-" for sign in label))
    if stored is None:
        found.append(
            Finding(
                "label-not-possible", "error", where, f'"{label}" has characters that {kind.name} cannot store',
                "use letters and digits",
            )
        )  # fmt: skip
        return ""
    if not chosen:
        while kind.label_length(stored) > kind.label_limit:
            stored = stored[:-1]
    elif kind.label_length(stored) > kind.label_limit:
        found.append(label_too_long(where, label, kind.name, kind.label_length(stored), kind.label_limit))
    return stored


def _key_checks(kind: Filesystem[Any], part: PartitionForm, sector: int, where: str) -> Iterator[Finding]:
    """Yield the keys that have no effect on this filesystem, and an allocation unit it does not have."""
    for key in ("block", "inode_each", "journal", "reserved"):
        if getattr(part, key) is not None and key not in kind.keys:
            yield Finding(
                "key-without-effect", "error", f"{where}.{key}", f"{kind.name} has no {key} to set", f"leave {key} out"
            )
    units = kind.units(sector)
    if part.block is not None and "block" in kind.keys and part.block not in units:
        known = ", ".join(show_binary(unit) for unit in units)
        yield Finding(
            "key-without-effect", "error", f"{where}.block",
            f"{kind.name} cannot have allocation units of {show_binary(part.block)}; it can have {known}",
            "choose one of those, or leave block out",
        )  # fmt: skip


def _owner(owner: str, root: RootFacts, guest: str, where: str, found: list[Finding]) -> tuple[int, int]:
    """Return uid and gid of an owner; one that a guest does not have has a finding, and is left to the superuser."""
    resolved = resolve_owner(owner, root)
    if resolved is None:
        found.append(
            Finding(
                "owner-unknown", "error", where,
                f'"{owner}" is not a user and group of guest {guest}'
                + ("" if root.users else ", whose users are not known without its root"),
                'correct the name, make the account in the guest first, or give numbers, such as "1200:1200"',
            )
        )  # fmt: skip
    return resolved or (0, 0)


def _account(name: str, where: str, found: list[Finding]) -> str:
    """Return the SID of a Windows account; one that cannot be told from its name has a finding."""
    sid = sid_of(name)
    if sid is None:
        found.append(
            Finding(
                "owner-unknown", "error", where,
                f'"{name}" is not a name that means the same on every Windows machine',
                'give its SID ("S-1-5-21-1-2-3-1001"), a service ("NT SERVICE\\name"), or a name such as "Users"',
            )
        )  # fmt: skip
    return sid or WELL_KNOWN["SYSTEM"]


def resolve_owner(owner: str, root: RootFacts) -> tuple[int, int] | None:
    """Return uid and gid of "user" or "user:group"; a user alone brings the group of its account, or its own number."""
    user, _, group = owner.partition(":")
    if user.isdigit():
        uid, own_group = int(user), int(user)
    elif user in root.users:
        uid, own_group = root.users[user]
    else:
        return None
    gid = own_group if not group else int(group) if group.isdigit() else root.groups.get(group)
    if gid is None or max(uid, gid) > _LARGEST_ID:
        return None
    return uid, gid


def label_too_long(where: str, label: str, what: str, length: int, limit: int) -> Finding:
    """Return the finding of a label that takes `length` where `limit` is stored."""
    return Finding(
        "label-too-long", "error", where, f'"{label}" takes {length}; {what} stores labels of at most {limit}',
        "choose a shorter label",
    )  # fmt: skip
