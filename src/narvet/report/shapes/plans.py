"""What `review` and `make` print for programs: disks, pools, stores and entries as a sheet asks for them."""

from __future__ import annotations

from narvet.report.shapes.typed import TypedDict


class FindingFacts(TypedDict):
    """A finding."""

    rule: str
    level: str
    where: str
    message: str
    remedy: str


class RatesFacts(TypedDict):
    """Operations and bytes a second."""

    operations: int | None
    bytes: int | None


class PlugFacts(TypedDict):
    """How a disk is plugged in."""

    serial: str
    guest_may_run: bool
    plugged_into: str | None
    read_only: bool
    shared: bool
    hold: str
    ceiling: RatesFacts
    floor: RatesFacts
    flash: bool
    give_back: bool


class OriginFacts(TypedDict):
    """What a disk starts from."""

    how: str
    path: str


class ShowsFacts(TypedDict):
    """What statvfs gives of the fresh mount: f_blocks, f_bfree and f_bavail, each times f_frsize."""

    total: int
    free: int
    available: int


class LossFacts(TypedDict):
    """Bytes of a partition that nobody can fill, and what they are."""

    what: str
    size: int


class EntryFacts(TypedDict):
    """A partition as its table has it."""

    number: int
    label: str
    start: int
    size: int
    type: str | None
    id: str | None
    attributes: list[str]


class PartitionFacts(EntryFacts):
    """A partition as it is asked for; shows, its losses and nothing else add up to its size."""

    filesystem: str | None
    uuid: str | None
    at: str | None
    volume: str | None
    sealed: str | None
    shows: ShowsFacts | None
    losses: list[LossFacts]


class ImageFacts(TypedDict):
    """An image as it is asked for."""

    path: str
    format: str
    space: str
    size: int
    sector: int


class WantedFacts(ImageFacts):
    """A disk as it is asked for."""

    table: str
    table_id: str | None
    stores_now: int
    stored: int
    partitions: list[PartitionFacts]


OrderedFacts = TypedDict("OrderedFacts", {"service": str, "zone": str, "class": str, "operations": int})
"""A volume that a service makes, and the reads and writes a second that it is to give."""


class DiskFacts(WantedFacts):
    """A disk of a sheet; its host is null where that is this machine."""

    name: str
    guest: str
    runs: str
    store: str
    host: str | None
    slot: str | None
    ordered: OrderedFacts | None
    plug: PlugFacts
    origin: OriginFacts | None
    state: str


class StoreFacts(TypedDict):
    """A store of a sheet; its host is null where that is this machine."""

    name: str
    host: str | None
    path: str
    room: int
    kept: int
    promised: int
    present: int
    left: int


class ChangeFacts(TypedDict):
    """Something that becomes something else; sizes are numbers."""

    where: str
    what: str
    was: int | str
    becomes: int | str


class PluggedFacts(TypedDict):
    """A disk that a door shows."""

    path: str | None
    slot: str
    serial: str | None


class DoorFacts(TypedDict):
    """What is seen of a guest through its door."""

    kind: str
    at: str
    open: bool
    runs: bool
    plugged: list[PluggedFacts]


class MemberFacts(TypedDict):
    """A member of a pool; `usable` is what its extents come to."""

    id: str
    disk: str
    path: str
    partition: int
    size: int
    usable: int


class VolumeFacts(TypedDict):
    """A volume of a pool as it is asked for; shows and its losses add up to its size."""

    name: str
    id: str
    size: int
    spread: str | None
    over: int
    disks: list[str]
    sealed: str | None
    filesystem: str | None
    uuid: str | None
    label: str
    at: str | None
    shows: ShowsFacts | None
    losses: list[LossFacts]


class PoolFacts(TypedDict):
    """A pool of a sheet."""

    name: str
    guest: str
    state: str
    id: str
    extent: int
    free: int
    members: list[MemberFacts]
    volumes: list[VolumeFacts]


class ReviewFacts(TypedDict):
    """What `review --json` prints."""

    title: str
    mark: str
    disks: list[DiskFacts]
    pools: list[PoolFacts]
    stores: list[StoreFacts]
    changes: list[ChangeFacts]
    entries: dict[str, list[str]]
    unlocks: dict[str, list[str]]
    doors: dict[str, DoorFacts]
    findings: list[FindingFacts]


class MakeFacts(TypedDict):
    """What `make --json` prints."""

    disk: WantedFacts
    findings: list[FindingFacts]
    dry: bool
