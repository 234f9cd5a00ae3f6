"""A pool made, or one that exists taken to what is wanted: on all of its members at once.

What is new is filled first, in extents that nobody looks at yet: filesystems of new volumes, what larger ones have
behind their old ends, and extents that move off a member. Then labels, texts and what is inside the filesystems change
together, through one log for all images. A cut leaves the old pool or the new one.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping
from contextlib import ExitStack
from pathlib import Path

from narvet.apply.contents import change_keys, fill_new, inner_of, make_content, used_runs
from narvet.block.contract import BlockDevice
from narvet.block.delayed import Delayed
from narvet.block.leases import Lease
from narvet.block.window import Window
from narvet.formats.filesystems import filesystem
from narvet.formats.images.chain import Link, commit_images, open_links, staged_image
from narvet.formats.images.children import refuse_with_children
from narvet.formats.images.held import held_image
from narvet.formats.images.trust import NOTHING_SAID, Trust
from narvet.formats.pools.device import volume_device
from narvet.formats.pools.member import (
    MemberShape,
    MemberState,
    erase_member,
    read_member,
    write_label,
    write_texts,
)
from narvet.formats.pools.tree import Pool, states_of
from narvet.ground.errors import ImageError, RefusedError
from narvet.ground.extents import Extent
from narvet.ground.meter import copied
from narvet.ground.units import MIB, counted
from narvet.ground.values import Frozen, field, replace
from narvet.model.estate import Disk
from narvet.model.moves import Answer, Lies
from narvet.model.pools import MemberPlace, PlannedPool, PlannedVolume
from narvet.observe.images import Look
from narvet.observe.pools import on_volume
from narvet.plan.diff import diff_disk

_AT_ONCE = 128 * MIB  # that are stored: what takes more is not kept in a log
_PIECE = 4 * MIB
_TOLD = 2

_Devices = dict[str, BlockDevice]
"""The partitions that members lie on, by the members' ids."""


class ChangePool(Frozen):
    """Make a pool, or make one that was found into the one that is wanted.

    `folders` are where children of its images may lie. `moves` is what changes, in words, and `asked` what the ledger
    is to know of each volume.
    """

    pool: PlannedPool
    folders: tuple[str, ...] = ()
    trust: Trust = NOTHING_SAID
    moves: tuple[str, ...] = ()
    asked: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    guest_may_run = False
    comes_last = False
    lies_in = Lies.STORE

    @property
    def is_change(self) -> bool:
        """Whether it exists already."""
        return self.pool.before is not None

    @property
    def disk(self) -> str:
        """The pool, as something with a name."""
        return self.pool.name

    @property
    def guest(self) -> str:
        """The guest that uses it."""
        return self.pool.guest

    @property
    def touches(self) -> str:
        """The image of its first member."""
        return next(iter(self.pool.members.values())).path

    @property
    def needs_keys(self) -> bool:
        """Whether anything on it is sealed."""
        return any(part.seal for one in self.pool.volumes for part in one.wanted.partitions)

    @property
    def summary(self) -> str:
        """What becomes of it, in a few words."""
        told = (
            [f"pool {self.pool.name}: {self.moves[0]}", *self.moves[1:]] if self.moves else [f"pool {self.pool.name}"]
        )
        if len(told) > _TOLD + 1:
            return f"{'; '.join(told[:_TOLD])}; {counted(len(told) - _TOLD, 'more change')}"
        return "; ".join(told)

    def apply(self) -> dict[str, object]:
        """Change it; a cut at any moment leaves the old pool or the new one.

        Raises:
            ImageError: what it would become does not read as what is wanted.
            RefusedError: somebody uses an image, it is not what was found, or there is no room.
        """
        with ExitStack() as stack:
            links: dict[str, tuple[Link, ...]] = {}
            leases: list[Lease] = []
            for path in sorted({os.path.realpath(one.path) for one in self._places.values()}):
                links[path], leased = stack.enter_context(held_image(Path(path), self.trust))
                refuse_with_children(Path(path), self.folders)
                leases.append(leased)

            def check() -> None:
                for one in leases:
                    one.check()

            self._check_same(links)
            delayed: list[tuple[PlannedVolume, Delayed]] = []
            at_once = self._footprint <= _AT_ONCE and not self.pool.transfers
            if not at_once and not self._shrinks:
                delayed = self._fill_ahead(links)
            elif self.pool.transfers:
                self._move_ahead(links)
            self._change(links, delayed, check, everything=at_once or self._shrinks)
        return {
            "did": "pool changed" if self.is_change else "pool",
            "pool": self.pool.name,
            "disks": sorted({one.disk for one in self.pool.members.values()}),
            "id": self.pool.becomes.id,
            "asked": {name: dict(own) for name, own in self.asked.items()},
        }

    @property
    def _places(self) -> dict[str, MemberPlace]:
        return {**self.pool.members, **self.pool.leaving}

    @property
    def _footprint(self) -> int:
        """The most bytes that new and grown filesystems store."""
        return sum(one.wanted.partitions[0].writes for one in self.pool.volumes)

    @property
    def _shrinks(self) -> bool:
        """Whether a volume gets smaller: nothing lies behind an old end then that could be filled ahead."""
        return any(one.found is not None and one.wanted.size < one.found.size for one in self.pool.volumes)

    def _windows(self, images: Mapping[str, BlockDevice]) -> _Devices:
        return {
            plain: Window(images[os.path.realpath(one.path)], one.start, one.size)
            for plain, one in self._places.items()
        }

    def _opened(self, links: Mapping[str, tuple[Link, ...]], stack: ExitStack, *, writable: bool) -> _Devices:
        sectors = {os.path.realpath(one.path): one.sector_size for one in self._places.values()}
        return self._windows(
            {
                path: stack.enter_context(open_links(own, sectors[path], writable=writable))
                for path, own in links.items()
            }
        )

    def _check_same(self, links: Mapping[str, tuple[Link, ...]]) -> None:
        """Raise RefusedError if the pool is not the one that the plan was worked out from."""
        with ExitStack() as stack:
            devices = self._opened(links, stack, writable=False)
            states = {plain: read_member(device) for plain, device in devices.items()}
            if not self._is_same(states, devices):
                raise RefusedError(
                    f"pool {self.pool.name}: it was changed since it was looked at; nothing was changed; write again"
                )

    def _is_same(self, states: Mapping[str, MemberState | None], devices: _Devices) -> bool:
        before = self.pool.before
        own = {one.id for one in before.members} if before else set()
        for plain, state in states.items():
            if state is None or state.shape != self._places[plain].shape:
                return False
            newer = state.pool is not None and before is not None and state.pool.seqno > before.seqno
            if newer or (plain not in own and state.pool is not None):
                return False
        if before is None:
            return True
        newest = [state.pool for plain, state in states.items() if plain in own and state is not None]
        if before not in newest:
            return False
        known = ((one.old, one.found) for one in self.pool.volumes if one.found is not None)
        return all(_plain(self._read(before, name, devices)) == _plain(found) for name, found in known)

    def _read(self, pool: Pool, name: str, devices: _Devices) -> Disk:
        """Return what lies on a volume of a pool."""
        by_name = {one.name: devices[one.id] for one in pool.members}
        sector = max(one.sector_size for one in self._places.values())
        return on_volume(volume_device(pool, pool.volume(name), by_name, sector), name, self.pool.place, Look())

    def _volume(self, volume: PlannedVolume, devices: _Devices) -> BlockDevice:
        """Return a volume as it is to be."""
        becomes = self.pool.becomes
        by_name = {one.name: devices[one.id] for one in becomes.members}
        return volume_device(becomes, becomes.volume(volume.volume), by_name, volume.wanted.image.sector_size)

    def _larger(self, volume: PlannedVolume, devices: _Devices) -> BlockDevice:
        """Return a volume as it was or is to be, whichever is larger."""
        before = self.pool.before
        if before is None or volume.found is None or volume.found.size <= volume.wanted.size:
            return self._volume(volume, devices)
        by_name = {one.name: devices[one.id] for one in before.members}
        return volume_device(before, before.volume(volume.old), by_name, volume.wanted.image.sector_size)

    def _fill_ahead(self, links: Mapping[str, tuple[Link, ...]]) -> list[tuple[PlannedVolume, Delayed]]:
        """Write what nobody looks at yet; return what is still to be done."""
        with ExitStack() as stack:
            devices = self._opened(links, stack, writable=True)
            self._move(devices)
            delayed = self._fill(devices)
            for device in devices.values():
                device.flush()
        return delayed

    def _move_ahead(self, links: Mapping[str, tuple[Link, ...]]) -> None:
        with ExitStack() as stack:
            devices = self._opened(links, stack, writable=True)
            self._move(devices)
            for device in devices.values():
                device.flush()

    def _move(self, devices: _Devices) -> None:
        """Copy extents that move; where they go to, nobody looks yet."""
        before, becomes = self.pool.before, self.pool.becomes
        if before is None:
            return
        places = {one.name: (devices[one.id], one.start) for one in (*becomes.members, *before.members)}
        for one in self.pool.transfers:
            (source, base), (target, other) = places[one.source[0]], places[one.target[0]]
            start, to = base + one.source[1] * before.extent, other + one.target[1] * before.extent
            size = one.count * before.extent
            target.zero(to, size)
            for run, length in source.extents(start, start + size):
                for at in range(run, run + length, _PIECE):
                    data = source.read(at, min(_PIECE, run + length - at))
                    target.write(to + at - start, data)
                    copied(len(data))

    def _fill(self, devices: _Devices) -> list[tuple[PlannedVolume, Delayed]]:
        """Write new filesystems, and what grown ones have behind their old ends; return what is still to be done."""
        delayed = []
        for volume in self.pool.volumes:
            part, device = volume.wanted.partitions[0], self._larger(volume, devices)
            was = volume.found.size if volume.found is not None and volume.old else 0
            if was < volume.wanted.size:
                device.zero(was, volume.wanted.size - was)
            if not volume.old:
                self._blank_states(volume, devices)
                make_content(device, part, volume.place)
            elif part.resizing is not None:
                kept = Delayed(inner_of(device, part, volume.place), part.resizing.before.size)
                part.resizing.write(kept)
                delayed.append((volume, kept))
        return delayed

    def _blank_states(self, volume: PlannedVolume, devices: _Devices) -> None:
        """Make what tells of the state of a mirrored volume's copies blank, so that its guest begins them anew."""
        becomes = self.pool.becomes
        by_name = {one.name: (devices[one.id], one.start) for one in becomes.members}
        for state in states_of(becomes, becomes.volume(volume.volume)):
            for segment in state.segments:
                for name, first in segment.parts:
                    device, start = by_name[name]
                    device.zero(start + first * becomes.extent, segment.count * becomes.extent)

    def _change(
        self,
        links: Mapping[str, tuple[Link, ...]],
        delayed: list[tuple[PlannedVolume, Delayed]],
        check: Callable[[], object],
        *,
        everything: bool,
    ) -> None:
        """Make the change itself: what is left of it, or `everything` at once."""
        sectors = {os.path.realpath(one.path): one.sector_size for one in self._places.values()}
        with ExitStack() as stack:
            staged = {path: stack.enter_context(staged_image(own, sectors[path])) for path, own in links.items()}
            devices = self._windows({path: one.device for path, one in staged.items()})
            used = {one.volume: self._used(one, devices) for one in self.pool.volumes if one.found is not None}
            if everything:
                delayed = self._fill(devices)
            for volume, kept in delayed:
                inside = inner_of(self._larger(volume, devices), volume.wanted.partitions[0], volume.place)
                kept.replay(inside)
                fill_new(inside, volume.wanted.partitions[0], used.get(volume.volume, ()))
            for volume in self.pool.volumes:
                if volume.found is not None:
                    change_keys(self._volume(volume, devices), volume.wanted.partitions[0], volume.place)
            for volume in self._corrected():
                wanted = volume.wanted.partitions[0].filesystem
                if wanted is not None:
                    device = inner_of(self._volume(volume, devices), volume.wanted.partitions[0], volume.place)
                    filesystem(wanted.kind).correct(device, wanted)
            self._write_texts(devices)
            for device in devices.values():
                device.flush()
            self._check_becomes(devices)
            commit_images(list(staged.values()), check)

    def _used(self, volume: PlannedVolume, devices: _Devices) -> tuple[Extent, ...]:
        """Return where the filesystem of a sealed volume that gets another size keeps something as it was found."""
        part, before = volume.wanted.partitions[0], self.pool.before
        if part.seal is None or part.resizing is None or before is None:
            return ()
        by_name = {one.name: devices[one.id] for one in before.members if one.id in devices}
        device = volume_device(before, before.volume(volume.old), by_name, volume.wanted.image.sector_size)
        return used_runs(inner_of(device, part, volume.place), replace(part, filesystem=part.there))

    def _corrected(self) -> Iterator[PlannedVolume]:
        """Yield the volumes on whose filesystems label, owner or mode are to be others than they are."""
        for volume in self.pool.volumes:
            part = volume.wanted.partitions[0]
            there, wanted = part.there, part.filesystem
            if there is not None and wanted is not None:
                was, becomes = ((one.label, one.uid, one.gid, one.mode) for one in (there, wanted))
                if was != becomes:
                    yield volume

    def _shape(self, plain: str) -> MemberShape:
        place = self.pool.members[plain]
        return place.shape.resized(place.size) if place.size > place.shape.size else place.shape

    def _write_texts(self, devices: _Devices) -> None:
        """Write labels and texts: a member that gets larger has its last ring at its new end."""
        for plain, place in self.pool.members.items():
            device, shape = devices[plain], self._shape(plain)
            write_label(device, shape, in_use=True)
            moved = tuple(ring for ring in shape.rings if ring not in place.shape.rings)
            for ring in moved:
                device.zero(*ring)
            write_texts(device, shape.rings, self.pool.becomes)
        for plain, place in self.pool.leaving.items():
            erase_member(devices[plain], place.shape)

    def _check_becomes(self, devices: _Devices) -> None:
        """Read what the pool is about to become, and raise ImageError unless that is what is wanted."""
        becomes = self.pool.becomes
        for plain in self.pool.members:
            state = read_member(devices[plain])
            if state is None or state.stale or state.pool != becomes or state.shape != self._shape(plain):
                raise ImageError(f"pool {self.pool.name}: a member would not read as it is to; nothing was changed")
        for volume in self.pool.volumes:
            found = self._read(becomes, volume.volume, devices)
            for one in diff_disk(volume.place, volume.wanted, found, is_copied=False):
                if one.answer is not Answer.LEAVE:
                    asked, there = one.texts
                    raise ImageError(
                        f"{volume.place}: it cannot be changed, as something on it is not what it seems: "
                        f"{one.aspect.title} would become {there}, not {asked}; nothing of that was done"
                    )


def _plain(disk: Disk) -> tuple[object, ...]:
    """Return what tells whether what lies on a volume is still what it was."""
    states = (part.filesystem and replace(part.filesystem, findings=(), account=None) for part in disk.partitions)
    return disk.size, tuple(states)
