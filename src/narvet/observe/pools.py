"""Pools put together from the members on images, and what lies on their volumes. Nothing on them is trusted."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from contextlib import ExitStack, contextmanager
from pathlib import Path

from narvet.block.contract import BlockDevice
from narvet.block.window import Window
from narvet.formats.images.chain import chain, open_links
from narvet.formats.images.trust import Trust
from narvet.formats.pools.device import volume_device
from narvet.formats.pools.member import MemberState
from narvet.formats.pools.mirror import CopyState, why_not_whole
from narvet.formats.pools.tree import Pool, PoolVolume, states_of
from narvet.formats.volumes import newest_of
from narvet.ground.errors import ImageError, NarvetError
from narvet.ground.findings import Finding, Place, pool_place
from narvet.ground.rules import pools as rules
from narvet.ground.values import replace
from narvet.model.estate import NO_TABLE, Disk, Image
from narvet.model.pools import VOLUME, FoundPool, MemberPlace
from narvet.observe.images import Look, survey_device


def member_places(disks: Mapping[str, Disk]) -> Iterator[tuple[MemberPlace, MemberState]]:
    """Yield the members on disks, by the disks' names, each with what was found of it."""
    for name, disk in disks.items():
        for part in disk.partitions:
            if part.member is not None:
                sector_size = disk.image.sector_size or 512
                place = MemberPlace(name, disk.path, part.number, part.start, part.size, sector_size, part.member.shape)
                yield place, part.member


def pools_on(disks: Mapping[str, Disk], trust: Trust, look: Look) -> tuple[FoundPool, ...]:
    """Return the pools whose members lie on disks, by the disks' names, and what lies on their volumes."""
    places: dict[str, MemberPlace] = {}
    states: dict[str, MemberState] = {}
    twice: dict[str, MemberPlace] = {}
    for place, state in member_places(disks):
        if place.shape.id in places:
            twice[place.shape.id] = place
            continue
        places[place.shape.id] = place
        states[place.shape.id] = state
    found = []
    for pool in newest_of(states.values()):
        own = {one.id: places[one.id] for one in pool.members if one.id in places}
        stale = any(states[one].stale or _is_behind(states[one], pool) for one in own)
        said = tuple(
            rules.member_twice.error(pool_place(pool.name), pool.name, one.disk, own[one.shape.id].disk)
            for one in twice.values()
            if one.shape.id in own
        )
        said += tuple(
            rules.member_blank.error(pool_place(pool.name), pool.name, place.disk)
            for place in own.values()
            if states[place.shape.id].is_blank
        )
        there = FoundPool(pool, own, stale=stale, findings=said)
        found.append(_with_volumes(there, trust, look))
    return tuple(found)


def _is_behind(state: MemberState, pool: Pool) -> bool:
    """Return whether a member that keeps texts has another one; one whose rings are not to be looked at keeps none."""
    return state.pool is not None and state.pool != pool


def _with_volumes(found: FoundPool, trust: Trust, look: Look) -> FoundPool:
    """Return a pool with what lies on its volumes, as far as they can be read."""
    volumes: dict[str, Disk] = {}
    not_whole: dict[str, str] = {}
    said: list[Finding] = list(found.findings)
    where = pool_place(found.pool.name)
    if found.stale and not found.missing:
        said.append(rules.texts_differ.warning(where, found.pool.name))
    try:
        with opened_members(found.places.values(), trust) as devices:
            by_name = {one.name: devices[one.id] for one in found.pool.members if one.id in devices}
            for volume in found.pool.shown:
                place = pool_place(found.pool.name, volume.name)
                if volume.spread is None:
                    said.append(rules.volume_not_known.warning(place, volume.name, ", ".join(volume.kinds)))
                    continue
                try:
                    device = volume_device(found.pool, volume, by_name, _sector(found))
                except ImageError:
                    continue  # the member that is missing has been told of
                volumes[volume.name] = on_volume(device, volume.name, place, look)
                why = _why_not_whole(found.pool, volume, by_name)
                if why:
                    not_whole[volume.name] = why
                    said.append(rules.mirror_not_whole.warning(place, volume.name, why))
    except NarvetError as error:
        said.append(rules.member_damaged.error(where, str(error)))
    inside = (one for disk in volumes.values() for one in disk.findings)
    return replace(found, volumes=volumes, not_whole=not_whole, findings=(*said, *inside))


def _why_not_whole(pool: Pool, volume: PoolVolume, devices: Mapping[str, BlockDevice]) -> str:
    """Return why a copy of a mirrored volume cannot be counted on, empty if all can, or if it is not mirrored."""
    for state in states_of(pool, volume):
        name, first = state.segments[0].parts[0] if state.segments and state.segments[0].parts else ("", 0)
        if name not in devices:
            return "a copy of it is missing"
        data = devices[name].read(pool.member(name).start + first * pool.extent, CopyState.size)
        if why := why_not_whole(data):
            return why
    return ""


def _sector(found: FoundPool) -> int:
    return max(one.sector_size for one in found.places.values())


def on_volume(device: BlockDevice, name: str, where: Place, look: Look) -> Disk:
    """Return what lies on a volume: a disk without a table."""
    image = Image(name, VOLUME, "thin", device.size, device.sector_size)
    return replace(survey_device(device, image, where, look), table=NO_TABLE)


@contextmanager
def opened_members(places: Iterable[MemberPlace], trust: Trust) -> Iterator[dict[str, BlockDevice]]:
    """Open the images that members lie on to be read; give the members' devices by their ids.

    Raises:
        ImageError: an image is not sound.
    """
    with ExitStack() as stack:
        images: dict[str, BlockDevice] = {}
        found: dict[str, BlockDevice] = {}
        for place in places:
            if place.path not in images:
                links = chain(Path(place.path), trust)
                images[place.path] = stack.enter_context(open_links(links, place.sector_size))
            found[place.shape.id] = Window(images[place.path], place.start, place.size)
        yield found
