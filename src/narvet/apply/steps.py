"""The steps that a layout asks for, in order: images first and entries last.

In this order an interruption never leaves an entry whose disk is missing. Every step is whole or not there at all, so
resuming means working the steps out again: what is done drops out.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING
from uuid import uuid4

from narvet.block.files import Folder
from narvet.block.names import real_paths
from narvet.formats.images import image_format
from narvet.formats.images.chain import chain, new_image_file
from narvet.formats.images.contract import IsOrdered
from narvet.formats.images.trust import NOTHING_SAID, Trust
from narvet.formats.tables import table_format
from narvet.formats.tables.contract import Table
from narvet.ground.findings import disk_place
from narvet.ground.offers import offers
from narvet.ground.units import MIB, show_both
from narvet.ground.values import Frozen, replace
from narvet.guests import guest_system
from narvet.model.estate import NO_TABLE, Disk
from narvet.model.moves import Answer, Aspect, Difference, Lies, Question, Step
from narvet.plan.diff import asked_of
from narvet.plan.existing import as_found, written_anew

if TYPE_CHECKING:
    from narvet.apply.afar import Offer
    from narvet.block.contract import BlockDevice
    from narvet.formats.images.contract import ImageSpec
    from narvet.model.facts import Facts
    from narvet.model.layout import Layout, Origin, PlannedDisk
    from narvet.model.pools import PlannedPool


class MakeImage(Frozen):
    """Write a disk's image under a temporary name and give it its own when it is complete."""

    disk: str
    guest: str
    wanted: Disk
    spec: ImageSpec
    origin: Origin | None = None
    trust: Trust = NOTHING_SAID
    slot: str | None = None
    offered: Offer | None = None
    guest_may_run = True
    is_change = False
    comes_last = False
    lies_in = Lies.STORE

    @property
    def needs_keys(self) -> bool:
        """Whether anything on it is sealed."""
        return self.wanted.is_sealed

    @property
    def is_brief(self) -> bool:
        """Whether it is made here, and small."""
        return self.origin is None and self.spec.order is None and self.wanted.image.stored <= _BRIEF

    @property
    def summary(self) -> str:
        """The image in a few words."""
        origin = f", a {self.origin.how} of {self.origin.seen_from(self.wanted.image.host)}" if self.origin else ""
        return f"{show_both(self.wanted.size)}, {self.wanted.image.format}, {self.wanted.image.space}{origin}"

    @property
    def touches(self) -> str:
        """The image."""
        return self.wanted.path

    @property
    def intent(self) -> dict[str, object]:
        """That a volume is about to be ordered, so that what a cut left of it is known to be nobody's."""
        order = self.spec.order
        if order is None:
            return {}
        mark = dict(order.tags)[_MARK]
        return {"did": "ordering", "disk": self.disk, "service": order.service, "key": order.key, "mark": mark}

    def apply(self) -> dict[str, object]:
        """Write the image; whatever stops it, nothing is left under either name but by a power cut."""
        from narvet.apply.copying import copy_disk, source_of
        from narvet.apply.staging import ALL_RIGHTS, new_image, rights_of
        from narvet.block.leases import lease

        kind = image_format(self.wanted.image.format)
        source = Path(self.origin.path) if self.origin is not None and self.offered is None else None
        rights = self.offered.rights if self.offered else rights_of(source) if source else ALL_RIGHTS
        with new_image(Path(self.touches), kind, rights) as built:
            if self.offered is not None:
                from narvet.apply.afar import receive

                receive(self.offered, built, kind, self.spec)
            elif source is not None and self.origin is not None and self.origin.how == "copy":
                copy_disk(source_of(source, self._origin_trusted, self.spec.sector_size), built, kind, self.spec)
            else:
                with (
                    lease(*self._base_files(source), change=False) as held,
                    new_image_file(kind, built, self.spec) as device,
                ):
                    self._fill(device)
                    held.check()
        return {
            "did": "image",
            "disk": self.disk,
            "size": self.wanted.size,
            "id": self.wanted.table_id or None,
            "slot": self.slot,
            "asked": asked_of(self.wanted),
        }

    @property
    def _origin_trusted(self) -> Trust:
        """What is said of images, and that the origin may be read."""
        path = [self.origin.path] if self.origin else []
        return replace(self.trust, bases=self.trust.bases.union(path))

    @property
    def question(self) -> Question | None:
        """That the host of its origin lends that, if it is another one."""
        origin, spec = self.origin, self.spec
        if origin is None or origin.host == self.wanted.image.host:
            return None
        from narvet.apply.afar import Lending, offer

        return Question(origin.host, offer, (Lending(origin.path, self._origin_trusted, spec.sector_size, spec.size),))

    def answered(self, answer: Offer) -> MakeImage:
        """Return the step with what is lent."""
        return replace(self, offered=answer)

    @property
    def undoing(self) -> Question | None:
        """That the host of its origin lends that no longer."""
        if self.origin is None or self.offered is None:
            return None
        from narvet.apply.afar import give_back

        return Question(self.origin.host, give_back, (self.offered,))

    def _base_files(self, base: Path | None) -> list[Path]:
        """Return the files that a child's bases are kept in."""
        links = chain(base, self.trust) if base is not None else []
        return [file for link in links for file in link.files]

    def _fill(self, device: BlockDevice) -> None:
        from narvet.apply.contents import make_content
        from narvet.block.window import Window

        if self.origin is not None:
            return
        if self.wanted.table != NO_TABLE:
            entries = tuple(part.entry for part in self.wanted.partitions)
            table_format(self.wanted.table).write(device, Table(self.wanted.table, self.wanted.table_id, entries))
        for part in self.wanted.partitions:
            make_content(Window(device, part.start, part.size), part, disk_place(self.disk).part(part.number))


class AttachVolume(Frozen):
    """Attach a volume to its guest, at the first position that is free there."""

    disk: str
    guest: str
    path: str
    guest_may_run = True
    is_change = False
    comes_last = False
    lies_in = Lies.STORE

    @property
    def touches(self) -> str:
        """The volume's record."""
        return self.path

    @property
    def summary(self) -> str:
        """Where it is attached."""
        return f"attached to guest {self.guest} by its service"

    def apply(self) -> dict[str, object]:
        """Attach it, and wait until it is there."""
        path, kind = Path(self.path), image_format("volume")
        with Folder(path.parent) as files:
            if offers(kind, IsOrdered):
                kind.attach(files, path.name, self.guest)
        return {"did": "volume attached", "disk": self.disk, "guest": self.guest}


def steps(layout: Layout, facts: Facts) -> tuple[Step, ...]:
    """Return what is left to do for a layout, in order: what its moves ask for."""
    moves = [one for one in layout.differences if one.answer.is_move]
    missing = {one.where.name for one in moves if one.aspect is Aspect.IMAGE}
    trusted, own = Trusted(layout, facts), _by_subject(layout)
    images: list[Step] = [
        MakeImage(
            disk.name,
            disk.guest,
            disk.wanted,
            _marked(disk, facts),
            disk.origin,
            trusted.of_origin(disk.origin) if disk.origin else NOTHING_SAID,
            disk.slot,
        )
        for disk in layout.disks
        if disk.name in missing
    ]
    images += [
        AttachVolume(disk.name, disk.guest, disk.path)
        for disk in layout.disks
        if disk.name in missing and disk.spec.order is not None
    ]
    for disk in layout.disks:
        if disk.state == "to change" or disk.name in layout.left_behind:
            images += _changes(disk, layout, trusted, own.get(disk.name, ()))
    images += [
        _pool_change(pool, layout, trusted, own.get(pool.name, ()))
        for pool in layout.pools
        if pool.state in ("to make", "to change")
    ]
    changed = {one.where.name for one in moves if one.where.kind == "guest"}
    entries = (
        step
        for name, wanted in layout.guests.items()
        if name in changed
        for step in guest_system(layout.systems[name]).steps(wanted, facts.found.guests[name])
    )
    return tuple(sorted((*images, *entries), key=lambda step: step.comes_last))


def _by_subject(layout: Layout) -> dict[str, list[Difference]]:
    """Return differences by the name of the disk or pool that they are of."""
    own: dict[str, list[Difference]] = {}
    for one in layout.differences:
        if one.where.kind in ("disk", "pool"):
            own.setdefault(one.where.pool or one.where.name, []).append(one)
    return own


_MARK = "begun"
_BRIEF = 16 * MIB  # stored
"""The tag by which an order is known to be that of this ledger, also by its service."""


def _marked(disk: PlannedDisk, facts: Facts) -> ImageSpec:
    """Return what an image is made by; an order has the mark of the one that was begun, or a new one."""
    order = disk.spec.order
    if order is None:
        return disk.spec
    mark = facts.begun_volumes.get(disk.name) or uuid4().hex
    return replace(disk.spec, order=replace(order, tags=(*order.tags, (_MARK, mark))))


def _pool_change(pool: PlannedPool, layout: Layout, trusted: Trusted, said: Iterable[Difference]) -> Step:
    """Return what makes a pool, or takes it to what is wanted."""
    from narvet.apply.pool import ChangePool

    own = [one for one in said if one.where.pool == pool.name]
    volumes = tuple(
        replace(one, wanted=as_found(one.wanted, one.found, [each for each in own if each.where.name == one.name]))
        if one.found is not None
        else one
        for one in pool.volumes
    )
    told = tuple(_told(one) for one in own if one.answer.is_move)
    asked = {volume.volume: asked_of(volume.wanted) for volume in pool.volumes}
    folders = tuple(store.path for store in layout.stores)
    return ChangePool(replace(pool, volumes=volumes), folders, trusted.of_pool(pool), told, asked)


def _changes(disk: PlannedDisk, layout: Layout, trusted: Trusted, said: Iterable[Difference]) -> Iterator[Step]:
    """Yield what takes an image that exists to what is wanted: its place and form first, then what is in it."""
    from narvet.apply.move import RemoveOldImage

    folders = tuple(store.path for store in layout.stores)
    for old in layout.left_behind.get(disk.name, ()):
        behind = _with(trusted.of(disk, old.path, disk.path), old)
        yield RemoveOldImage(disk.name, disk.guest, old, layout.found.disks[disk.name], disk.spec, folders, behind)
    if disk.state != "to change":
        return
    own = [one for one in said if one.where.kind == "disk"]
    if any(one.aspect is Aspect.ATTACHED for one in own):
        yield AttachVolume(disk.name, disk.guest, disk.path)
        return
    found = layout.found.disks[disk.name]
    trust = trusted.of(disk, found.path, disk.path)
    moves = [one for one in own if one.answer.is_move and one.aspect is not Aspect.LEFT_BEHIND]
    inside = [one for one in moves if one.answer is not Answer.MOVE]
    if not written_anew(disk.wanted, found, own):
        yield from _change(disk, found, own, inside, layout, trust)
    elif disk.wanted.size < found.size:  # what is on it first, so that nothing is left behind its new end
        there = replace(found.image, size=found.size)
        inside = [one for one in inside if one.aspect is not Aspect.SMALLER or one.where.partition]
        changed = replace(disk, wanted=replace(disk.wanted, image=there))
        yield from _change(changed, found, own, inside, layout, _with(trust, found))
        yield _moved(disk, found, disk.wanted, disk.spec, folders, trust)
    else:
        spec = replace(disk.spec, size=image_format(disk.wanted.image.format).fit(found.size, disk.spec.block_size))
        moved = replace(found, image=replace(disk.wanted.image, size=spec.size))
        yield _moved(disk, found, moved, spec, folders, trust)
        inside = [
            one for one in inside if one.aspect is not Aspect.LARGER or one.where.partition or one.asked != spec.size
        ]
        yield from _change(disk, moved, own, inside, layout, trust)


def _moved(
    disk: PlannedDisk, found: Disk, wanted: Disk, spec: ImageSpec, folders: tuple[str, ...], trust: Trust
) -> Step:
    """Return what brings an image from where it was found to its place."""
    from narvet.apply.move import BringImage, MoveImage

    kind = MoveImage if found.image.host == wanted.image.host else BringImage
    return kind(disk.name, disk.guest, found, wanted, spec, folders, _with(trust, found))


def _change(
    disk: PlannedDisk,
    found: Disk,
    own: Iterable[Difference],
    inside: Iterable[Difference],
    layout: Layout,
    trust: Trust,
) -> Iterator[Step]:
    """Yield what takes a disk to what is wanted where it is, if anything `inside` it is to change."""
    from narvet.apply.change import ChangeDisk

    told = tuple(_told(one) for one in inside)
    if told:
        wanted, asked = as_found(disk.wanted, found, own), asked_of(disk.wanted)
        folders = tuple(store.path for store in layout.stores)
        copied = disk.origin is not None
        yield ChangeDisk(disk.name, disk.guest, wanted, found, disk.spec.pieces, copied, folders, trust, told, asked)


def _told(one: Difference) -> str:
    """Return what becomes of one thing, in words."""
    becomes, was = one.shown
    if one.aspect is Aspect.PARTITION:
        return f"partition {one.where.partition} added, {becomes}"
    if one.aspect in (Aspect.POOL, Aspect.VOLUME, Aspect.MEMBER):
        name = one.where.volume
        return f"{one.aspect.title}{f' {name}' if name else ''} added, {becomes}"
    if one.aspect is Aspect.MEMBER_LEAVES:
        return f"member on {was} leaves"
    if one.where.volume:
        return f"volume {one.where.volume}: {one.aspect.title} {was} becomes {becomes}"
    return f"{one.aspect.title} {was} becomes {becomes}"


def _with(trust: Trust, image: Disk) -> Trust:
    """Return what is said of images, and that one at its path is of the format it was found to be."""
    return replace(trust, formats={**trust.formats, os.path.realpath(image.path): image.image.format})


class Trusted:
    """What a layout says of its images: their formats, and that they and their origins may be bases.

    Each step gets no more of it than it may need, as a sheet may have many images: what is said of the images that it
    is about, of their bases, of the bases of those, and so on.
    """

    def __init__(self, layout: Layout, facts: Facts) -> None:
        """Gather what is said, and which images have which bases, as far as that is known."""
        paths = real_paths(disk.path for disk in layout.disks)
        formats = {path: disk.wanted.image.format for path, disk in zip(paths, layout.disks, strict=True)}
        origins = {os.path.realpath(disk.origin.path) for disk in layout.disks if disk.origin}
        self._whole = Trust(formats, frozenset({*formats, *origins}))
        hosts = {store.name: store.host for store in layout.stores}
        self._disks = {disk.name: hosts[disk.store] for disk in layout.disks}
        self._bases: dict[tuple[str, str], str | None] = {}
        for path, disk in zip(paths, layout.disks, strict=True):
            kept = disk.origin.path if disk.origin and disk.origin.how == "child" else None
            self._bases[self._disks[disk.name], path] = kept
        of_origins = [one.found for one in facts.origins.values() if one.found]
        behind = [one for every in layout.left_behind.values() for one in every]
        found = [*layout.found.disks.values(), *layout.found.strays, *behind, *of_origins]
        for path, one in zip(real_paths(disk.path for disk in found), found, strict=True):
            self._bases[one.image.host, path] = one.image.base

    def of(self, disk: PlannedDisk, *paths: str) -> Trust:
        """Return what is to be known for a step about a disk that reads the images at `paths`."""
        return self._of(self._disks[disk.name], paths)

    def of_origin(self, origin: Origin) -> Trust:
        """Return what is to be known for a step that reads an origin."""
        return self._of(origin.host, [origin.path])

    def of_pool(self, pool: PlannedPool) -> Trust:
        """Return what is to be known for a step about a pool."""
        places = [*pool.members.values(), *pool.leaving.values()]
        hosts = {self._disks.get(one.disk) for one in places}
        host = hosts.pop() if len(hosts) == 1 else None
        return self._whole if host is None else self._of(host, [one.path for one in places])

    def _of(self, host: str, paths: Iterable[str]) -> Trust:
        seen, waiting = set[str](), real_paths(paths)
        while waiting:
            path = waiting.pop()
            if path in seen:
                continue
            seen.add(path)
            base = self._bases.get((host, path))  # of an image that no sheet names it is not known, and lies beside it
            waiting += real_paths([base] if base else [])
        formats = {path: self._whole.formats[path] for path in seen if path in self._whole.formats}
        return Trust(formats, self._whole.bases & seen)
