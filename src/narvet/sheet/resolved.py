"""A sheet with every default settled: types of their own, so that no later code asks "or what?".

What a sheet leaves open is settled by the guest's system (see `plan.resolve`). None is left only where it is an answer:
no table, no filesystem, no mount point, a size that follows from something else. Sizes are bytes.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from fractions import Fraction
from functools import cached_property
from typing import TYPE_CHECKING
from uuid import UUID

from narvet.formats.pools.tree import pool_id
from narvet.ground.ids import derive
from narvet.ground.values import Frozen, field

if TYPE_CHECKING:
    from narvet.formats.filesystems.contract import Purpose
    from narvet.formats.images.contract import Space
    from narvet.formats.pools.allot import Kind
    from narvet.ground.findings import Place
    from narvet.model.plugs import Plug
    from narvet.sheet.contents import SealForm
    from narvet.sheet.machines import GuestForm, StoreForm
    from narvet.sheet.values import PartSize, Right


class ResolvedPartition(Frozen):
    """A partition as asked; `index` is its position in the sheet, from 1.

    `number`, `id` and `uuid` are those that the sheet has, None where they follow from its place and the disk's name.
    `position` is its place among the partitions of the table, from which ids follow; `index` that in the sheet.
    `label` is the filesystem's, and `label_is_chosen` whether the sheet has it; `part_label` is the partition's.
    `usable` is what the guest must be able to fill, None where `size` counts. `pool` is the one that it is a member of.
    """

    index: int
    position: int
    number: int | None
    id: str | None
    uuid: str | None
    label: str
    label_is_chosen: bool
    part_label: str
    size: PartSize
    usable: int | None
    filesystem: str | None
    purpose: Purpose
    at: str | None
    owner: str
    mode: int
    access: tuple[tuple[str, Right], ...]
    attributes: tuple[str, ...]
    needed: bool
    move_files: bool
    mount_options: tuple[str, ...] | None
    unit: int | None
    inode_each: int | None
    journal: int | None
    reserved: Fraction | None
    pool: str | None = None
    seal: SealForm | None = None


class ResolvedVolume(Frozen):
    """A volume of a pool as asked; `was` is the name that its ids follow from, `kind` how it lies on the members."""

    name: str
    was: str | None
    kind: Kind
    content: ResolvedPartition


class ResolvedPool(Frozen):
    """A pool as asked; `extent` is bytes, None where its size decides; `id` is None where it is derived."""

    name: str
    place: Place
    guest: str
    extent: int | None
    id: str | None
    volumes: tuple[ResolvedVolume, ...]


class PoolIds(Frozen):
    """The ids of a pool, its volumes and its members: they follow from an identity and their names."""

    identity: UUID
    pool: str

    @property
    def own(self) -> str:
        """The id of the pool."""
        return self._of()

    def volume(self, name: str) -> str:
        """Return the id of a volume, or of one within it, by its first name."""
        return self._of("volume", name)

    def seal(self, name: str) -> UUID:
        """Return the id of a volume as a sealed one, by its first name."""
        return derive(self.identity, "pool", self.pool, "volume", name, "seal")

    def filesystem(self, name: str) -> UUID:
        """Return the id of the filesystem on a volume, by its first name."""
        return derive(self.identity, "pool", self.pool, "volume", name, "filesystem")

    def _of(self, *what: str) -> str:
        return _pool_id(self.identity, "pool", self.pool, *what)


def _pool_id(identity: UUID, *what: str | int) -> str:
    return pool_id(derive(identity, *what), derive(identity, *what, "rest"))


class ResolvedDisk(Frozen):
    """A disk as asked; `place` is where findings say it is, `was` the name that its ids follow from.

    `size` is None where it follows from the partitions or from the origin. `table` is None for a disk without one;
    `set_aside` is what the guest's system keeps for itself. `origin_path` is the image it comes from, and `is_child`
    whether it stays a child of that. `plug` is how it is plugged in, with no slot or serial where the sheet has none.
    """

    name: str
    was: str | None
    place: Place
    guest: str
    store: str
    size: int | None
    format: str
    space: Space
    block_size: int | None
    pieces: int | None
    packed: bool
    origin_path: str | None
    is_child: bool
    plug: Plug
    table: str | None
    table_id: str | None
    set_aside: int
    align: int
    sector_size: int
    partitions: tuple[ResolvedPartition, ...]
    fixed_ids: Mapping[tuple[str | int, ...], UUID] = field(default_factory=dict)


class DiskIds(Frozen):
    """The ids of one disk and of what lies on it: they follow from an identity and the disk's name.

    Where the sheet has ids of its own, `fixed` has the UUIDs that stand for them, by what they are of.
    """

    identity: UUID
    disk: str
    fixed: Mapping[tuple[str | int, ...], UUID] = field(default_factory=dict)

    @property
    def image(self) -> UUID:
        """The id of the image."""
        return self._of("image")

    @property
    def table(self) -> UUID:
        """The id of the table."""
        return self._of("table")

    @property
    def set_aside(self) -> UUID:
        """The id of the partition that the guest's system keeps for itself."""
        return self._of("aside")

    def partition(self, index: int) -> UUID:
        """Return the id of a partition by its position in the sheet, from 1, which its volume has too."""
        return self._of("partition", index)

    def filesystem(self, index: int) -> UUID:
        """Return the id of the filesystem on a partition."""
        return self._of("partition", index, "filesystem")

    def seal(self, index: int) -> UUID:
        """Return the id of a partition as a sealed volume."""
        return self._of("partition", index, "seal")

    def member(self, index: int) -> str:
        """Return the id of a partition as a member of a pool."""
        return _pool_id(self.identity, "disk", self.disk, "partition", index, "member")

    def _of(self, *what: str | int) -> UUID:
        return self.fixed.get(what) or derive(self.identity, "disk", self.disk, *what)


class ResolvedSheet(Frozen, dict=True, gc=True):
    """A whole sheet, settled; `dated` is seconds since 1970."""

    identity: UUID
    title: str
    dated: int
    stores: Mapping[str, StoreForm]
    guests: Mapping[str, GuestForm]
    disks: Mapping[str, ResolvedDisk]
    pools: Mapping[str, ResolvedPool] = field(default_factory=dict)

    def pool_ids(self, pool: str) -> PoolIds:
        """Return the ids of a pool, by its name."""
        return PoolIds(self.identity, pool)

    def ids(self, disk: str) -> DiskIds:
        """Return the ids of a disk, by its name: they follow from the name that it had first."""
        known = self.disks.get(disk)
        if known is None:
            return DiskIds(self.identity, disk)
        return DiskIds(self.identity, known.was or disk, known.fixed_ids)

    def system_of(self, disk: ResolvedDisk) -> str:
        """Return what the guest of a disk runs."""
        return self.guests[disk.guest].runs

    def of_guest(self, guest: str) -> Iterator[ResolvedDisk]:
        """Yield the disks of a guest."""
        return iter(self._by_guest.get(guest, ()))

    @cached_property
    def _by_guest(self) -> dict[str, list[ResolvedDisk]]:
        found: dict[str, list[ResolvedDisk]] = {}
        for disk in self.disks.values():
            found.setdefault(disk.guest, []).append(disk)
        return found
