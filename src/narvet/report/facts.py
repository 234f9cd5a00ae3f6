"""Facts for programs: the JSON objects behind `--json`. Sizes and offsets are bytes, ids are lower-case strings."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from narvet.formats.filesystems.trees import Kind, Node
from narvet.ground.errors import flat
from narvet.ground.offers import offers
from narvet.ground.units import KIB
from narvet.guests import guest_system
from narvet.guests.contract import UnlocksSeals

if TYPE_CHECKING:
    from narvet.formats.filesystems.contract import Capacity, FilesystemState
    from narvet.formats.images.contract import Order
    from narvet.formats.pools.member import MemberState
    from narvet.formats.seals.header import Seal
    from narvet.ground.findings import Finding, Rule
    from narvet.model.devices import Device
    from narvet.model.estate import Disk, FoundSystem, Image, Partition
    from narvet.model.layout import Layout, PlannedDisk, StoreCapacity
    from narvet.model.moves import Difference, Step
    from narvet.model.plugs import DoorState, Rates
    from narvet.model.pools import FoundPool, PlannedPool, PlannedVolume
    from narvet.report.shapes import looks, plans, works
    from narvet.usecases.attach import Attached, Attaching
    from narvet.usecases.enlarge import Resized
    from narvet.usecases.explain import ExplainedKey
    from narvet.usecases.history import Event
    from narvet.usecases.keys import Keys
    from narvet.usecases.layout import Reviewed
    from narvet.usecases.look import Looked
    from narvet.usecases.make import Made
    from narvet.usecases.recast import Recast


_LAST_MOMENT = 253_402_300_800  # of the year 9999, in seconds since 1970


def review_facts(reviewed: Reviewed) -> Iterator[tuple[str, object]]:
    """Yield the keys of what `review --json` prints (`plans.ReviewFacts`) with their values, long lists as iterators.

    So of a sheet with many disks no more than one is put in words at a time.
    """
    layout = reviewed.layout
    doors = {name: _door(door) for name, door in layout.doors.items()}
    yield from (("title", layout.title), ("mark", reviewed.mark))
    yield "disks", map(_planned, layout.disks)
    yield "pools", map(_pool, layout.pools)
    yield "stores", map(_store, layout.stores)
    yield "changes", (_change(one) for one in layout.differences if one.answer.is_move)
    yield from (("entries", entry_facts(layout)), ("unlocks", unlock_facts(layout)), ("doors", doors))
    yield "findings", iter(finding_facts(layout.findings))


def _pool(pool: PlannedPool) -> plans.PoolFacts:
    becomes, members = pool.becomes, pool.members
    held = {one.id: one.count * becomes.extent for one in becomes.members}
    rows: list[plans.MemberFacts] = [
        {
            "id": plain,
            "disk": one.disk,
            "path": one.path,
            "partition": one.partition,
            "size": one.size,
            "usable": held[plain],
        }
        for plain, one in members.items()
        if plain in held
    ]
    return {
        "name": pool.name,
        "guest": pool.guest,
        "state": pool.state,
        "id": becomes.id,
        "extent": becomes.extent,
        "free": becomes.free,
        "members": rows,
        "volumes": [_volume(pool, one) for one in pool.volumes],
    }


def _volume(pool: PlannedPool, volume: PlannedVolume) -> plans.VolumeFacts:
    part, there = volume.wanted.partitions[0], pool.becomes.volume(volume.volume)
    inside = part.filesystem
    return {
        "name": volume.volume,
        "id": there.id,
        "size": volume.wanted.size,
        "spread": there.spread,
        "over": there.width,
        "disks": list(pool.disks_of(there)),
        "sealed": part.seal.uuid if part.seal else None,
        "filesystem": inside.kind if inside else None,
        "uuid": inside.uuid if inside else None,
        "label": inside.label if inside else "",
        "at": part.at,
        "shows": _shows(part.capacity) if part.capacity else None,
        "losses": [{"what": loss.what, "size": loss.size} for loss in part.capacity.losses] if part.capacity else [],
    }


def _door(door: DoorState) -> plans.DoorFacts:
    plugged: list[plans.PluggedFacts] = [
        {"path": one.path or None, "slot": one.where, "serial": one.serial or None} for one in door.plugged
    ]
    return {"kind": door.kind, "at": door.at, "open": door.is_open, "runs": door.runs, "plugged": plugged}


def made_facts(made: Made, *, dry: bool) -> plans.MakeFacts:
    """Return what `make --json` prints: the one disk, and the findings."""
    return {"disk": _wanted(made.image.wanted), "findings": finding_facts(made.findings), "dry": dry}


def entry_facts(layout: Layout, guest: str | None = None) -> dict[str, list[str]]:
    """Return each guest's entries as lines: of fstab, or of a registry text; guests without any are left out."""
    lines = {name: list(guest_system(layout.systems[name]).entry_lines(own)) for name, own in layout.guests.items()}
    return {name: own for name, own in lines.items() if own and guest in (None, name)}


def unlock_facts(layout: Layout) -> dict[str, list[str]]:
    """Return each guest's entries that unlock sealed volumes, as lines; guests without any are left out."""
    found = {}
    for name, guest in layout.guests.items():
        system = guest_system(layout.systems[name])
        if offers(system, UnlocksSeals) and system.unlock_lines(guest):
            found[name] = list(system.unlock_lines(guest))
    return found


def finding_facts(findings: Iterable[Finding]) -> list[plans.FindingFacts]:
    """Return findings as objects."""
    return [
        {
            "rule": one.rule,
            "level": one.level,
            "where": str(one.where),
            "message": flat(one.message),
            "remedy": flat(one.remedy),
        }
        for one in findings
    ]


def _ordered(order: Order) -> plans.OrderedFacts:
    return {
        "service": order.service,
        "zone": order.zone,
        "class": order.volume_class,
        "operations": order.operations,
    }


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


def confirm_facts(differences: Sequence[Difference]) -> works.ConfirmFacts:
    """Return what `confirm --json` prints."""
    rows: list[works.DifferenceFacts] = [
        {"where": where_of(one), "asked": flat(one.texts[0]), "found": flat(one.texts[1])} for one in differences
    ]
    return {"agrees": not rows, "differences": rows}


def _change(one: Difference) -> plans.ChangeFacts:
    """Return a move: where, what about it, what is there and what it becomes; sizes stay numbers."""
    values = [
        value if isinstance(value, int) else flat(text)
        for value, text in zip((one.found, one.asked), reversed(one.texts), strict=True)
    ]
    return {"where": str(one.where), "what": one.aspect.title, "was": values[0], "becomes": values[1]}


def where_of(one: Difference) -> str:
    """Return what differs and where, in a few words."""
    detail = one.aspect.title if one.aspect.says_more else ""
    return f"{one.where} {detail}".rstrip()


def write_facts(done: Sequence[Step], findings: Iterable[Finding], *, dry: bool) -> works.WriteFacts:
    """Return what `write --json` prints: the paths that changed, in order, and the findings."""
    return {"done": [step.touches for step in done], "findings": finding_facts(findings), "dry": dry}


def rule_facts(rules: Mapping[str, Rule[...]]) -> list[works.RuleFacts]:
    """Return what `explain --json` prints."""
    return [{"rule": name, "meaning": rule.meaning, "way_out": rule.way_out} for name, rule in rules.items()]


def key_facts(keys: Iterable[ExplainedKey]) -> list[works.KeyFacts]:
    """Return what `explain --json` prints of keys."""
    return [{"key": one.key, "table": one.table, "meaning": one.meaning, "usual": one.usual} for one in keys]


def word_facts(words: Mapping[str, str]) -> list[works.WordFacts]:
    """Return what `explain --json` prints of words."""
    return [{"word": word, "meaning": meaning} for word, meaning in words.items()]


def resized_facts(done: Resized, *, dry: bool) -> works.ResizedFacts:
    """Return what `enlarge --json` and `shrink --json` print."""
    return {
        "path": done.after.path,
        "size": done.after.size,
        "changes": [_change(one) for one in done.changes],
        "partitions": [_partition(part, done.after) for part in done.after.partitions],
        "findings": finding_facts(done.findings),
        "dry": dry,
    }


def recast_facts(done: Recast, *, dry: bool) -> works.RecastFacts:
    """Return what `recast --json` prints."""
    return {
        "path": str(done.path),
        "format": done.format,
        "space": done.spec.space,
        "size": done.spec.size,
        "verified": done.is_verified,
        "remarks": [flat(remark) for remark in done.remarks],
        "dry": dry,
    }


def _planned(disk: PlannedDisk) -> plans.DiskFacts:
    return {
        "name": disk.name,
        "guest": disk.guest,
        "runs": disk.system,
        "store": disk.store,
        "host": disk.wanted.image.host or None,
        "slot": disk.slot,
        "ordered": _ordered(disk.spec.order) if disk.spec.order else None,
        "plug": _plug(disk),
        "origin": {"how": disk.origin.how, "path": disk.origin.seen_from(disk.wanted.image.host)}
        if disk.origin
        else None,
        "state": disk.state,
        **_wanted(disk.wanted),
    }


def _plug(disk: PlannedDisk) -> plans.PlugFacts:
    plug = disk.plug
    return {
        "serial": plug.serial,
        "guest_may_run": plug.guest_may_run,
        "plugged_into": disk.plugged_into or None,
        "read_only": plug.read_only,
        "shared": plug.shared,
        "hold": plug.hold,
        "ceiling": _rates(plug.ceiling),
        "floor": _rates(plug.floor),
        "flash": plug.flash,
        "give_back": plug.gives_back,
    }


def _rates(rates: Rates) -> plans.RatesFacts:
    return {"operations": rates.operations, "bytes": rates.bytes}


def event_facts(event: Event) -> works.EventFacts:
    """Return what `history --json` prints of one thing that was done."""
    return {
        "when": event.when or None,
        "disk": event.disk or None,
        "guest": event.guest or None,
        "did": event.did or None,
        "touched": event.touched or None,
        "size": event.size,
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


def device_facts(device: Device) -> works.DeviceFacts:
    """Return what `devices --json` prints of one."""
    return {
        "path": device.path,
        "serial": device.serial or None,
        "model": device.model or None,
        "size": device.size,
        "sector": device.sector_size,
        "rotates": device.rotates,
        "read_only": device.read_only,
        "removable": device.removable,
        "blank": device.is_blank,
        "holds": device.holds or None,
        "users": list(device.users),
        "partitions": {str(number): path for number, path in device.partitions},
    }


def attach_facts(done: Attaching, *, dry: bool) -> works.AttachFacts:
    """Return what `attach --json` and `detach --json` print."""
    lists: list[works.HandWorkFacts] = [
        {"guest": one.guest, "title": flat(one.title), "steps": [flat(step) for step in one.steps]}
        for one in done.by_hand
    ]
    return {"done": [_attached(one) for one in done.done], "by_hand": lists, "dry": dry}


def _attached(one: Attached) -> works.AttachedFacts:
    return {
        "disk": one.disk,
        "guest": one.guest,
        "did": one.did,
        "slot": one.slot,
        "serial": one.serial,
        "path": one.path,
    }


def _wanted(disk: Disk) -> plans.WantedFacts:
    return {
        **_image(disk.image),
        "table": disk.table,
        "table_id": disk.table_id or None,
        "stores_now": disk.image.stored,
        "stored": disk.image.stored,
        "partitions": [_partition(part, disk) for part in disk.partitions],
    }


def _image(image: Image) -> plans.ImageFacts:
    return {
        "path": image.path,
        "format": image.format,
        "space": image.space,
        "size": image.size,
        "sector": image.sector_size,
    }


def _entry(part: Partition, disk: Disk) -> plans.EntryFacts:
    return {
        "number": part.number,
        "label": part.entry.label,
        "start": part.start,
        "size": part.size,
        "type": part.entry.type or None,
        "id": part.entry.id or None,
        "attributes": list(disk.attributes(part)),
    }


def _partition(part: Partition, disk: Disk) -> plans.PartitionFacts:
    inside, mount = part.filesystem, part.mount
    label = part.entry.label or (inside.label if inside else "")
    return {
        **_entry(part, disk),
        "label": label,
        "filesystem": inside.kind if inside else None,
        "uuid": inside.uuid if inside else None,
        "at": mount.at if mount else None,
        "volume": (mount.volume if mount else "") or None,
        "sealed": part.seal.uuid if part.seal else None,
        "shows": _shows(part.capacity) if part.capacity else None,
        "losses": [{"what": loss.what, "size": loss.size} for loss in part.capacity.losses] if part.capacity else [],
    }


def _shows(shows: Capacity) -> plans.ShowsFacts:
    return {"total": shows.total, "free": shows.free, "available": shows.available}


def _store(store: StoreCapacity) -> plans.StoreFacts:
    return {
        "name": store.name,
        "host": store.host or None,
        "path": store.path,
        "room": store.room,
        "kept": store.kept,
        "promised": store.promised,
        "present": store.present,
        "left": store.left,
    }


def _found_partition(part: Partition, disk: Disk) -> looks.FoundPartitionFacts:
    return {
        **_entry(part, disk),
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
