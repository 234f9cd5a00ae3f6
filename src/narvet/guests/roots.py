"""A guest's root, wherever it lies: a folder of this machine, or a filesystem inside an image. It is not trusted.

In an image everything that is changed while it is open takes effect at once when it is closed well, or not at all.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, ExitStack, contextmanager, nullcontext
from pathlib import Path

from narvet.formats.filesystems.contract import CannotChangeError
from narvet.formats.filesystems.trees import (
    ChangesFiles,
    EditedTree,
    FileTree,
    HasFiles,
    Kind,
    Node,
    Place,
    UnsafePathError,
    walked,
    whole,
)
from narvet.formats.images.chain import OpenChain, commit_images, devices_of, opened_chain
from narvet.formats.images.held import staged_images
from narvet.formats.images.trust import Trust
from narvet.formats.volumes import Volume, volumes_over
from narvet.ground.budget import budget
from narvet.ground.errors import NarvetError, RefusedError
from narvet.ground.findings import Place as FindingPlace
from narvet.ground.findings import guest_place, image_place
from narvet.ground.offers import offers
from narvet.ground.rules import guests as rules
from narvet.guests.contract import GuestAsked
from narvet.guests.host_tree import HostTree
from narvet.model.estate import Guest, Root

LARGEST_FILE = 16 << 20  # accounts of a hundred thousand people; more is not a file of this kind

IsRoot = Callable[[FileTree], bool]
"""Whether a tree of files is the root of a guest's system."""


class NoRootError(NarvetError):
    """There is no root where one is expected."""

    status = 2


class OpenRoot:
    """A root, open: what its paths lead to. `unclean` is why nothing in it may be changed, empty if it may.

    `volume` is what it lies on in an image.
    """

    def __init__(self, root: Root, tree: FileTree, unclean: str = "", volume: Volume | None = None) -> None:
        self.root = root
        self.tree = tree
        self.unclean = unclean
        self.volume = volume

    @contextmanager
    def place(self, inside: str, *, follow: bool = True) -> Iterator[Place]:
        """Yield where `inside` leads, as far as there are folders; those stay open as long as the context lasts.

        Raises:
            UnsafePathError: links lead in circles.
        """
        scope: AbstractContextManager[None] = self.tree.scope() if isinstance(self.tree, HostTree) else nullcontext()
        with scope:
            yield walked(self.tree, inside, self.shown(inside), follow=follow)

    def shown(self, inside: str) -> str:
        """Return a path as messages have it."""
        return self.root.shown(inside)

    def is_folder(self, inside: str) -> bool:
        """Return whether there is a folder at `inside`."""
        with self.place(inside) as place:
            return not place.missing

    def read(self, inside: str) -> bytes | None:
        """Return a file's content, None where there is none.

        Raises:
            UnsafePathError: a link there leads nowhere in the root, or what is there is not a plain file of sane size.
        """
        with self.place(inside) as place:
            return self.content(place)

    def content(self, place: Place, most: int = LARGEST_FILE) -> bytes | None:
        """Return the content of the file at a place, at most so many bytes, None where there is none; see `read`."""
        shown = self.shown(place.inside)
        if not place.missing:
            raise UnsafePathError(f"{shown} is not a plain file")
        if place.node is None:
            if place.linked:
                raise UnsafePathError(f"{shown} is a link to something that is not in the guest's root")
            return None
        return whole(self.tree, place.node, shown, most)


class ChangedRoot(OpenRoot):
    """A root that is being changed."""

    def __init__(self, root: Root, tree: EditedTree) -> None:
        super().__init__(root, tree)
        self.edited = tree


def root_asked(asked: GuestAsked) -> Root | None:
    """Return where a sheet says that a guest's root lies, None where it does not."""
    form = asked.form.root_form
    if form is None:
        return None
    path = str(asked.sheet.parent / form.image)
    members = tuple(str(asked.sheet.parent / one) for one in form.members)
    formats = {} if form.format is None else {os.path.realpath(one): form.format for one in (path, *members)}
    return Root(path, form.volume or form.partition, Trust(formats), asked.moment, members)


@contextmanager
def opened_root(root: Root, is_root: IsRoot) -> Iterator[OpenRoot]:
    """Open a root to be read; a folder's own path may be a link of this machine's.

    Raises:
        OSError: there is no such folder or image, or this user may not read it.
        NoRootError: an image has no root, or several.
        ImageError: the image is not sound.
    """
    with ExitStack() as stack:
        if not _in_image(root):
            yield OpenRoot(root, stack.enter_context(_host_tree(Path(root.path))))
            return
        opened = [stack.enter_context(opened_chain(Path(one), root.trust)) for one in (root.path, *root.members)]
        stack.enter_context(budget(sum(link.facts.allocated for one in opened for link in one.links)))
        volume, tree = _chosen(opened, root, is_root)
        yield OpenRoot(root.on(volume.place), tree, volume.state.unclean or _fixed(volume), volume)


def observed_root(guest: str, root: Root, is_root: IsRoot, look: Callable[[OpenRoot], Guest]) -> Guest:
    """Return what `look` finds of a guest in its root; what cannot be used becomes a finding.

    `guest` is its name in the sheet, empty for a root outside it.
    """
    where = place_of(guest, root)
    try:
        with opened_root(root, is_root) as found:
            return look(found)
    except UnsafePathError as error:
        said = rules.root_unsafe.error(where, str(error))
    except (FileNotFoundError, NotADirectoryError):
        said = rules.root_missing.error(where, f"{root.path} is neither a folder nor an image")
    except PermissionError as error:
        said = rules.root_missing.error(where, f"{root.path}: {error.filename} cannot be read by this user")
    except NarvetError as error:
        told = str(error)
        said = rules.root_missing.error(where, told if root.path in told else f"{root.path}: {told}")
    return Guest(guest, root.shown(), root=root, findings=(said,))


def place_of(guest: str, root: Root) -> FindingPlace:
    """Return where findings about a root are: a key of the sheet, or an image outside it."""
    return guest_place(guest).key("root") if guest else image_place(root.path)


@contextmanager
def changed_root(root: Root, is_root: IsRoot) -> Iterator[ChangedRoot]:
    """Open a root to be changed, alone at work on it; in an image all changes are made at the context's end.

    Raises:
        OSError: there is no such folder or image, or this user may not change it.
        NoRootError: an image has no root, or several.
        ImageError: the image is not sound.
        RefusedError: somebody uses it, it is not clean, or it is the base of others.
    """
    with ExitStack() as stack:
        if not _in_image(root):
            tree = stack.enter_context(_host_tree(Path(root.path)))
            stack.enter_context(tree.alone())
            yield ChangedRoot(root, tree)
            return
        staged, check = stack.enter_context(staged_images((root.path, *root.members), root.trust))
        volume, _ = _chosen([one.chain for one in staged], root, is_root)
        changed = ChangedRoot(root.on(volume.place), _edited(volume, root))
        yield changed
        commit_images(staged, check)


def _edited(volume: Volume, root: Root) -> EditedTree:
    if not offers(volume.kind, ChangesFiles):
        raise RefusedError(f"{root.shown()}: files in {volume.state.kind} are not changed here; {_BY_HAND}")
    try:
        return volume.kind.edited(volume.device, root.moment)
    except CannotChangeError as error:
        raise RefusedError(f"{root.shown()}: {error}; {error.remedy}") from error


_BY_HAND = "leave root out, and paste the entries by hand"


def _fixed(volume: Volume) -> str:
    return "" if offers(volume.kind, ChangesFiles) else f"files in {volume.state.kind} are not changed here"


def _in_image(root: Root) -> bool:
    return root.partition is not None or Path(root.path).is_file()


@contextmanager
def _host_tree(path: Path) -> Iterator[HostTree]:
    handle = os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        tree = HostTree(path, handle)
        with tree.scope():
            yield tree
    finally:
        os.close(handle)


def _chosen(opened: Sequence[OpenChain], root: Root, is_root: IsRoot) -> tuple[Volume, FileTree]:
    """Return the volume of images that holds the root, and its files."""
    volumes = volumes_over(*devices_of(opened))
    trees = [(one, one.kind.tree(one.device)) for one in volumes if offers(one.kind, HasFiles)]
    if root.partition is not None:
        trees = [(one, tree) for one, tree in trees if one.place == root.partition]
        if not trees:
            there = ", ".join(f"{one.state.kind} on {one.place}" for one in volumes) or "none that is known here"
            what = "volume" if isinstance(root.partition, str) else "partition"
            raise NoRootError(f"{root.path} has no files on {what} {root.partition}; its filesystems: {there}")
        return trees[0]
    found = [(one, tree) for one, tree in trees if is_root(tree)]
    if len(found) == 1:
        return found[0]
    if not found:
        raise NoRootError(f"{root.path} has no root of this guest's system on any of its {len(volumes)} filesystems")
    what = "" if any(one.name for one, _ in found) else "partitions "
    places = what + ", ".join(str(one.place) for one, _ in found)
    first = found[0][0]
    which = f'volume = "{first.name}"' if first.name else f"partition = {first.number}"
    raise NoRootError(f'{root.path} has roots on {places}; say which: root = {{image = "…", {which}}}')


def node_at(tree: FileTree, *names: str) -> Node | None:
    """Return what lies at a path of plain names, none of which is followed as a link, None if nothing does."""
    node: Node | None = tree.root
    for name in names:
        if node is None or node.kind != Kind.FOLDER:
            return None
        node = tree.look_up(node, name)
    return node
