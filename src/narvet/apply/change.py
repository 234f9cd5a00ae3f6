"""A disk that exists becomes what is wanted, in one change that is made all at once, or in two where it is a large one.

Of two, first the image grows, and the table's second copy follows to its end: the disk is sound, with room at its end.
Then what lies behind the ends of partitions and filesystems is filled, where nobody looks yet; and at last the table's
entries and what is inside the filesystems change together. A cut leaves one of these disks, and the next write goes on
from there.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from pathlib import Path

from narvet.apply.contents import change_keys, fill_new, inner_of, make_content, used_runs
from narvet.block.contract import BlockDevice
from narvet.block.delayed import Delayed
from narvet.block.leases import Lease
from narvet.block.window import Window
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import FilesystemState, Resizing
from narvet.formats.images.chain import Link, StagedImage, chain, open_links, staged_image
from narvet.formats.images.children import refuse_with_children
from narvet.formats.images.held import held_image
from narvet.formats.images.trust import NOTHING_SAID, Trust
from narvet.formats.tables import table_format
from narvet.formats.tables.contract import EndsWithDisk, PartitionEntry
from narvet.ground.errors import ImageError, RefusedError
from narvet.ground.extents import Extent
from narvet.ground.findings import Place, disk_place
from narvet.ground.offers import offers
from narvet.ground.rules.tables import table_not_at_end
from narvet.ground.units import MIB, counted, show_both
from narvet.ground.values import Frozen, field, replace
from narvet.model.estate import NO_TABLE, Disk, Partition
from narvet.model.moves import Answer, Lies
from narvet.observe.images import survey, survey_opened
from narvet.plan.diff import diff_disk

_AT_ONCE = 128 * MIB  # that are stored: what takes more is not kept in a log
_TOLD = 2  # changes that are spelt out where there are many


class ChangeDisk(Frozen):
    """Make a disk that was found into the one that is wanted; see `model.moves` for what may change.

    `piece` is the most bytes that a file of an image in pieces may have, `is_copied` whether its partitions are those
    of another image that it came from, `folders` where children of it may lie. `moves` is what changes, in words, and
    `asked` what the ledger is to know of it.
    """

    disk: str
    guest: str
    wanted: Disk
    found: Disk
    piece: int | None = None
    is_copied: bool = False
    folders: tuple[str, ...] = ()
    trust: Trust = NOTHING_SAID
    moves: tuple[str, ...] = ()
    asked: Mapping[str, str] = field(default_factory=dict)
    guest_may_run = False
    is_change = True
    comes_last = False
    lies_in = Lies.STORE

    @property
    def host(self) -> str:
        """The host that the image is on now."""
        return self.found.image.host

    @property
    def needs_keys(self) -> bool:
        """Whether anything on it is sealed."""
        return self.wanted.is_sealed or self.found.is_sealed

    @property
    def touches(self) -> str:
        """The image."""
        return self.wanted.path

    @property
    def summary(self) -> str:
        """What becomes of it, in a few words."""
        if self.wanted.size != self.found.size:
            return f"{show_both(self.found.size)} become {show_both(self.wanted.size)}"
        if len(self.moves) > _TOLD:
            return f"{'; '.join(self.moves[:_TOLD])}; {counted(len(self.moves) - _TOLD, 'more change')}"
        return "; ".join(self.moves)

    def apply(self) -> dict[str, object]:
        """Change it; a cut at any moment leaves a sound disk that the next write goes on from.

        Raises:
            ImageError: what it would become does not read as what is wanted.
            RefusedError: somebody uses it, it is not what was found, it is the base of others, or there is no room.
        """
        path = Path(os.path.realpath(self.touches))
        with held_image(path, self.trust) as (links, leased):
            self._check_same(path)
            if self._footprint <= _AT_ONCE or self._shrinks:
                self._change(links, leased, [], everything=True)
            else:
                if self._gets_another_end:
                    self._enlarge(links, leased)
                now = tuple(chain(path, self.trust))
                self._change(now, leased, self._fill_ahead(now))
        return {
            "did": "disk changed",
            "disk": self.disk,
            "size": self.wanted.size,
            "id": self.wanted.table_id or None,
            "asked": dict(self.asked),
        }

    @property
    def _shrinks(self) -> bool:
        """Whether anything gets smaller; nothing is filled ahead then, as nothing lies behind an old end."""
        smaller = any(
            part.there.size > part.resizing.state.size
            for part in self.wanted.partitions
            if part.there and part.resizing
        )
        return smaller or self.wanted.size < self.found.size

    @property
    def _gets_another_end(self) -> bool:
        """Whether the disk gets larger, or did so by other hands, which left its table where it was."""
        return self.wanted.size > self.found.size or any(table_not_at_end.made(one) for one in self.found.findings)

    @property
    def _footprint(self) -> int:
        """The most bytes that new and grown filesystems store."""
        grown = sum(part.writes for part in self.wanted.partitions if part.resizing)
        return grown + sum(part.writes for part in self._added() if part.new)

    def _check_same(self, path: Path) -> None:
        """Raise RefusedError if the disk is not the one that the plan was worked out from, or others stand on it."""
        there = survey(str(path), deep=False, trust=self.trust, sector_size=self._sector_size)
        if _marks(there) != _marks(self.found):
            raise RefusedError(f"{path}: it was changed since it was looked at; nothing was changed; write again")
        refuse_with_children(path, self.folders)

    @property
    def _sector_size(self) -> int:
        return self.wanted.image.sector_size or self.found.image.sector_size

    def _enlarge(self, links: tuple[Link, ...], leased: Lease) -> None:
        with staged_image(links, self._sector_size) as staged:
            self._enlarge_staged(staged)
            staged.commit(leased.check)

    def _enlarge_staged(self, staged: StagedImage) -> None:
        if self.wanted.size > self.found.size:
            staged.enlarge(self.wanted.size, full=self.wanted.image.space == "full", piece=self.piece)
        self._follow_end(staged.device)

    def _shorten_staged(self, staged: StagedImage) -> None:
        self._follow_end(Window(staged.device, 0, self.wanted.size))
        staged.shorten(self.wanted.size)

    def _follow_end(self, device: BlockDevice) -> None:
        """Fit the table to the end of `device`."""
        if self.found.table == NO_TABLE:
            return
        table = table_format(self.found.table)
        if offers(table, EndsWithDisk):
            table.follow_end(device, self.found.size)
            device.flush()

    def _fill_ahead(self, links: tuple[Link, ...]) -> list[tuple[Partition, Delayed]]:
        """Write new filesystems, and what grown ones have behind their old end; return what is still to be done."""
        resizings = list(self._resizings())
        new = [part for part in self._added() if part.new is not None or part.member is not None]
        if not resizings and not new:
            return []
        with open_links(links, self._sector_size, writable=True) as device:
            for part in new:
                self._make(device, part)
            delayed = [(part, self._resize(device, part, resizing)) for part, resizing in resizings]
            device.flush()
        return delayed

    def _resizings(self) -> Iterator[tuple[Partition, Resizing]]:
        return ((part, part.resizing) for part in self.wanted.partitions if part.resizing is not None)

    def _make(self, device: BlockDevice, part: Partition) -> None:
        """Write a filesystem where no partition lies yet: whatever was there reads as zeros first."""
        device.zero(part.start, part.size)
        make_content(Window(device, part.start, part.size), part, self._where(part))

    def _where(self, part: Partition) -> Place:
        return disk_place(self.disk).part(part.number)

    def _inner(self, device: BlockDevice, part: Partition, size: int = 0) -> BlockDevice:
        """Return what the filesystem of a partition lies on, at least `size` bytes of it."""
        offset = part.seal.offset if part.seal else 0
        window = Window(device, part.start, max(part.size, size + offset))
        return inner_of(window, part, self._where(part))

    def _added(self) -> Iterator[Partition]:
        there = {part.number for part in self.found.partitions}
        return (part for part in self.wanted.partitions if part.number not in there)

    def _entries(self) -> list[PartitionEntry]:
        """Return the entries of the table that are to be others than they are."""
        there = {part.number: part.entry for part in self.found.partitions}
        return [part.entry for part in self.wanted.partitions if part.number and there.get(part.number) != part.entry]

    def _corrected(self) -> Iterator[tuple[Partition, FilesystemState]]:
        """Yield the filesystems whose label, owner, mode or links are to be others than they are."""
        for part in self.wanted.partitions:
            there, wanted = part.there, part.filesystem
            if there is None or wanted is None:
                continue
            targets = dict(there.links)
            leads = all(targets.get(path, "") == target for path, target in wanted.links)
            if _told(there) != _told(wanted) or not leads:
                yield part, wanted

    def _change(
        self,
        links: tuple[Link, ...],
        leased: Lease,
        delayed: list[tuple[Partition, Delayed]],
        *,
        everything: bool = False,
    ) -> None:
        """Make the last change: all that is left of it, or `everything` at once."""
        entries = self._entries()
        with staged_image(links, self._sector_size) as staged:
            if everything and self._gets_another_end:
                self._enlarge_staged(staged)
            device = staged.device
            used = {part.number: self._used(device, part) for part, _ in self._resizings() if part.seal}
            if everything:
                for part in self._added():
                    self._make(device, part)
                delayed = [(part, self._resize(device, part, resizing)) for part, resizing in self._resizings()]
            for part, kept in delayed:
                inside = self._inner(device, part, kept.size)
                kept.replay(inside)
                fill_new(inside, part, used.get(part.number, ()))
            for part in self.wanted.partitions:
                change_keys(Window(device, part.start, part.size), part, self._where(part))
            for part, wanted in self._corrected():
                filesystem(wanted.kind).correct(self._inner(device, part), wanted)
            if entries:
                table_format(self.found.table).change(device, entries)
            device.flush()
            if self.wanted.size < self.found.size:
                self._shorten_staged(staged)
            self._check_becomes(staged)
            staged.commit(leased.check)

    def _used(self, device: BlockDevice, part: Partition) -> tuple[Extent, ...]:
        """Return where the filesystem of a partition keeps something as it was found."""
        before = replace(part, filesystem=part.there)
        return used_runs(self._inner(device, part, part.there.size if part.there else 0), before)

    def _resize(self, device: BlockDevice, part: Partition, resizing: Resizing) -> Delayed:
        delayed = Delayed(self._inner(device, part, resizing.before.size), resizing.before.size)
        resizing.write(delayed)
        return delayed

    def _check_becomes(self, staged: StagedImage) -> None:
        """Read what the disk is about to become, and raise ImageError unless that is what is wanted."""
        becomes = survey_opened(self.wanted.path, staged.chain, self._sector_size)
        here = replace(becomes.image, space=self.wanted.image.space, host=self.wanted.image.host)
        becomes = replace(becomes, image=here)
        for one in diff_disk(disk_place(self.disk), self.wanted, becomes, is_copied=self.is_copied):
            if one.answer is not Answer.LEAVE:
                asked, there = one.texts
                raise ImageError(
                    f"{self.touches}: it cannot be changed, as something on it is not what it seems: {one.where} "
                    f"{one.aspect.title} would become {there}, not {asked}; nothing of that was done"
                )


def _told(state: FilesystemState) -> tuple[object, ...]:
    return state.label, state.uid, state.gid, state.mode


def _marks(disk: Disk) -> tuple[object, ...]:
    """Return what tells whether a disk is still what it was: all of it that a plan rests on."""
    return (
        disk.size,
        disk.table,
        disk.table_id,
        tuple(
            (part.entry, part.filesystem and replace(part.filesystem, findings=(), account=None), part.member)
            for part in disk.partitions
        ),
    )
