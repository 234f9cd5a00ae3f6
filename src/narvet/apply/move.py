"""An image that goes to another place, or into another form: copied, compared, published, and only then removed.

A cut leaves the old image, or both; the next write finds both and goes on, once it has compared them again.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from narvet.apply.copying import Source, copy_disk, source_of, verify_copy
from narvet.apply.staging import new_image
from narvet.block.leases import Lease, lease
from narvet.block.locks import exclusive_lock
from narvet.block.names import rename_new, sync_file, sync_folder
from narvet.block.publish import recover, take_place, withdraw, workspace
from narvet.formats.images import image_format
from narvet.formats.images.chain import own_parts_of
from narvet.formats.images.children import refuse_with_children
from narvet.formats.images.contract import ImageSpec
from narvet.formats.images.trust import NOTHING_SAID, Trust
from narvet.ground.errors import RefusedError
from narvet.ground.units import show_binary, show_both
from narvet.model.estate import Disk
from narvet.model.moves import Lies


@dataclass(frozen=True)
class MoveImage:
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
        forms = [(one.image.format, one.image.space) for one in (self.found, self.wanted)]
        form = f", now {forms[1][0]}, {forms[1][1]}" if forms[0] != forms[1] else ""
        if self.wanted.size < self.found.size:
            form += f", {show_both(self.found.size)} become {show_both(self.wanted.size)}"
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
        kind, before = image_format(self.wanted.image.format), _stamps(source.files)
        with new_image(new, kind, like=old) as built:
            changed = copy_disk(source, built, kind, self.spec)
            verify_copy(source, built, kind, self.spec, changed)
        with _unchanged(source.files, before) as held:
            withdraw(old, own_parts_of(source.links[0].kind, old), held.check)

    def _anew(self, source: Source, path: Path) -> None:
        """Write an image anew in its own place, which only one in a single file can be."""
        kind, before = image_format(self.wanted.image.format), _stamps(source.files)
        if len(source.files) > 1:
            raise RefusedError(f"{path}: it is kept in pieces; recast it to another name, and give the disk that")
        with workspace(path) as built:
            changed = copy_disk(source, built, kind, self.spec)
            verify_copy(source, built, kind, self.spec, changed)
            sync_file(built)
            with _unchanged(source.files, before) as held:
                held.check()
                take_place(built, path)


@dataclass(frozen=True)
class RemoveOldImage:
    """Remove the image that a move was cut off before removing, once it is sure that the new one is the same."""

    disk: str
    guest: str
    old: Disk
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
        """The old image."""
        return self.old.path

    @property
    def summary(self) -> str:
        """What goes, in a few words."""
        return f"old image removed, {show_binary(self.old.image.stored)} stored; it is at {self.wanted.path} now"

    def apply(self) -> dict[str, object]:
        """Compare both, and remove the old one.

        Raises:
            RefusedError: they differ, so that nothing tells which of them is the disk's.
        """
        old, new = Path(os.path.realpath(self.old.path)), Path(self.wanted.path)
        with exclusive_lock(old):
            recover(old)
            refuse_with_children(old, self.folders)
            source = source_of(old, self.trust, self.spec.sector_size)
            before = _stamps(source.files)
            try:
                verify_copy(source, new, image_format(self.wanted.image.format), self.spec)
            except RefusedError:
                raise RefusedError(
                    f"{old}: it carries the same ids as {new}, but another content; see which of them is the disk's, "
                    "and move the other one away"
                ) from None
            with _unchanged(source.files, before) as held:
                withdraw(old, own_parts_of(source.links[0].kind, old), held.check)
        return {"did": "image removed", "disk": self.disk}


def _stamps(files: Sequence[Path]) -> list[tuple[int, int]]:
    return [(about.st_mtime_ns, about.st_size) for about in (file.stat() for file in files)]


@contextmanager
def _unchanged(files: Sequence[Path], before: list[tuple[int, int]]) -> Iterator[Lease]:
    """Hold files that are about to go, if they are still what was copied."""
    with lease(*files, change=True) as held:
        if _stamps(files) != before:
            raise RefusedError(f"{files[0]}: it was changed while it was being copied; write again")
        yield held
