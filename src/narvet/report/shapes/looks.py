"""What `survey`, `keys`, `lend` and `look` print for programs: what is on images, devices and volumes."""

from __future__ import annotations

from narvet.report.shapes.plans import EntryFacts, FindingFacts
from narvet.report.shapes.typed import TypedDict


class LinkFacts(TypedDict):
    """A folder that leads to another volume."""

    path: str
    target: str


class InsideFacts(TypedDict):
    """A filesystem that was found."""

    kind: str
    uuid: str
    label: str
    size: int
    free: int
    features: list[str]
    rights: str | None
    links: list[LinkFacts]


class FoundMemberFacts(TypedDict):
    """What a partition is in a pool, none yet where that is null."""

    id: str
    pool: str | None
    pool_id: str | None


class KeySlotFacts(TypedDict):
    """A key of a sealed volume: by what it is made, what trying it costs, whether it is that of a key file."""

    key: int
    made_by: str
    memory: int | None
    passes: int
    key_file: bool


class KeysFacts(TypedDict):
    """What `keys --json` prints."""

    path: str
    place: str
    uuid: str
    version: int
    damaged: str | None
    keys: list[KeySlotFacts]
    did: str | None
    backup: str | None
    dry: bool


class LentFacts(TypedDict):
    """A line that `lend --json` prints: what a client did, and what it has done so far; counts are bytes."""

    what: str
    client: int
    address: str
    disk: str | None
    sealed: bool
    read: int
    written: int
    requests: int
    why: str | None
    fault: str | None


class SealFacts(TypedDict):
    """What is known of a sealed partition; `keys` are the slots in use, `open` whether a passphrase opened it."""

    uuid: str
    version: int
    offset: int
    sector: int
    keys: list[int]
    open: bool


class FoundPartitionFacts(EntryFacts):
    """A partition that was found."""

    filesystem: InsideFacts | None
    member: FoundMemberFacts | None
    sealed: SealFacts | None


class MountFacts(TypedDict):
    """What a guest's system mounts, and where."""

    source: str
    at: str


class SystemFacts(TypedDict):
    """A guest's system that lives on a partition."""

    partition: int
    runs: str
    name: str
    version: str | None
    mounts: list[MountFacts]


class UsedFacts(TypedDict):
    """What a partition is to a guest's system: where it is mounted, by the entries of which system on which image."""

    partition: int
    at: str
    system: str
    image: str


class FoundVolumeFacts(TypedDict):
    """A volume of a pool that was found; `read` is whether what lies on it could be looked at."""

    name: str
    id: str
    size: int
    spread: str | None
    read: bool
    filesystem: InsideFacts | None


class FoundPoolFacts(TypedDict):
    """A pool that was found: its members by their ids, with their images; `missing` are the names of others."""

    name: str
    id: str
    text: int
    extent: int
    free: int
    members: dict[str, str]
    missing: list[str]
    volumes: list[FoundVolumeFacts]
    findings: list[FindingFacts]


class SurveyFacts(TypedDict):
    """What `survey --json` prints of one image or device."""

    path: str
    format: str
    space: str
    size: int
    sector: int | None
    block: int | None
    allocated: int
    stored: int
    base: str | None
    table: str
    table_id: str | None
    partitions: list[FoundPartitionFacts]
    systems: list[SystemFacts]
    used: list[UsedFacts]
    pools: list[FoundPoolFacts]
    findings: list[FindingFacts]


class NamedFacts(TypedDict):
    """A file, folder or something else inside a filesystem; times are in UTC."""

    name: str
    kind: str
    size: int | None
    mode: str | None
    uid: int | None
    gid: int | None
    changed: str | None
    target: str | None
    links: int
    note: str | None


class LookFacts(NamedFacts):
    """What `look --json` prints; `text` is a small file's, `entries` are a folder's."""

    path: str
    partition: int
    volume: str | None
    filesystem: str
    label: str
    inside: str
    entries: list[NamedFacts] | None
    text: str | None


class TakenFacts(TypedDict):
    """What `look --out --json` prints."""

    path: str
    partition: int
    volume: str | None
    inside: str
    to: str
    size: int
    dry: bool
