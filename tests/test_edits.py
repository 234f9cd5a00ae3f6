"""Folders and files made, replaced and removed inside filesystems, held against a model; no kernel is needed."""

from __future__ import annotations

import functools
import os
import tempfile
from typing import Any
from uuid import UUID

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from narvet.block.delayed import Delayed
from narvet.block.file import FileDevice
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import Wishes
from narvet.formats.filesystems.trees import ChangesFiles, FileTree, HasFiles, Kind, MountsVolumes, Node, Owner, whole
from narvet.ground.errors import RefusedError
from narvet.ground.units import KIB, MIB
from tests.program import HERE

SIZE = 40 * MIB
MADE = [("ext4", 1 * KIB), ("ext4", 4 * KIB), ("xfs", 4 * KIB), ("ntfs", 4 * KIB), ("ntfs", 512)]
STEMS = ("a", "seed", "sämling", "x" * 60, "leaf" * 40)
SIZES = (0, 1, 59, 156, 157, 700, 4096, 4097, 70_000, 300_000)
Path = tuple[str, ...]
Model = dict[Path, bytes | None]
"""What there is, by its names from the root on: a file's content, None for a folder."""

names = st.builds(lambda stem, number: f"{stem}{number}", st.sampled_from(STEMS), st.integers(0, 12))
numbers = st.integers(0, 1 << 30)
steps = st.one_of(
    st.tuples(st.just("folder"), numbers, names),
    st.tuples(st.just("many"), numbers, names),
    st.tuples(st.just("file"), numbers, names, st.sampled_from(SIZES)),
    st.tuples(st.just("remove"), numbers),
    st.tuples(st.just("remove_file"), numbers),
    st.tuples(st.just("own"), numbers),
    st.tuples(st.just("mount"), numbers, names),
)


@functools.cache
def fresh(name: str, unit: int) -> FileDevice:
    """Return an empty filesystem, which stays as it is."""
    file = tempfile.TemporaryFile(buffering=0)  # noqa: SIM115 - open for all examples
    file.truncate(SIZE)
    wishes = Wishes(UUID(int=5), "SEEDS", unit=unit)
    filesystem(name).plan(SIZE, wishes).write(FileDevice(file))
    return FileDevice(file)


def found(tree: FileTree, folder: Node, way: Path, model: Model) -> None:
    """Put all that is below a folder into a model."""
    for name, reference in tree.names(folder):
        node, path = tree.node(reference), (*way, name)
        if not way and (name == "lost+found" or name.startswith("$")):
            continue
        model[path] = whole(tree, node, name, SIZE) if node.kind == Kind.FILE else None
        if node.kind == Kind.FOLDER:
            found(tree, node, path, model)


def node_of(tree: FileTree, path: Path) -> Node:
    """Return what lies at a path."""
    node = tree.root
    for name in path:
        below = tree.look_up(node, name)
        assert below is not None, path
        node = below
    return node


class Edited:
    """A filesystem that is being edited, and the model of what is in it."""

    def __init__(self, name: str, unit: int) -> None:
        self.kind = filesystem(name)
        self.device = Delayed(fresh(name, unit), SIZE)
        self.model: Model = {(): None}
        self.owners: dict[Path, Owner] = {}
        self.mounts: dict[Path, UUID] = {}
        self.open(0)

    def open(self, step: int) -> None:
        """Open it anew, at a later time."""
        assert isinstance(self.kind, ChangesFiles)
        self.tree = self.kind.edited(self.device, 1772409600 + step)

    def a_folder(self, number: int) -> Path:
        """Return one of the folders."""
        folders = sorted(path for path, content in self.model.items() if content is None and path not in self.mounts)
        return folders[number % len(folders)]

    def folder(self, step: int, path: Path, name: str) -> None:
        """Make a folder, where nothing has its name."""
        if (*path, name) not in self.model:
            owner = Owner(step, step * 70_000, 0o700 + step % 64)
            self.tree.make_folder(node_of(self.tree, path), name, owner, {})
            self.model[*path, name], self.owners[*path, name] = None, owner

    def many(self, step: int, path: Path, name: str) -> None:
        """Make many folders."""
        for number in range(30):
            self.folder(step, path, f"{name} {number}")

    def file(self, step: int, path: Path, name: str, size: int) -> None:
        """Make a file, or give one another content; a folder stays one."""
        content, folder = bytes([step % 251 + 1]) * size, node_of(self.tree, path)
        if self.model.get((*path, name), b"") is None:
            with pytest.raises(RefusedError):
                self.tree.replace(folder, name, content)
        else:
            self.tree.replace(folder, name, content)
            self.model[*path, name] = content

    def remove(self, step: int, path: Path) -> None:
        """Remove a folder, which only an empty one lets happen."""
        del step
        if path:
            is_empty = not any(other[: len(path)] == path for other in self.model if other != path)
            assert self.tree.remove_folder(node_of(self.tree, path[:-1]), path[-1]) is is_empty
            if is_empty:
                del self.model[path], self.owners[path]

    def remove_file(self, step: int, path: Path) -> None:
        """Remove one of the files of a folder; the folder itself is none."""
        files = sorted(other for other, content in self.model.items() if other[:-1] == path and content is not None)
        for gone in files[step % (len(files) or 1) :][:1]:
            assert self.tree.remove_file(node_of(self.tree, path), gone[-1])
            del self.model[gone]
        if path:
            assert not self.tree.remove_file(node_of(self.tree, path[:-1]), path[-1])

    def own(self, step: int, path: Path) -> None:
        """Give a folder another owner, where the filesystem has any."""
        owner = Owner(step * 70_000, step, 0o755)
        if path and self.tree.own(node_of(self.tree, path), owner):
            self.owners[path] = owner

    def mount(self, step: int, path: Path, name: str) -> None:
        """Mount a volume, where the filesystem lets folders lead to volumes."""
        if isinstance(self.tree, MountsVolumes) and (*path, name) not in self.model:
            self.tree.mount(node_of(self.tree, path), name, UUID(int=step + 1))
            self.model[*path, name], self.mounts[*path, name] = None, UUID(int=step + 1)

    def compare(self) -> None:
        """Hold what is on the device against the model."""
        kind, there = self.kind, Model({(): None})
        assert isinstance(kind, HasFiles)
        tree = kind.tree(self.device)
        found(tree, tree.root, (), there)
        assert there == self.model
        for path, owner in self.owners.items() if kind.name != "ntfs" else ():
            node = node_of(tree, path)
            assert (node.uid, node.gid, node.mode) == (owner.uid, owner.gid, owner.mode)
        for path, volume in self.mounts.items():
            assert str(volume) in tree.target(node_of(tree, path))
        state = kind.read(self.device, HERE)
        assert state is not None and state.findings == () and not state.unclean


@pytest.mark.parametrize(("name", "unit"), MADE)
@settings(max_examples=int(os.environ.get("NARVET_TRIES", "25")), deadline=None)
@given(asked=st.lists(steps, max_size=40), anew=st.integers(1, 9))
def test_what_is_there_is_what_was_made(name: str, unit: int, asked: list[tuple[Any, ...]], anew: int) -> None:
    """Steps at random, opened anew now and then: names, contents, owners and mounts are as a model has them, and sound."""
    edited = Edited(name, unit)
    for step, (what, at, *rest) in enumerate(asked):
        if step % anew == 0:
            edited.open(step)
        getattr(edited, what)(step, edited.a_folder(at), *rest)
    edited.compare()
