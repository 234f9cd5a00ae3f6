"""What `--json` prints, as types: the functions in `facts` return them, and the published schemas are made from them.

Sizes and offsets are bytes, ids are lower-case strings; null stands for what is not there, or is not known.
"""

from __future__ import annotations

import sys
from typing import Any

if sys.version_info >= (3, 12):
    from typing import TypedDict
else:
    from typing_extensions import TypedDict


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
    """A disk of a sheet."""

    name: str
    guest: str
    runs: str
    store: str
    slot: str | None
    ordered: OrderedFacts | None
    plug: PlugFacts
    origin: OriginFacts | None
    state: str


class StoreFacts(TypedDict):
    """A store of a sheet."""

    name: str
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


class DifferenceFacts(TypedDict):
    """Something that is not as asked."""

    where: str
    asked: str
    found: str


class ConfirmFacts(TypedDict):
    """What `confirm --json` prints."""

    agrees: bool
    differences: list[DifferenceFacts]


class WriteFacts(TypedDict):
    """What `write --json` prints: the paths that changed, in order."""

    done: list[str]
    findings: list[FindingFacts]
    dry: bool


class RetireFacts(TypedDict):
    """What `retire --json` prints: the paths that changed, in order."""

    done: list[str]
    dry: bool


class ResizedFacts(TypedDict):
    """What `enlarge --json` and `shrink --json` print."""

    path: str
    size: int
    changes: list[ChangeFacts]
    partitions: list[PartitionFacts]
    findings: list[FindingFacts]
    dry: bool


class RecastFacts(TypedDict):
    """What `recast --json` prints."""

    path: str
    format: str
    space: str
    size: int
    verified: bool
    remarks: list[str]
    dry: bool


class BranchFacts(TypedDict):
    """What `branch --json` prints."""

    path: str
    format: str
    base: str
    dry: bool


class FoldFacts(TypedDict):
    """What `fold --json` prints: the base, and the child that is gone."""

    path: str
    folded: str
    dry: bool


class TieFacts(TypedDict):
    """What `tie --json` prints, with how it is known that the base is the right one."""

    path: str
    base: str
    proof: str
    dry: bool


class ReclaimFacts(TypedDict):
    """What `reclaim --json` prints: the bytes stored, and what was kept whole, with why."""

    path: str
    before: int
    after: int
    kept: list[str]
    dry: bool


class AttachedFacts(TypedDict):
    """What was done with one disk at its guest."""

    disk: str
    guest: str
    did: str
    slot: str
    serial: str
    path: str


class HandWorkFacts(TypedDict):
    """What is to be done by hand at one guest."""

    guest: str
    title: str
    steps: list[str]


class AttachFacts(TypedDict):
    """What `attach --json` and `detach --json` print."""

    done: list[AttachedFacts]
    by_hand: list[HandWorkFacts]
    dry: bool


class WrapFacts(TypedDict):
    """What `wrap --json` and `unwrap --json` print."""

    path: str
    files: list[str]
    dry: bool


class DraftFacts(TypedDict):
    """What `draft --json` prints: the names of what is new."""

    stores: list[str]
    guests: list[str]
    disks: list[str]
    dry: bool


class PictureFacts(TypedDict):
    """What `picture --json` prints: the first file, all of them, and the disks in them."""

    path: str
    paths: list[str]
    disks: list[str]
    dry: bool


class ReportFacts(TypedDict):
    """What `report --json` prints; digests are by the images' paths."""

    path: str
    agrees: bool
    digests: dict[str, str]
    dry: bool


class EventFacts(TypedDict):
    """What `history --json` prints of one thing that was done."""

    when: str | None
    disk: str | None
    guest: str | None
    did: str | None
    touched: str | None
    size: int | None


class DeviceFacts(TypedDict):
    """What `devices --json` prints of one."""

    path: str
    serial: str | None
    model: str | None
    size: int
    sector: int
    rotates: bool
    read_only: bool
    removable: bool
    blank: bool
    holds: str | None
    users: list[str]
    partitions: dict[str, str]


class RuleFacts(TypedDict):
    """What `explain --json` prints of a rule."""

    rule: str
    meaning: str
    way_out: str


class KeyFacts(TypedDict):
    """What `explain --json` prints of a key of a sheet."""

    key: str
    table: str
    meaning: str
    usual: str


class WordFacts(TypedDict):
    """What `explain --json` prints of a word."""

    word: str
    meaning: str


class StandinFacts(TypedDict):
    """What `standin --json` prints once it serves: where, and the folder of its volumes."""

    url: str
    folder: str


SHAPES: dict[str, Any] = {
    "attach": AttachFacts,
    "branch": BranchFacts,
    "confirm": ConfirmFacts,
    "detach": AttachFacts,
    "devices": list[DeviceFacts],
    "draft": DraftFacts,
    "enlarge": ResizedFacts,
    "entries": dict[str, list[str]],
    "explain": list[RuleFacts | KeyFacts | WordFacts],
    "fold": FoldFacts,
    "keys": KeysFacts,
    "lend": LentFacts,
    "look": LookFacts | TakenFacts,
    "history": list[EventFacts],
    "make": MakeFacts,
    "picture": PictureFacts,
    "recast": RecastFacts,
    "reclaim": ReclaimFacts,
    "report": ReportFacts,
    "retire": RetireFacts,
    "review": ReviewFacts,
    "shrink": ResizedFacts,
    "standin": StandinFacts,
    "survey": list[SurveyFacts],
    "tie": TieFacts,
    "unwrap": WrapFacts,
    "wrap": WrapFacts,
    "write": WriteFacts,
}
"""What each command prints with `--json`."""


def json_schema(command: str) -> dict[str, Any]:
    """Return the schema of what a command prints with `--json` (JSON Schema 2020-12); more keys may be added."""
    from pydantic import TypeAdapter

    made = TypeAdapter(SHAPES[command]).json_schema()
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": f"narvet {command} --json", **made}
