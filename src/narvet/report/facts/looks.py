"""Facts of what is found: surveys, files looked at, keys of sealed volumes (shapes: `shapes.looks`)."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from narvet.formats.filesystems.trees import Kind, Node
from narvet.ground.units import KIB
from narvet.report.facts.plans import finding_facts, table_entry_facts

if TYPE_CHECKING:
    from narvet.formats.filesystems.contract import FilesystemState
    from narvet.formats.pools.member import MemberState
    from narvet.formats.seals.header import Seal
    from narvet.model.estate import Disk, FoundSystem, Partition
    from narvet.model.pools import FoundPool
    from narvet.report.shapes import looks
    from narvet.usecases.keys import Keys
    from narvet.usecases.look import Looked


_LAST_MOMENT = 253_402_300_800  # of the year 9999, in seconds since 1970


def survey_facts(found: Disk, every: Iterable[Disk], pools: Iterable[FoundPool] = ()) -> looks.SurveyFacts:
    """Return what `survey --json` prints of one path among all that were looked at, with the pools that begin on it."""
    from narvet.usecases.survey import used_as

    image = found.image
    return {
        "path": image.path,
        "format": image.format,
        "space": image.space,
        "size": image.size,
        "sector": image.sector_size or None,
        "block": image.block_size or None,
        "allocated": image.stored,
        "stored": image.stored,
        "base": image.base,
        "table": found.table,
        "table_id": found.table_id or None,
        "partitions": [_found_partition(part, found) for part in found.partitions],
        "systems": [_system(one) for one in found.systems],
        "used": [
            {"partition": one.partition, "at": one.at, "system": one.system, "image": one.image}
            for one in used_as(found, every)
        ],
        "pools": [_found_pool(one) for one in pools if next(iter(one.places.values())).path == image.path],
        "findings": finding_facts(found.findings),
    }


def _found_pool(found: FoundPool) -> looks.FoundPoolFacts:
    pool = found.pool
    volumes: list[looks.FoundVolumeFacts] = []
    for one in pool.shown:
        disk = found.volumes.get(one.name)
        inside = disk.partitions[0].filesystem if disk is not None and disk.partitions else None
        volumes.append(
            {
                "name": one.name,
                "id": one.id,
                "size": one.count * pool.extent,
                "spread": one.spread,
                "read": disk is not None,
                "filesystem": _inside(inside) if inside else None,
            }
        )
    return {
        "name": pool.name,
        "id": pool.id,
        "text": pool.seqno,
        "extent": pool.extent,
        "free": pool.free,
        "members": {plain: place.path for plain, place in found.places.items()},
        "missing": list(found.missing),
        "volumes": volumes,
        "findings": finding_facts(found.findings),
    }


def _system(system: FoundSystem) -> looks.SystemFacts:
    return {
        "partition": system.partition,
        "runs": system.runs,
        "name": system.name,
        "version": system.version or None,
        "mounts": [{"source": source, "at": at} for source, at in system.mounts],
    }


def look_facts(found: Looked, text: str | None) -> looks.LookFacts:
    """Return what `look --json` prints; `text` is a file's content, None where it is not shown."""
    folder = found.node.kind == Kind.FOLDER
    return {
        **_named(found.inside.rpartition("/")[2], found.node),
        "path": found.image,
        "partition": found.number,
        "volume": found.volume or None,
        "filesystem": found.kind,
        "label": found.label,
        "inside": found.inside,
        "entries": [_named(one.name, one.node, one.target, one.fault) for one in found.names] if folder else None,
        "text": text,
    }


def taken_facts(found: Looked, out: str, *, dry: bool) -> looks.TakenFacts:
    """Return what `look --out --json` prints."""
    return {
        "path": found.image,
        "partition": found.number,
        "volume": found.volume or None,
        "inside": found.inside,
        "to": out,
        "size": found.node.size,
        "dry": dry,
    }


def _named(name: str, node: Node, target: str = "", fault: str = "") -> looks.NamedFacts:
    moment = None if node.modified is None or not 0 <= node.modified < _LAST_MOMENT else node.modified
    return {
        "name": name,
        "kind": "damaged" if fault else str(node.kind),
        "size": node.size if node.kind == Kind.FILE else None,
        "mode": None if node.mode is None else f"{node.mode:04o}",
        "uid": node.uid,
        "gid": node.gid,
        "changed": None if moment is None else datetime.fromtimestamp(moment, UTC).strftime("%Y-%m-%dT%H:%M:%SZ"),
        "target": target or None,
        "links": node.names,
        "note": fault or node.note or None,
    }


def _found_partition(part: Partition, disk: Disk) -> looks.FoundPartitionFacts:
    return {
        **table_entry_facts(part, disk),
        "filesystem": _inside(part.filesystem) if part.filesystem else None,
        "member": _member(part.member) if part.member else None,
        "sealed": _sealed(part.seal, is_open=not part.is_locked) if part.seal else None,
    }


def keys_facts(done: Keys, *, dry: bool) -> looks.KeysFacts:
    """Return what `keys --json` prints: never a key."""
    seal = done.seal
    rows: list[looks.KeySlotFacts] = [
        {
            "key": one.number,
            "made_by": one.kdf.kind,
            "memory": one.kdf.memory * KIB or None,
            "passes": one.kdf.passes or one.kdf.iterations,
            "key_file": seal.file_key is not None and seal.file_key.slot == one.number,
        }
        for one in seal.slots
    ]
    return {
        "path": done.image,
        "place": str(done.place),
        "uuid": seal.uuid,
        "version": seal.version,
        "damaged": seal.damaged or None,
        "keys": rows,
        "did": done.did or None,
        "backup": done.backup or None,
        "dry": dry,
    }


def _sealed(seal: Seal, *, is_open: bool) -> looks.SealFacts:
    return {
        "uuid": seal.uuid,
        "version": seal.version,
        "offset": seal.offset,
        "sector": seal.sector_size,
        "keys": [one.number for one in seal.slots],
        "open": is_open,
    }


def _member(member: MemberState) -> looks.FoundMemberFacts:
    pool = member.pool
    return {"id": member.shape.id, "pool": pool.name if pool else None, "pool_id": pool.id if pool else None}


def _inside(found: FilesystemState) -> looks.InsideFacts:
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
