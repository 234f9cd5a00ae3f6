"""Facts for programs: the JSON objects behind `--json`. Sizes and offsets are bytes, ids are lower-case strings."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from narvet.filesystems.contract import FilesystemFacts
from narvet.findings import Finding
from narvet.guests.fstab import fstab_line
from narvet.guests.registry import value_line
from narvet.layout.compare import Difference
from narvet.layout.facts import PartitionFound, Survey
from narvet.layout.model import LaidDisk, LaidPartition, LaidStore, Layout
from narvet.tables import table_format
from narvet.tables.contract import attribute_names

if TYPE_CHECKING:
    from narvet.work.steps import Step


def review_facts(layout: Layout) -> dict[str, Any]:
    """Return what `review --json` prints."""
    return {
        "title": layout.title,
        "disks": [_disk(disk) for disk in layout.disks],
        "pools": [],
        "stores": [_store(store) for store in layout.stores],
        "entries": entry_facts(layout),
        "findings": finding_facts(layout.findings),
    }


def made_facts(layout: Layout) -> dict[str, Any]:
    """Return what `make --json` prints: the one disk, and the findings."""
    return {"disk": _disk(layout.disks[0]), "findings": finding_facts(layout.findings)}


def entry_facts(layout: Layout) -> dict[str, list[str]]:
    """Return each guest's entries as lines: of fstab, or of a registry text."""
    lines = {guest: [fstab_line(entry) for entry in entries] for guest, entries in layout.entries.items()}
    return lines | {guest: [value_line(value) for value in values] for guest, values in layout.registry.items()}


def finding_facts(findings: Iterable[Finding]) -> list[dict[str, str]]:
    """Return findings as objects."""
    return [asdict(finding) for finding in findings]


def survey_facts(found: Survey) -> dict[str, Any]:
    """Return what `survey --json` prints of one path."""
    return {
        "path": found.path,
        "format": found.format,
        "space": found.space,
        "size": found.size,
        "sector": found.sector or None,
        "block": found.block or None,
        "allocated": found.allocated,
        "base": found.base,
        "table": found.table,
        "table_id": found.table_id or None,
        "partitions": [_found_partition(part, found.table) for part in found.partitions],
        "findings": finding_facts(found.findings),
    }


def confirm_facts(differences: Sequence[Difference]) -> dict[str, Any]:
    """Return what `confirm --json` prints."""
    rows = [{"where": one.where, "asked": one.asked, "found": one.found} for one in differences]
    return {"agrees": not rows, "differences": rows}


def write_facts(done: Sequence[Step], findings: Iterable[Finding]) -> dict[str, Any]:
    """Return what `write --json` prints: the paths that changed, in order, and the findings."""
    return {"done": [step.touches for step in done], "findings": finding_facts(findings)}


def _disk(disk: LaidDisk) -> dict[str, Any]:
    return {
        "name": disk.name,
        "guest": disk.guest,
        "runs": disk.runs,
        "store": disk.store,
        "path": disk.path,
        "format": disk.format,
        "space": disk.space,
        "size": disk.size,
        "sector": disk.sector,
        "origin": asdict(disk.origin) if disk.origin else None,
        "slot": disk.slot,
        "table": disk.table,
        "table_id": disk.table_id,
        "state": disk.state,
        "stores_now": disk.stores_now,
        "partitions": [_partition(part, disk.table) for part in disk.partitions],
    }


def _attributes(table: str, attributes: int) -> list[str]:
    return list(attribute_names(table_format(table).attributes, attributes)) if table != "none" else []


def _partition(part: LaidPartition, table: str) -> dict[str, Any]:
    shows = part.shows
    return {
        "number": part.number,
        "label": part.label,
        "start": part.start,
        "size": part.size,
        "type": part.type or None,
        "id": part.id or None,
        "filesystem": part.filesystem,
        "uuid": part.uuid,
        "at": part.at,
        "attributes": _attributes(table, part.attributes),
        "volume": part.volume or None,
        "shows": {"total": shows.total, "free": shows.free, "available": shows.available} if shows else None,
        "losses": [asdict(loss) for loss in shows.losses] if shows else [],
    }


def _store(store: LaidStore) -> dict[str, Any]:
    return {
        "name": store.name,
        "path": store.path,
        "room": store.room,
        "kept": store.kept,
        "promised": store.promised,
        "present": store.present,
        "left": store.left,
    }


def _found_partition(part: PartitionFound, table: str) -> dict[str, Any]:
    place, inside = part.place, part.filesystem
    return {
        "number": place.number,
        "label": place.label,
        "start": place.start,
        "size": place.size,
        "type": place.type or None,
        "id": place.id or None,
        "attributes": _attributes(table, place.attributes),
        "filesystem": _inside(inside) if inside else None,
    }


def _inside(found: FilesystemFacts) -> dict[str, Any]:
    return {
        "kind": found.kind,
        "uuid": found.uuid,
        "label": found.label,
        "size": found.size,
        "free": found.free,
        "features": list(found.features),
        "rights": found.rights or None,
        "links": [{"path": path, "target": target} for path, target in found.links],
    }
