"""Trees of files: what every filesystem that keeps them can do, and how a path is followed in one.

Nothing in a tree is trusted: no name, no number, no size. A path leads through links as the guest itself would follow
them, with the tree's root as "/": never out of it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Protocol, runtime_checkable
from uuid import UUID

from narvet.block.contract import BlockDevice
from narvet.ground.errors import ImageError, RefusedError
from narvet.ground.extents import Extent, cut, joined
from narvet.ground.values import Frozen

LARGEST_TARGET = 1 << 16
"""Bytes of the longest text of a link that is read."""

_MOST_LINKS = 40  # as the Linux kernel (path_resolution(7))
_MOST_FOLDERS = 4096  # one in the other


class UnsafePathError(RefusedError):
    """A path inside a root that leads in circles, nowhere, or to something that is not a file."""


class Kind(StrEnum):
    """What lies under a name."""

    FOLDER = "folder"
    FILE = "file"
    LINK = "link"
    OTHER = "other"


@dataclass(frozen=True)
class Node:
    """A file, a folder or something else in a tree.

    `number` is what the filesystem knows it by, `size` is bytes, `modified` is seconds since 1970. What a filesystem
    does not keep is None. `names` is how many lead to it. `held` is what the filesystem itself needs to read it, and
    `note` what a person should know of it.
    """

    number: int
    kind: Kind
    size: int = 0
    mode: int | None = None
    uid: int | None = None
    gid: int | None = None
    modified: int | None = None
    names: int = 1
    note: str = ""
    held: object = field(default=None, compare=False, repr=False)


class Owner(Frozen):
    """Whom a new folder belongs to, and its permissions."""

    uid: int
    gid: int
    mode: int


class FileTree(Protocol):
    """The files of one filesystem. `ignores_case` is whether names that differ in case only are one name.

    Everything may raise ImageError: what is there is not sound.
    """

    ignores_case: bool

    @property
    def root(self) -> Node:
        """The folder that all others lie in."""

    def names(self, folder: Node) -> Iterator[tuple[str, object]]:
        """Yield each name in a folder with what `node` takes, in the order they are kept, `.` and `..` left out."""

    def node(self, reference: object) -> Node:
        """Return what a name leads to."""

    def look_up(self, folder: Node, name: str) -> Node | None:
        """Return what lies under a name in a folder, None if nothing does."""

    def read(self, file: Node, offset: int, length: int) -> bytes:
        """Return the bytes of a file from `offset` on, at most `length`, fewer where it ends."""

    def stored(self, file: Node) -> Iterator[Extent]:
        """Yield the runs of bytes of a file that may be other than zero, ascending; all may be one run."""

    def target(self, link: Node) -> str:
        """Return the text of a link."""

    def attributes(self, node: Node) -> Mapping[str, bytes]:
        """Return the extended attributes of a file or folder, by their full names."""


@runtime_checkable
class EditedTree(FileTree, Protocol):
    """A tree that can be changed. Names are those of Linux: any bytes but `/` and NUL.

    Everything may raise RefusedError where there is no room, and CannotChangeError where what is there uses what
    is not known well enough here.
    """

    def make_folder(self, parent: Node, name: str, owner: Owner, attributes: Mapping[str, bytes]) -> Node:
        """Make a folder in another one."""

    def own(self, folder: Node, owner: Owner) -> bool:
        """Give a folder owner and permissions; return whether it has its owner now."""

    def remove_folder(self, parent: Node, name: str) -> bool:
        """Remove an empty folder; return whether there was one."""

    def replace(self, folder: Node, name: str, content: bytes, mode: int = 0o644) -> None:
        """Give a file another content, or make one of the superuser's; owner, rights and attributes stay.

        `mode` has the permissions of one that is made, where the filesystem keeps any.
        """

    def remove_file(self, folder: Node, name: str) -> bool:
        """Remove a file that has this one name only; return whether there was such a one.

        What it held is overwritten with zeros where it lay, as far as the filesystem lets that be known.
        """


@runtime_checkable
class MountsVolumes(EditedTree, Protocol):
    """A tree in whose folders other volumes can be mounted by what is written into it."""

    def mount(self, parent: Node, name: str, volume: UUID) -> Node:
        """Make a folder that another volume is mounted in, or mount it in an empty one that is there."""


@runtime_checkable
class HasFiles(Protocol):
    """A filesystem whose files can be read."""

    def tree(self, device: BlockDevice) -> FileTree:
        """Return the files on a device that holds this filesystem.

        Raises:
            ImageError: it is not sound.
        """


@runtime_checkable
class ChangesFiles(Protocol):
    """A filesystem whose files can be changed while no guest has it mounted."""

    def edited(self, device: BlockDevice, moment: int) -> EditedTree:
        """Return the files on a device that keeps all writes back until everything is known.

        `moment` is the time of the change, in seconds since 1970.

        Raises:
            ImageError: it is not sound.
            CannotChangeError: it is not clean, or uses what is not known well enough here.
        """


class Place(Frozen):
    """Where a path leads: the folders from the root on that are there, what it ends at, and what is missing.

    `missing` are the names that lead to no folder: a file's own, with its `node`, or what is not there.
    """

    inside: str
    way: tuple[Node, ...]
    node: Node | None
    missing: tuple[str, ...]
    linked: bool

    @property
    def folder(self) -> Node:
        """The innermost folder that is there."""
        return self.way[-1]


class TreeReader:
    """What trees share: names looked up one by one, and sizes that are bounded."""

    ignores_case = False

    def names(self, folder: Node) -> Iterator[tuple[str, object]]:
        """Yield the names in a folder."""
        raise NotImplementedError

    def node(self, reference: object) -> Node:
        """Return what a name leads to."""
        raise NotImplementedError

    def look_up(self, folder: Node, name: str) -> Node | None:
        """Return what lies under a name in a folder, None if nothing does."""
        for one, reference in self.names(folder):
            if one == name or (self.ignores_case and one.upper() == name.upper()):
                return self.node(reference)
        return None

    def stored(self, file: Node) -> Iterator[Extent]:
        """Yield all of a file."""
        if file.size:
            yield Extent(0, file.size)

    def attributes(self, node: Node) -> Mapping[str, bytes]:
        """Return no attributes: most filesystems keep none that others could take over."""
        del node
        return {}


def stored_runs(runs: Iterable[tuple[int, int]], unit: int, size: int) -> Iterator[Extent]:
    """Yield runs of blocks of a file (first and number, ascending) as bytes, those that touch as one.

    `unit` is the bytes of a block, `size` where the file ends.
    """
    for run in joined(Extent(start * unit, count * unit) for start, count in runs):
        yield from cut(run, 0, size)


def is_name(text: str) -> bool:
    """Return whether something can be the name of a file: not empty, no way out of its folder."""
    return text not in ("", ".", "..") and "/" not in text and "\0" not in text


def walked(tree: FileTree, inside: str, shown: str, *, follow: bool = True) -> Place:
    """Return where a path leads; `shown` is how messages name it.

    A path ends at the first thing that is no folder: what is left of it is `missing`, with that name first. Without
    `follow` a link at its very end is not followed.

    Raises:
        UnsafePathError: links lead in circles.
    """
    way, last = [tree.root], None
    todo, missing, links = inside.split("/")[::-1], list[str](), 0
    while todo:
        part = todo.pop()
        if part in ("", "."):
            continue
        if part == "..":
            way = way if missing else way[: max(len(way) - 1, 1)]
            missing = missing[:-1]
            continue
        found = tree.look_up(way[-1], part) if not missing else None
        if found is not None and found.kind == Kind.FOLDER:
            if len(way) == _MOST_FOLDERS:
                raise UnsafePathError(f"{shown} leads through more than {_MOST_FOLDERS} folders")
            way.append(found)
        elif found is not None and found.kind == Kind.LINK and (follow or any(one not in ("", ".") for one in todo)):
            links += 1
            if links > _MOST_LINKS:
                raise UnsafePathError(f"{shown} is a link that leads in circles")
            target = tree.target(found)
            way = way[:1] if target.startswith("/") else way
            todo += target.split("/")[::-1]
        else:
            last = last if missing else found
            missing.append(part)
    node = way[-1] if not missing else last if len(missing) == 1 else None
    return Place(inside, tuple(way), node, tuple(missing), linked=links > 0)


def mount_at(tree: MountsVolumes, inside: str, volume: UUID) -> None:
    """Mount a volume in a folder, which is made with those above it; a folder that leads to another volume goes.

    Raises:
        UnsafePathError: links lead in circles, or the path is the root's own.
        RefusedError: something else than an empty folder is there.
    """
    place = walked(tree, inside, inside, follow=False)
    folder, names = place.folder, place.missing
    if not names:
        if len(place.way) == 1:
            raise UnsafePathError(f"{inside}: nothing is mounted in the root of a volume")
        folder, names = place.way[-2], tuple(part for part in inside.split("/") if part)[-1:]
    for name in names[:-1]:
        folder = tree.make_folder(folder, name, Owner(0, 0, 0o755), {})
    there = tree.look_up(folder, names[-1])
    if there is not None and there.kind == Kind.LINK:
        tree.remove_folder(folder, names[-1])
    tree.mount(folder, names[-1], volume)


def whole(tree: FileTree, file: Node, shown: str, most: int) -> bytes:
    """Return all of a file.

    Raises:
        UnsafePathError: it is not a plain file, or has more than `most` bytes.
    """
    if file.kind != Kind.FILE:
        raise UnsafePathError(f"{shown} is not a plain file")
    if file.size > most:
        raise UnsafePathError(f"{shown} has {file.size} bytes; at most {most} are read")
    data = tree.read(file, 0, file.size)
    if len(data) != file.size:
        raise ImageError(f"{shown} has {len(data)} of its {file.size} bytes")
    return data
