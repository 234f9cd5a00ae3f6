"""A partition as a sheet asks for it: owner, label and the wishes for its filesystem, checked against the guest."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING
from uuid import UUID

from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import OWN_KEYS, Filesystem, Folder, Wishes
from narvet.ground.findings import Finding, Place
from narvet.ground.rules import filesystems as rules
from narvet.ground.values import Frozen, replace
from narvet.guests import guest_system
from narvet.guests.contract import OwnerAsked, Ownership
from narvet.model.estate import Guest
from narvet.sheet.machines import StripeForm
from narvet.sheet.resolved import DiskIds, ResolvedDisk, ResolvedPartition

if TYPE_CHECKING:
    from narvet.services.words import VolumeClass


class Site(Frozen):
    """Where a disk is planned: the path of its image, the guest that will use it and what that runs, and its ids.

    `dated` is the time, in seconds since 1970, that is written into it. `stripe` and `flash` are what is known of the
    storage below. `offered` is the class of volumes whose sizes the disk must have, where a service makes it.
    """

    path: str
    system: str
    guest: Guest
    ids: DiskIds
    dated: int
    stripe: StripeForm | None = None
    flash: bool = False
    offered: VolumeClass | None = None


class PartitionRequest(Frozen):
    """A partition as asked, with its filesystem, None for none, whom it belongs to, and what is wished of it."""

    asked: ResolvedPartition
    kind: Filesystem | None
    owner: Ownership
    wishes: Wishes


def request_partition(
    disk: ResolvedDisk, asked: ResolvedPartition, site: Site, folders: tuple[Folder, ...]
) -> tuple[PartitionRequest, tuple[Finding, ...]]:
    """Return a partition as asked, and what is wrong with it."""
    stripe = site.stripe
    below = Below(disk.sector_size, stripe.chunk if stripe else 0, stripe.disks if stripe else 1, folders)
    place, uuid = disk.place.part(asked.index), site.ids.filesystem(asked.position)
    return request_content(asked, place, site, uuid, below)


class Below(Frozen):
    """What a filesystem is made on: bytes of a sector, and of what lies on one device before the next one's turn.

    `folders` are those that volumes are mounted in.
    """

    sector_size: int
    chunk: int = 0
    devices: int = 1
    folders: tuple[Folder, ...] = ()


def request_content(
    asked: ResolvedPartition, place: Place, site: Site, uuid: UUID, below: Below
) -> tuple[PartitionRequest, tuple[Finding, ...]]:
    """Return what is to lie on a partition or volume, with a filesystem of this id, and what is wrong with it."""
    kind = filesystem(asked.filesystem) if asked.filesystem else None
    system = guest_system(site.system)
    owner, found = system.ownership(OwnerAsked(asked, kind, site.guest, place))
    label = asked.label
    if kind is not None:
        label, said = _stored_label(kind, asked, place.key("label"))
        found += (*said, *_key_checks(kind, asked, below.sector_size, place))
        if asked.unit is not None and asked.unit not in kind.units(below.sector_size):
            asked = replace(asked, unit=None)
    wishes = Wishes(
        uuid=uuid,
        label=label,
        purpose=asked.purpose,
        sector_size=below.sector_size,
        uid=owner.uid,
        gid=owner.gid,
        mode=asked.mode,
        made=site.dated,
        unit=asked.unit,
        inode_each=asked.inode_each,
        journal=asked.journal,
        reserved=asked.reserved,
        chunk=below.chunk,
        stripe=below.chunk * below.devices,
        owner_sid=owner.owner_sid,
        access=owner.access,
        folders=below.folders,
    )
    return PartitionRequest(asked, kind, owner, wishes), found


def _stored_label(kind: Filesystem, asked: ResolvedPartition, place: Place) -> tuple[str, tuple[Finding, ...]]:
    """Return the label as the filesystem stores it; one that nobody chose is made to fit."""
    stored = kind.stored_label(asked.label)
    if stored is None and not asked.label_is_chosen:
        stored = kind.stored_label("".join(sign if sign.isascii() and sign.isalnum() else "-" for sign in asked.label))
    if stored is None:
        return "", (rules.label_not_possible.error(place, asked.label, kind.name),)
    if asked.label_is_chosen:
        length = kind.label_length(stored)
        if length > kind.label_limit:
            return stored, (rules.label_too_long.error(place, asked.label, kind.name, length, kind.label_limit),)
        return stored, ()
    while kind.label_length(stored) > kind.label_limit:
        stored = stored[:-1]
    return stored, ()


_NOTHING = dict.fromkeys(("block", "inode_each", "journal", "reserved"))


def _key_checks(kind: Filesystem, asked: ResolvedPartition, sector_size: int, place: Place) -> Iterator[Finding]:
    """Yield the keys that have no effect on this filesystem, and an allocation unit it does not have."""
    given = {"block": asked.unit, "inode_each": asked.inode_each, "journal": asked.journal, "reserved": asked.reserved}
    if given == _NOTHING:
        return
    known = kind.options.keys()
    for key in OWN_KEYS.values():
        if given[key] is not None and key not in known:
            yield rules.key_without_effect.error(place.key(key), key, kind.name)
    units = kind.units(sector_size)
    if asked.unit is not None and "block" in known and asked.unit not in units:
        yield rules.unit_not_possible.error(place.key("block"), kind.name, asked.unit, units)
