"""Facts of what is planned: disks, partitions, pools, stores, entries, findings (shapes: `shapes.plans`)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from narvet.ground.errors import flat
from narvet.ground.offers import offers
from narvet.guests import guest_system
from narvet.guests.contract import UnlocksSeals

if TYPE_CHECKING:
    from narvet.formats.filesystems.contract import Capacity
    from narvet.formats.images.contract import Order
    from narvet.ground.findings import Finding
    from narvet.model.estate import Disk, Image, Partition
    from narvet.model.layout import Layout, PlannedDisk, StoreCapacity
    from narvet.model.moves import Difference
    from narvet.model.plugs import DoorState, Rates
    from narvet.model.pools import PlannedPool, PlannedVolume
    from narvet.report.shapes import plans
    from narvet.usecases.layout import Reviewed
    from narvet.usecases.make import Made


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
    yield "changes", (change_facts(one) for one in layout.differences if one.answer.is_move)
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


def change_facts(one: Difference) -> plans.ChangeFacts:
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


def _wanted(disk: Disk) -> plans.WantedFacts:
    return {
        **_image(disk.image),
        "table": disk.table,
        "table_id": disk.table_id or None,
        "stores_now": disk.image.stored,
        "stored": disk.image.stored,
        "partitions": [partition_facts(part, disk) for part in disk.partitions],
    }


def _image(image: Image) -> plans.ImageFacts:
    return {
        "path": image.path,
        "format": image.format,
        "space": image.space,
        "size": image.size,
        "sector": image.sector_size,
    }


def table_entry_facts(part: Partition, disk: Disk) -> plans.EntryFacts:
    """Return what stands in a disk's table of one of its partitions."""
    return {
        "number": part.number,
        "label": part.entry.label,
        "start": part.start,
        "size": part.size,
        "type": part.entry.type or None,
        "id": part.entry.id or None,
        "attributes": list(disk.attributes(part)),
    }


def partition_facts(part: Partition, disk: Disk) -> plans.PartitionFacts:
    """Return a partition of a disk as planned: its place, filesystem, owner, and what its guest is shown of it."""
    inside, mount = part.filesystem, part.mount
    label = part.entry.label or (inside.label if inside else "")
    return {
        **table_entry_facts(part, disk),
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
