"""What the commands print for programs that confirm, change, list and explain."""

from __future__ import annotations

from narvet.report.shapes.plans import ChangeFacts, FindingFacts, PartitionFacts
from narvet.report.shapes.typed import TypedDict


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
