"""Stores, guests, disks and what lies on them, as frozen values: the same types for what is wanted and what is found.

What is wanted comes from a sheet (`plan`), what is found from images, stores and roots (`observe`). As both are of one
type, their difference is data (`plan.diff`). Sizes and offsets are bytes.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import Loss, ReadsLittle
from narvet.formats.images.trust import NOTHING_SAID, Trust
from narvet.formats.tables import table_format
from narvet.formats.tables.contract import PartitionEntry, attribute_names
from narvet.ground.offers import offers
from narvet.ground.values import Frozen, field, replace

if TYPE_CHECKING:
    from narvet.formats.filesystems.contract import Capacity, FilesystemState, NewFilesystem, Resizing
    from narvet.formats.pools.member import MemberState
    from narvet.formats.seals.header import Seal
    from narvet.ground.findings import Finding
    from narvet.model.pools import FoundPool
    from narvet.services.words import Machine, Offer

DEFAULT_SECTOR_SIZE = 512
"""What a hypervisor gives a disk whose image does not say otherwise."""

_SEAL_HEADERS = 1 << 20  # that headers and keys of a sealed partition store at most

NO_TABLE = "none"
"""What a disk without a partition table has in place of the table's name."""


class Image(Frozen):
    """The file, or files, that a disk is kept in.

    `stored` is the bytes it takes of its store; of a wanted one the most that a fresh one takes. `sector_size` is 0
    where nothing tells it, `block_size`, the unit that a thin image grows by, where there is none. `base` is the path
    of the image that this one keeps only the differences from. `attached` is the guest that a service's volume is, or
    is to be, attached to, and `ordered` where it comes from. `host` is the one that it was found on, empty for this
    machine.
    """

    path: str
    format: str
    space: str
    size: int
    sector_size: int = 0
    stored: int = 0
    block_size: int = 0
    base: str | None = None
    attached: str = ""
    ordered: str = ""
    host: str = ""

    @property
    def place(self) -> str:
        """Where it lies, with its host if that is another machine."""
        return f"{self.host}:{self.path}" if self.host else self.path


class Mount(Frozen):
    """How a guest is to use a partition. `index` is the partition's position in the sheet, from 1.

    `owner` and `access` are as the sheet has them, empty where nothing keeps them; `uid`, `gid` and `mode` are those of
    the mount point. `volume` is what a guest names the volume by, empty where its system has no such name.
    """

    index: int
    at: str | None = None
    owner: str = ""
    uid: int = 0
    gid: int = 0
    mode: int = 0
    access: tuple[tuple[str, str], ...] = ()
    options: tuple[str, ...] = ()
    needed: bool = False
    volume: str = ""


class Partition(Frozen):
    """A partition with what lies on it; number 0 fills a disk without a table.

    `new` is the filesystem to be written to it, None where none is. Where there is one already, `there` is what was
    found, and `resizing` how it gets another size, if it does. `mount` is None where no sheet says how a guest uses it.
    `may_move` is whether files on it may be moved so that it can become smaller. `member` is set on a member of a pool,
    which is the sheet's `pool` of that name where one is named. With a `seal` it is sealed, and its filesystem inside:
    where no passphrase opens that, it has none. `cost` is what trying a passphrase is to cost: bytes of memory, passes.
    `key_file` is the file in its guest's root that opens it, if one does.
    """

    entry: PartitionEntry
    filesystem: FilesystemState | None = None
    new: NewFilesystem | None = None
    mount: Mount | None = None
    there: FilesystemState | None = None
    resizing: Resizing | None = None
    may_move: bool = False
    pool: str = ""
    member: MemberState | None = None
    seal: Seal | None = None
    cost: tuple[int | None, int | None] = (None, None)
    key_file: str = ""

    @property
    def inside(self) -> int:
        """Bytes that its filesystem can take: all of its own, but for the header of one that is sealed."""
        if self.seal is None:
            return self.size
        return max(self.size - self.seal.offset, 0) // self.seal.sector_size * self.seal.sector_size

    @property
    def inner(self) -> Partition:
        """The same as if what is inside it were all of it."""
        return replace(self, entry=replace(self.entry, size=self.inside)) if self.seal else self

    @property
    def writes(self) -> int:
        """The most bytes that making its filesystem, or giving it another size, stores.

        What is sealed is stored in full where the filesystem keeps something, also where that is zeros.
        """
        if self.resizing is not None and self.there is not None:
            before, after = (one.size - one.free for one in (self.there, self.resizing.state))
            return self.resizing.footprint() + (max(after - before, 0) if self.seal else 0)
        if self.new is None or self.there is not None:
            return 0
        if self.seal is None or self.filesystem is None:
            return self.new.footprint()
        kind, capacity = filesystem(self.filesystem.kind), self.new.capacity()
        if offers(kind, ReadsLittle):
            read = sum(loss.size for loss in capacity.losses if loss.what not in kind.unread)
            return read + self.new.footprint() + _SEAL_HEADERS
        return self.inside - capacity.free + _SEAL_HEADERS

    @property
    def is_locked(self) -> bool:
        """Whether it is sealed, and no passphrase opened it."""
        return self.seal is not None and self.filesystem is None

    @property
    def capacity(self) -> Capacity | None:
        """What the guest will show of the filesystem: one that others made or that grew, as it is with its files."""
        shows = self._shown
        if shows is None or self.seal is None:
            return shows
        header = Loss("header and keys of the sealing", self.size - self.inside)
        return replace(shows, losses=(*shows.losses, header))

    @property
    def _shown(self) -> Capacity | None:
        if self.there is not None and self.filesystem is not None:
            alike = self.new is not None and self.filesystem.shape == self.new.shape and self.resizing is None
            shows = self.new.capacity() if self.new and alike else None
            if shows is None or shows.total != self.there.total:  # of the same shape, but it grew to that
                return self.filesystem.capacity(self.inside)
            return shows
        return self.new.capacity() if self.new else None

    @property
    def number(self) -> int:
        """The number that guests give it."""
        return self.entry.number

    @property
    def start(self) -> int:
        """Its first byte."""
        return self.entry.start

    @property
    def size(self) -> int:
        """Its bytes."""
        return self.entry.size

    @property
    def end(self) -> int:
        """The first byte after it."""
        return self.entry.end

    @property
    def at(self) -> str | None:
        """Where its guest has it, if a sheet says so."""
        return self.mount.at if self.mount else None


class FoundSystem(Frozen):
    """A guest's system that lives on a partition of a disk, and what it mounts by its own entries.

    `runs` is the system as a sheet names it, `name` what it calls itself, `version` its kernel's or its own. `mounts`
    are pairs: what is mounted, by a tag and a value in one form (`UUID=…`), and where.
    """

    partition: int
    runs: str
    name: str
    version: str = ""
    mounts: tuple[tuple[str, str], ...] = ()


class Disk(Frozen):
    """A disk: its image, its table and its partitions. `table` is the table's name, `NO_TABLE` without one.

    `systems` are those that were found to live on it.
    """

    image: Image
    table: str = NO_TABLE
    table_id: str = ""
    partitions: tuple[Partition, ...] = ()
    findings: tuple[Finding, ...] = ()
    systems: tuple[FoundSystem, ...] = ()

    @property
    def is_sealed(self) -> bool:
        """Whether anything on it is."""
        return any(part.seal for part in self.partitions)

    @property
    def path(self) -> str:
        """Where its image lies."""
        return self.image.path

    @property
    def size(self) -> int:
        """Its bytes."""
        return self.image.size

    @property
    def table_name(self) -> str:
        """The table as it is spoken of."""
        return "no table" if self.table == NO_TABLE else self.table.upper()

    @property
    def content_ids(self) -> tuple[str, ...]:
        """The ids of its filesystems, of what is sealed, and of what it is in pools, in order."""
        found = [""]
        for part in self.partitions:
            found.append(part.seal.uuid if part.seal else "")
            found.append(part.filesystem.uuid if part.filesystem else part.member.shape.id if part.member else "")
        return tuple(filter(None, found))

    def attributes(self, part: Partition) -> tuple[str, ...]:
        """Return the names of the flags that the table gives one of its partitions."""
        if self.table == NO_TABLE:
            return ()
        return attribute_names(table_format(self.table).attributes, part.entry.attributes)

    def is_set_aside(self, part: Partition) -> bool:
        """Return whether a guest's system keeps a partition for itself."""
        return self.table != NO_TABLE and bool(part.entry.type) and part.entry.type == table_format(self.table).aside


class MountEntry(Frozen):
    """A line of fstab: the six fields of fstab(5), unescaped; `line` counts from 1 where it was read.

    `ours` is whether Narvet wrote it just so, by the ledger.
    """

    spec: str
    file: str
    vfstype: str
    mntops: str
    freq: int = 0
    passno: int = 0
    line: int = 0
    ours: bool = False


class UnlockEntry(Frozen):
    """A line of crypttab: what is unlocked, under which name, by which key; `line` counts from 1 where it was read.

    `ours` is whether Narvet wrote it just so, by the ledger.
    """

    name: str
    source: str
    key: str
    options: str = ""
    line: int = 0
    ours: bool = False


class KeyFile(Frozen):
    """A key file in a guest's root, by the digest of what it holds; `problem` says why it cannot be made or used.

    `is_key` is whether it looks like one of Narvet's, `owner_can_be_set` whether this user may give it any owner. Of
    one that is wanted, `uuid` is the sealed volume's id, `digest` is empty where its key is still to be made, and
    `is_known` is whether this call can make it.
    """

    exists: bool = True
    digest: bytes = b""
    is_key: bool = False
    uid: int = 0
    gid: int = 0
    mode: int = 0o600
    problem: str = ""
    owner_can_be_set: bool = True
    uuid: str = ""
    is_known: bool = True


class RegistryValue(Frozen):
    """A binary value of the registry key MountedDevices of a Windows guest."""

    name: str
    data: bytes


class MountPoint(Frozen):
    """A mount point in a guest's root, by its owner and mode; `problem` says why it cannot be made or used.

    `owner_can_be_set` is whether this user may give it any owner.
    """

    exists: bool = True
    empty: bool = True
    problem: str = ""
    uid: int = 0
    gid: int = 0
    mode: int = 0
    owner_can_be_set: bool = True

    @property
    def ownership(self) -> tuple[int, int, int]:
        """Owner, group and mode."""
        return self.uid, self.gid, self.mode


class Root(Frozen):
    """Where a guest's root lies: a folder of this machine, or a filesystem inside an image.

    `partition` is its number in the image, 0 for a disk without a table, or the name of a volume with that of its pool;
    None for a folder or where what it holds tells. `members` are images that the pool's other members lie on. `trust`
    is what the sheet says of the images, `moment` the time of changes in them, in seconds since 1970.
    """

    path: str
    partition: int | str | None = None
    trust: Trust = NOTHING_SAID
    moment: int = 0
    members: tuple[str, ...] = ()

    def on(self, partition: int | str) -> Root:
        """Return the same root with the partition or volume that it was found on."""
        return replace(self, partition=partition)

    def recorded(self, runs: str) -> dict[str, object]:
        """Return it as a ledger keeps it, with the system that it is the root of."""
        kind = next(iter(self.trust.formats.values()), None)
        more = {"members": list(self.members)} if self.members else {}
        return {"root": self.path, "partition": self.partition, "format": kind, "runs": runs, **more}

    def shown(self, inside: str = "") -> str:
        """Return the root, or a path inside it, as people see it."""
        start = self.path if self.partition is None else f"{self.path}:{self.partition}"
        return f"{start.rstrip('/')}/{inside.lstrip('/')}" if inside else start


class Guest(Frozen):
    """A guest, as far as its disks concern it: its accounts, and what makes their mounts persist.

    `name` is its own in the sheet, empty for one outside it. `entries_path` is the file or folder that its entries go
    into, None where the sheet names none. `users` has name to uid and gid, `groups` name to gid. `entries` are lines of
    fstab, `values` those of the registry, None where there is no text of Narvet's; `surplus` are entries found that are
    to go; `unlocks` and `unlocks_left` are those of crypttab, `key_files` and `key_files_left` the files that they
    name. `problem` says why what lies there is none. `findings` tell why a root cannot be used. `root` is where it
    lies, `unclean` why nothing in it may be changed, `system` what it calls itself, `version` its own or its oldest
    kernel's. `new_disks` is whether a Windows keeps new disks "online" or "offline", empty where that is not known;
    `asks_online` whether the sheet asks for the former. `home` is the letter of the volume that its root lies on,
    `links` has the folders there that other volumes are mounted in, with the names of those. `outdated` is a registry
    text of Narvet's that lies there still, although the root is at hand.
    """

    name: str = ""
    entries_path: str | None = None
    users: Mapping[str, tuple[int, int]] = field(default_factory=dict)
    groups: Mapping[str, int] = field(default_factory=dict)
    entries: tuple[MountEntry, ...] = ()
    mount_points: Mapping[str, MountPoint] = field(default_factory=dict)
    values: tuple[RegistryValue, ...] | None = None
    surplus: tuple[MountEntry, ...] = ()
    problem: str = ""
    findings: tuple[Finding, ...] = ()
    root: Root | None = None
    unclean: str = ""
    system: str = ""
    version: tuple[int, ...] = ()
    new_disks: str = ""
    asks_online: bool = False
    home: str = ""
    links: Mapping[str, str] = field(default_factory=dict)
    outdated: str = ""
    unlocks: tuple[UnlockEntry, ...] = ()
    unlocks_left: tuple[UnlockEntry, ...] = ()
    key_files: Mapping[str, KeyFile] = field(default_factory=dict)
    key_files_left: tuple[str, ...] = ()

    @property
    def is_readable(self) -> bool:
        """Whether there is a place for its entries, and it can be read."""
        return self.entries_path is not None and not self.findings and not self.problem


class Store(Frozen):
    """A store's folder at `path`; `free` and `total` are for an ordinary user, `largest_file` is None where unknown.

    Stores with the same `device` lie on one filesystem and share what is free there. Where a service hands volumes out,
    `offer` is what it has, `machines` are its guests, and `free` and `total` are its quota; a `problem` is why not.
    `ordered` are the volumes that it has already of the sheet, with their disks, by the keys of their orders. `host` is
    the one that it lies on, empty for this machine.
    """

    path: str
    exists: bool = True
    writable: bool = True
    free: int = 0
    total: int = 0
    filesystem: str = ""
    largest_file: int | None = None
    device: int = 0
    offer: Offer | None = None
    machines: tuple[Machine, ...] = ()
    problem: str = ""
    ordered: Mapping[str, tuple[str, str]] = field(default_factory=dict)
    host: str = ""


class Estate(Frozen):
    """Everything that a sheet is about, by its names there; of what is found, only what exists.

    `pools` are those of the sheet, by their names there; of what is found, further ones have their ids as names.
    `strays` are the images in the stores, and where the ledger has some, that no disk of the sheet is kept in.
    """

    disks: Mapping[str, Disk] = field(default_factory=dict)
    guests: Mapping[str, Guest] = field(default_factory=dict)
    stores: Mapping[str, Store] = field(default_factory=dict)
    strays: tuple[Disk, ...] = ()
    pools: Mapping[str, FoundPool] = field(default_factory=dict)
