"""What lies inside the filesystems of an image: a folder's names, a small file's text, a file taken out."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path

from narvet.block.locks import exclusive_lock
from narvet.block.names import sync_file
from narvet.block.publish import publish, recover, workspace
from narvet.formats.filesystems.trees import FileTree, HasFiles, Kind, Node, walked, whole
from narvet.formats.images.chain import devices_of, opened_chain
from narvet.formats.images.trust import Trust, trust_of_call
from narvet.formats.volumes import Volume, volumes_over
from narvet.ground.budget import budget
from narvet.ground.errors import ImageError, NarvetError, RefusedError, RequestError
from narvet.ground.meter import OnCopied, copied, expected, metered
from narvet.ground.offers import offers
from narvet.ground.units import MIB, show_binary
from narvet.ground.values import Frozen, replace

LARGEST_SHOWN = MIB
"""Bytes of a file that is shown."""

MOST_NAMES = 1 << 17
"""Names of a folder that are listed."""

_PIECE = 4 * MIB


class Named(Frozen):
    """A name in a folder, and what it leads to; `target` is a link's text. `fault` is why that cannot be told."""

    name: str
    node: Node
    target: str = ""
    fault: str = ""


class Looked(Frozen):
    """What lies at a place inside an image.

    `kind` is the filesystem, `number` its partition, 0 for the whole disk, `volume` its name where it is one of a
    pool's, `label` what it is called. A folder has
    `names`, and `more` if there are others; a small file its `content`, None where it is too large to be shown.
    """

    image: str
    number: int
    kind: str
    label: str
    inside: str
    node: Node
    names: tuple[Named, ...] = ()
    more: bool = False
    content: bytes | None = None
    volume: str = ""


def look(
    image: Path, inside: str = "/", *, partition: int | str | None = None, image_format: str | None = None,
    bases: Sequence[Path] = (), members: Sequence[Path] = (),
) -> Looked:  # fmt: skip
    """Return what lies at a path inside a filesystem of an image; nothing is changed, and nothing in it is trusted.

    `partition` is its number, 0 for a disk without a table, or the name of a volume with that of its pool,
    `cold.readings`; it may be left out where one filesystem keeps files. `members` are the images that the pool's other
    members lie on. `image_format` and `bases` are as with `survey`.

    Raises:
        RequestError: there is no such image, filesystem or path.
        ImageError: what is there is not sound.
        UnsafePathError: links lead in circles.
    """
    with _opened(image, partition, image_format, bases, members) as (volume, tree):
        path, node = _found(tree, image, volume, inside)
        looked = _looked(image, volume, path, node)
        if node.kind == Kind.FOLDER:
            names = tuple(_names(tree, node))
            return replace(looked, names=tuple(sorted(names, key=lambda one: one.name)), more=len(names) == MOST_NAMES)
        if node.kind == Kind.FILE and node.size <= LARGEST_SHOWN:
            return replace(looked, content=whole(tree, node, path, LARGEST_SHOWN))
        return looked


def take_out(
    image: Path, inside: str, out: Path, on_copied: OnCopied | None = None, *, partition: int | str | None = None,
    image_format: str | None = None, bases: Sequence[Path] = (), members: Sequence[Path] = (), dry: bool = False,
) -> Looked:  # fmt: skip
    """Copy a file from inside an image to a new file `out`; a `dry` call only looks whether that can be done.

    Raises:
        RequestError: as `look`, or there is no file at `inside`, or `out` is there already.
        RefusedError: the system refused, or there is no room.
    """
    if os.path.lexists(out) or not out.absolute().parent.is_dir():
        reason = "it is there already; name a new file" if os.path.lexists(out) else "there is no such folder"
        raise RequestError(f"{out}: {reason}")
    with _opened(image, partition, image_format, bases, members) as (volume, tree), metered(on_copied):
        path, node = _found(tree, image, volume, inside)
        if node.kind != Kind.FILE:
            raise RequestError(f"{path} in {image} is no file, but a {node.kind}; name a file to take out")
        looked = _looked(image, volume, path, node)
        if not dry:
            try:
                _copy(tree, node, out)
            except OSError as error:
                raise RefusedError(f"{out}: {error.strerror or error}; nothing of it is left there") from error
    return looked


def _looked(image: Path, volume: Volume, path: str, node: Node) -> Looked:
    return Looked(str(image), volume.number, volume.state.kind, volume.label, path, node, volume=volume.name)


def _copy(tree: FileTree, file: Node, out: Path) -> None:
    """Write a file's content to a new file, which gets its name once it is whole; holes stay holes."""
    expected(sum(run.length for run in tree.stored(file)))
    with exclusive_lock(out):
        recover(out)
        with workspace(out) as built:
            with built.open("wb") as copy:
                copy.truncate(file.size)
                for start, length in tree.stored(file):
                    for place in range(start, start + length, _PIECE):
                        data = tree.read(file, place, min(_PIECE, start + length - place))
                        copy.seek(place)
                        copy.write(data)
                        copied(len(data))
            sync_file(built)
            publish(built, out)


@contextmanager
def _opened(
    image: Path,
    partition: int | str | None,
    image_format: str | None,
    bases: Sequence[Path],
    members: Sequence[Path],
) -> Iterator[tuple[Volume, FileTree]]:
    """Open the files of one filesystem of an image."""
    trust = trust_of_call(image, image_format, bases, by_content=True)
    with ExitStack() as stack:
        opened = [stack.enter_context(opened_chain(image, trust, changed_too=True))]
        opened += [stack.enter_context(opened_chain(one, Trust(by_content=True), changed_too=True)) for one in members]
        stack.enter_context(budget(sum(link.facts.allocated for one in opened for link in one.links)))
        volume = _chosen(image, volumes_over(*devices_of(opened)), partition)
        if not offers(volume.kind, HasFiles):
            raise RequestError(f"{image}: {_named(volume)} keeps no files")
        try:
            yield volume, volume.kind.tree(volume.device)
        except ImageError as error:
            raise ImageError(f"{image}, {_named(volume)}: {error}") from error


def _chosen(image: Path, volumes: tuple[Volume, ...], partition: int | str | None) -> Volume:
    if partition is not None:
        found = next((one for one in volumes if one.place == partition), None)
        if found is None:
            there = ", ".join(map(_named, volumes)) or "nothing that is known here"
            on = f"partition {partition}" if isinstance(partition, int) else f"volume {partition}"
            more = "" if isinstance(partition, int) else "; name the images of its pool's other members with --member"
            raise RequestError(f"{image}: there is no filesystem on {on}; it has {there}{more}")
        return found
    with_files = tuple(one for one in volumes if offers(one.kind, HasFiles))
    if len(with_files) == 1:
        return with_files[0]
    if not with_files:
        raise RequestError(f"{image}: it has no filesystem with files that is known here")
    there = ", ".join(map(_named, with_files))
    raise RequestError(f"{image}: files lie on {there}; say which, such as {image}:{with_files[0].place}")


def _named(volume: Volume) -> str:
    label = f' "{volume.label}"' if volume.label else ""
    on = f" on volume {volume.name}" if volume.name else f" on partition {volume.number}" if volume.number else ""
    return f"{volume.state.kind}{label}{on}"


def _found(tree: FileTree, image: Path, volume: Volume, inside: str) -> tuple[str, Node]:
    """Return the plain path of what lies at `inside`, and what it is."""
    path = "/" + "/".join(part for part in inside.split("/") if part not in ("", "."))
    place = walked(tree, path, path)
    if place.node is None:
        reason = "is a link to something that is not on this filesystem" if place.linked else "is not there"
        raise RequestError(f"{path} {reason}, on {_named(volume)} of {image}; look at its folder to see what is")
    return path, place.node


def _names(tree: FileTree, folder: Node) -> Iterator[Named]:
    for count, (name, reference) in enumerate(tree.names(folder)):
        if count == MOST_NAMES:
            return
        try:
            node = tree.node(reference)
            yield Named(name, node, tree.target(node) if node.kind == Kind.LINK else "")
        except NarvetError as error:
            yield Named(name, Node(0, Kind.OTHER), fault=str(error))


def too_large(looked: Looked) -> str:
    """Return why a file is not shown, with what to do."""
    size, most = show_binary(looked.node.size), show_binary(LARGEST_SHOWN)
    return f"{looked.inside} has {size}; up to {most} are shown. Take it out with --out FILE."
