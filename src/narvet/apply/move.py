"""An image that goes to another place, host, or form: copied, compared, published, and only then removed.

A cut leaves the old image, or both; the next write finds both and goes on, once it has compared them again.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from narvet.apply.afar import Lending, Offer, at_size, content_held, give_back, offer, receive
from narvet.apply.copying import Source, copy_disk, source_of, verify_copy
from narvet.apply.staging import new_image, rights_of
from narvet.block.granules import Content, content_of
from narvet.block.leases import Lease, Stamps, lease, stamps
from narvet.block.locks import exclusive_lock
from narvet.block.names import rename_new, sync_file, sync_folder
from narvet.block.publish import recover, take_place, withdraw, workspace
from narvet.fleet.claims import Run, claimed
from narvet.fleet.standing import stay_inside
from narvet.fleet.wire import runs_elsewhere
from narvet.formats.images import image_format
from narvet.formats.images.chain import chain, open_links, own_parts_of
from narvet.formats.images.children import refuse_with_children
from narvet.formats.images.contract import ImageSpec
from narvet.formats.images.trust import NOTHING_SAID, Trust
from narvet.ground.errors import BugError, RefusedError
from narvet.ground.units import show_binary, show_both
from narvet.ground.values import Frozen, replace
from narvet.model.estate import Disk
from narvet.model.moves import Lies, Question


class MoveImage(Frozen):
    """Bring a disk's image from where it was found to its place, in the form that is wanted, and remove the old one.

    `wanted` is the image with the size that it has then. `folders` are where children of it may lie.
    """

    disk: str
    guest: str
    found: Disk
    wanted: Disk
    spec: ImageSpec
    folders: tuple[str, ...] = ()
    trust: Trust = NOTHING_SAID
    guest_may_run = False
    is_change = True
    comes_last = False
    lies_in = Lies.STORE

    @property
    def touches(self) -> str:
        """The new image."""
        return self.wanted.path

    @property
    def summary(self) -> str:
        """Where it comes from, and what form it gets."""
        form = _form(self.found, self.wanted)
        if self.found.path == self.wanted.path:
            return f"rewritten in its place{form}"
        return f"moved from {self.found.path}{form}"

    @property
    def intent(self) -> dict[str, object]:
        """That it is about to move, so that an old image left by a cut is known to be just that."""
        if self.found.path == self.wanted.path:
            return {}
        return {"did": "moving", "disk": self.disk, "from": self.found.path}

    def apply(self) -> dict[str, object]:
        """Move it; nothing is removed before the new image was compared with the old one byte by byte.

        Raises:
            RefusedError: somebody uses the image, others stand on it, the copy is not the same, or there is no room.
        """
        old, new = Path(os.path.realpath(self.found.path)), Path(self.touches)
        with exclusive_lock(old):
            recover(old)
            refuse_with_children(old, self.folders)
            source = source_of(old, self.trust, self.spec.sector_size)
            if len(source.links) > 1:
                raise RefusedError(f"{old}: it is a child of {source.links[1].path}; fold it before it is moved")
            if old == Path(os.path.realpath(new)):
                self._anew(source, old)
            elif self._is_renamed(source, new):
                with lease(old, change=True) as held:
                    held.check()
                    rename_new(old, new)
                    sync_folder(new.parent)
                    sync_folder(old.parent)
            else:
                self._copied(source, old, new)
        did = {"did": "image", "disk": self.disk, "size": self.wanted.size, "id": self.wanted.table_id or None}
        return did if self.found.path == self.wanted.path else {**did, "from": self.found.path}

    def _is_renamed(self, source: Source, new: Path) -> bool:
        """Return whether another name is all that the image needs."""
        link = source.links[0]
        return (
            link.kind.name == self.wanted.image.format
            and len(link.files) == 1
            and not self._changes_form
            and self.spec.size == source.size
            and os.stat(link.path).st_dev == os.stat(new.parent).st_dev  # noqa: PTH116 (one of them is a folder)
        )

    @property
    def _changes_form(self) -> bool:
        there, wanted = self.found.image, self.wanted.image
        full = wanted.space == "full" and there.space != "full"
        return full or (wanted.block_size not in (0, there.block_size))

    def _copied(self, source: Source, old: Path, new: Path) -> None:
        kind, before = image_format(self.wanted.image.format), stamps(source.files)
        with new_image(new, kind, rights=rights_of(old)) as built:
            changed = copy_disk(source, built, kind, self.spec)
            verify_copy(source, built, kind, self.spec, changed)
        with _unchanged(source.files, before) as held:
            withdraw(old, own_parts_of(source.links[0].kind, old), held.check)

    def _anew(self, source: Source, path: Path) -> None:
        """Write an image anew in its own place, which only one in a single file can be."""
        kind, before = image_format(self.wanted.image.format), stamps(source.files)
        if len(source.files) > 1:
            raise RefusedError(f"{path}: it is kept in pieces; recast it to another name, and give the disk that")
        with workspace(path) as built:
            changed = copy_disk(source, built, kind, self.spec)
            verify_copy(source, built, kind, self.spec, changed)
            sync_file(built)
            with _unchanged(source.files, before) as held:
                held.check()
                take_place(built, path)


class BringImage(Frozen):
    """Bring a disk's image from the host it was found on to its place on another, in the form that is wanted.

    `there` is the image as it was found, `wanted` as it is with the size that it has then. `folders` are where children
    of it may lie. `offered` is what its host lends for this step.
    """

    disk: str
    guest: str
    there: Disk
    wanted: Disk
    spec: ImageSpec
    folders: tuple[str, ...] = ()
    trust: Trust = NOTHING_SAID
    offered: Offer | None = None
    guest_may_run = False
    is_change = True
    comes_last = False
    lies_in = Lies.STORE

    @property
    def touches(self) -> str:
        """The new image."""
        return self.wanted.path

    @property
    def summary(self) -> str:
        """Where it comes from, and what form it gets."""
        return f"brought from {_where(self.there)}{_form(self.there, self.wanted)}"

    @property
    def intent(self) -> dict[str, object]:
        """That it is about to move, so that an old image left by a cut is known to be just that."""
        return {"did": "moving", "disk": self.disk, **self._origin}

    @property
    def _origin(self) -> dict[str, object]:
        return {"from": self.there.path, "from_host": self.there.image.host}

    @property
    def _lending(self) -> Lending:
        path, sector = self.there.path, self.spec.sector_size
        return Lending(path, self.trust, sector, self.spec.size, moves=True, folders=self.folders)

    @property
    def question(self) -> Question:
        """That its host lends it."""
        return Question(self.there.image.host, offer, (self._lending,))

    @property
    def undoing(self) -> Question | None:
        """That its host lends it no longer."""
        return Question(self.there.image.host, give_back, (self.offered,)) if self.offered else None

    @property
    def ending(self) -> Question:
        """That the image goes where it was, if it is still what was lent."""
        before = self.offered.stamps if self.offered else ()
        return Question(self.there.image.host, remove_lent, (self._lending, before))

    def answered(self, answer: Offer) -> BringImage:
        """Return the step with what is lent."""
        return replace(self, offered=answer)

    def apply(self) -> dict[str, object]:
        """Copy what is lent to a new image, and read that again.

        Raises:
            RefusedError: it is not lent any more, somebody wrote to it, the copy is not the same, or there is no room.
        """
        if self.offered is None:
            raise BugError(f"nobody lends {self.there.path}")
        kind = image_format(self.wanted.image.format)
        with new_image(Path(self.touches), kind, rights=self.offered.rights) as built:
            try:
                receive(self.offered, built, kind, self.spec)
            except RefusedError as error:
                raise RefusedError(f"{_where(self.there)}: {error}; nothing was changed") from error
        size, number = self.wanted.size, self.wanted.table_id or None
        return {"did": "image", "disk": self.disk, "size": size, "id": number, **self._origin}


def _where(image: Disk) -> str:
    """Return where an image lies, in words."""
    host = image.image.host
    return f"{image.path} on host {host}" if host else f"{image.path} on this machine"


def _form(found: Disk, wanted: Disk) -> str:
    """Return what becomes of an image's form, in words."""
    forms = [(one.image.format, one.image.space) for one in (found, wanted)]
    form = f", now {forms[1][0]}, {forms[1][1]}" if forms[0] != forms[1] else ""
    if wanted.size < found.size:
        form += f", {show_both(found.size)} become {show_both(wanted.size)}"
    return form


class RemoveOldImage(Frozen):
    """Remove the image that a disk was moved from, once it is sure that the new one is the same.

    That is left of a move that was cut off. `there` is what the new one holds.
    """

    disk: str
    guest: str
    old: Disk
    wanted: Disk
    spec: ImageSpec
    folders: tuple[str, ...] = ()
    trust: Trust = NOTHING_SAID
    there: Content | None = None
    guest_may_run = False
    is_change = True
    comes_last = False
    lies_in = Lies.STORE

    @property
    def host(self) -> str:
        """The host of the old image."""
        return self.old.image.host

    @property
    def touches(self) -> str:
        """The old image."""
        return self.old.path

    @property
    def summary(self) -> str:
        """What goes, in a few words."""
        away = self.old.image.host != self.wanted.image.host
        where = _where(self.wanted) if away else self.wanted.path
        return f"old image removed, {show_binary(self.old.image.stored)} stored; it is at {where} now"

    @property
    def question(self) -> Question:
        """What the new image holds."""
        image = self.wanted.image
        return Question(image.host, content_held, (image.path, image.format, self.spec.sector_size))

    def answered(self, answer: Content) -> RemoveOldImage:
        """Return the step with what the new image holds."""
        return replace(self, there=answer)

    undoing = None

    def apply(self) -> dict[str, object]:
        """Look whether both hold the same, and remove the old one.

        Raises:
            RefusedError: they differ, so that nothing tells which of them is the disk's.
        """
        old = Path(os.path.realpath(self.old.path))
        if self.there is None:
            raise BugError(f"nobody told what is in place of {old}")
        with exclusive_lock(old):
            recover(old)
            refuse_with_children(old, self.folders)
            source = source_of(old, self.trust, self.spec.sector_size)
            before = stamps(source.files)
            with lease(*source.files, change=False), open_links(source.links, self.spec.sector_size) as device:
                mine = content_of(at_size(device, self.there.size, source.found.table), self.there.key)
            if mine != self.there:
                raise RefusedError(
                    f"{old}: it carries the same ids as {_where(self.wanted)}, but another content; see which of them "
                    "is the disk's, and move the other one away"
                )
            with _unchanged(source.files, before) as held:
                withdraw(old, own_parts_of(source.links[0].kind, old), held.check)
        now = self.wanted.image
        return {"did": "image removed", "disk": self.disk, "now": now.path, "now_host": now.host}


@runs_elsewhere
def remove_lent(lending: Lending, before: Stamps, run: Run | None = None) -> None:
    """Remove an image that another host has by now, if its files are still what they were when it was lent.

    Raises:
        RefusedError: they are not, somebody uses it, or others stand on it.
    """
    stay_inside(lending.path)
    path = Path(os.path.realpath(lending.path))
    with claimed(run), exclusive_lock(path):
        recover(path)
        refuse_with_children(path, lending.folders)
        link = chain(path, lending.trust.settled())[0]
        with _unchanged(link.files, before) as held:
            withdraw(path, own_parts_of(link.kind, path), held.check)


@contextmanager
def _unchanged(files: Sequence[Path], before: Stamps) -> Iterator[Lease]:
    """Hold files that are about to go, if they are still what was copied."""
    with lease(*files, change=True) as held:
        if stamps(files) != before:
            raise RefusedError(f"{files[0]}: it was changed while it was being copied; write again")
        yield held
