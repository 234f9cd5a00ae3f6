"""Pools as they are found on disks, and as a sheet wants them: members, volumes, and what lies on these.

What a pool's text says is one value on both sides, `formats.pools.tree.Pool`. A volume is a disk without a table, whose
one filesystem fills it, so that all that is known of filesystems on disks is known of those on volumes.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Literal

from narvet.ground.findings import Place, pool_place
from narvet.ground.values import Frozen, field

if TYPE_CHECKING:
    from narvet.formats.pools.allot import Kind, Transfer
    from narvet.formats.pools.member import MemberShape
    from narvet.formats.pools.tree import Pool, PoolVolume
    from narvet.ground.findings import Finding
    from narvet.model.estate import Disk

PoolState = Literal["to make", "as asked", "to change", "in the way"]

VOLUME = "volume"
"""What stands for an image's format where a disk is a volume of a pool."""


class MemberPlace(Frozen):
    """Where a member lies: on which disk of the sheet, at which image, in which partition, from which byte.

    `size` is the partition's bytes, which the member may not take all of yet; `shape` is as found, or as first made.
    """

    disk: str
    path: str
    partition: int
    start: int
    size: int
    sector_size: int
    shape: MemberShape


class FoundPool(Frozen):
    """A pool that was found: its newest text, where its members are, by their ids, and what lies on its volumes.

    `stale` is whether any member has another text. Volumes that cannot be read are missing among `volumes`; `not_whole`
    has mirrored ones with copies that cannot be counted on, and why. `is_apart` is whether its members lie on several
    hosts, as where a move of them was cut off. A member on an image that is at no disk's place has the image's place
    for the name of its disk.
    """

    pool: Pool
    places: Mapping[str, MemberPlace]
    volumes: Mapping[str, Disk] = field(default_factory=dict)
    stale: bool = False
    findings: tuple[Finding, ...] = ()
    not_whole: Mapping[str, str] = field(default_factory=dict)
    is_apart: bool = False

    @property
    def missing(self) -> tuple[str, ...]:
        """The names, in the text, of members that are nowhere."""
        return tuple(one.name for one in self.pool.members if one.id not in self.places)


class PlannedVolume(Frozen):
    """A volume of a sheet's pool as it is wanted; `wanted` is what it is as a disk, `found` what it was.

    `old` is the name that it has in the pool now, empty for a new one. `origin` and `name` are as those of disks, so
    that guests use both alike.
    """

    pool: str
    volume: str
    guest: str
    system: str
    kind: Kind
    wanted: Disk
    index: int
    old: str = ""
    found: Disk | None = None
    origin: None = None

    @property
    def name(self) -> str:
        """Its name with that of its pool, as findings have it."""
        return f"{self.pool}.{self.volume}"

    @property
    def place(self) -> Place:
        """Where findings say it is."""
        return pool_place(self.pool, self.volume)


class PlannedPool(Frozen):
    """A pool of a sheet: what it becomes, from what, and which members lie where.

    `members` are those that it will have, by their ids, `leaving` those that it will not have any more. `transfers` are
    the extents that move for that.
    """

    name: str
    guest: str
    becomes: Pool
    before: Pool | None
    members: Mapping[str, MemberPlace]
    volumes: tuple[PlannedVolume, ...]
    leaving: Mapping[str, MemberPlace] = field(default_factory=dict)
    transfers: tuple[Transfer, ...] = ()
    state: PoolState = "to make"

    @property
    def place(self) -> Place:
        """Where findings say it is."""
        return pool_place(self.name)

    def disks_of(self, volume: PoolVolume) -> tuple[str, ...]:
        """Return the disks of the sheet that a volume lies on, in the order of the members."""
        names = {
            part for one in (volume, *self.becomes.inner_volumes(volume)) for s in one.segments for part, _ in s.parts
        }
        ids = [one.id for one in self.becomes.members if one.name in names]
        return tuple(dict.fromkeys(self.members[one].disk for one in ids if one in self.members))
