"""Files inside filesystems, as they are read from images that lie: bounded, without a way out, and never a traceback."""

from __future__ import annotations

import os
import random
import struct
import time
from pathlib import Path
from typing import Any
from uuid import UUID

import pytest

from narvet.block.delayed import Delayed
from narvet.block.file import FileDevice
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import Wishes
from narvet.formats.filesystems.ext4.entries import entries_of
from narvet.formats.filesystems.ext4.index import HashTree, Rules
from narvet.formats.filesystems.trees import ChangesFiles, FileTree, HasFiles, Kind, Node, Owner, walked
from narvet.formats.filesystems.xfs import file_blocks, files, trees
from narvet.ground.budget import budget
from narvet.ground.errors import NarvetError
from narvet.ground.units import MIB
from tests.program import HERE

OWNER = Owner(1, 2, 0o755)
SIZES = {"ext4": 40 * MIB, "xfs": 40 * MIB, "ntfs": 40 * MIB, "fat32": 40 * MIB, "exfat": 40 * MIB}
TRIES = int(os.environ.get("NARVET_TRIES", "250"))


def small(path: Path, name: str) -> Path:
    """Make a filesystem with folders of some forms, files and attributes; an ext4 gives up its checksums."""
    kind = filesystem(name)
    with path.open("x+b", buffering=0) as file:
        file.truncate(SIZES[name])
        kind.plan(SIZES[name], Wishes(UUID(int=3), "SEEDS")).write(FileDevice(file))
        if name == "ext4":
            block = bytearray(os.pread(file.fileno(), 1024, 1024))
            struct.pack_into("<I", block, 0x64, struct.unpack_from("<I", block, 0x64)[0] & ~0x400)
            os.pwrite(file.fileno(), block, 1024)
        if isinstance(kind, ChangesFiles):
            tree = kind.edited(FileDevice(file), 1772409600)
            inner = tree.make_folder(tree.make_folder(tree.root, "one", OWNER, {}), "two", OWNER, {})
            for number in range(60):
                tree.replace(inner, f"file {number} {'n' * number}.x", bytes([number]) * (number * 700))
            tree.make_folder(tree.root, "labelled", OWNER, {"security.selinux": b"a:b:c\0"})
            for number in range(120):
                tree.make_folder(inner, f"folder {number}", OWNER, {})
            state = kind.read(FileDevice(file), HERE)
            assert state is not None and state.findings == ()
    return path


def walk(tree: FileTree, node: Node, left: list[int], deep: int = 0) -> None:
    """Look at everything there is, some thousand names at most; folders may be their own."""
    for name, reference in tree.names(node):
        left[0] -= 1
        if left[0] < 0:
            return
        assert "/" not in name and name not in ("", ".", "..")
        try:
            one = tree.node(reference)
            tree.attributes(one)
            if one.kind == Kind.LINK:
                tree.target(one)
            elif one.kind == Kind.FILE:
                for start, length in list(tree.stored(one))[:50]:
                    tree.read(one, start, min(length, MIB))
            elif one.kind == Kind.FOLDER and deep < 100:
                walk(tree, one, left, deep + 1)
        except NarvetError:
            continue


@pytest.mark.parametrize("name", SIZES)
def test_trees_that_lie_are_bounded(tmp_path: Path, name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Bytes of what is stored changed, with checksums off: looked at, walked, changed; only our own errors come back."""
    for where, what in ((file_blocks, "is_sound"), (trees, "sound"), (files, "sound")):
        monkeypatch.setattr(where, what, lambda *_: True)
    image, dice, kind = small(tmp_path / "image.raw", name), random.Random(name), filesystem(name)
    assert isinstance(kind, HasFiles)
    with image.open("r+b", buffering=0) as file:
        device = FileDevice(file)
        walk(kind.tree(device), kind.tree(device).root, [9999])
        runs = [run for run in device.extents() if run.start < SIZES[name] - MIB]
        for _ in range(TRIES):
            start, length = dice.choice(runs)
            place = start + dice.randrange(min(length, 1 << 16)) // 4 * 4
            before = os.pread(file.fileno(), 8, place)
            wild = dice.choice(
                [b"\xff" * 4, bytes(4), dice.randbytes(4), (dice.randrange(64)).to_bytes(4, "little"), b"/../"]
            )
            os.pwrite(file.fileno(), wild, place)
            started = time.monotonic()
            try:
                with budget(1 << 20):
                    tree = kind.tree(device)
                    walk(tree, tree.root, [2000])
                    walked(tree, "/one/two/../two/file 3 nnn.x", "here")
            except NarvetError:
                pass
            if isinstance(kind, ChangesFiles):
                try:
                    with budget(1 << 20):
                        staged: Any = Delayed(device, device.size)
                        edited = kind.edited(staged, 1)
                        edited.make_folder(edited.root, "new", OWNER, {})
                        edited.replace(edited.root, "new file", b"x" * 9000)
                except NarvetError:
                    pass
            assert time.monotonic() - started < 20, (name, place, wild)
            os.pwrite(file.fileno(), before, place)


def test_hash_trees_of_three_levels() -> None:
    """Many names in blocks that are small: each is found by its hash, none is lost, and the levels grow as needed."""
    rules = Rules(256, 244, bytes(range(16)), unsigned=False, checksums=True, large=True)
    root = struct.pack("<IHBB4sIHBB4sIBBBBHHI", 2, 12, 1, 2, b".", 2, 244, 2, 2, b"..", 0, 1, 8, 0, 0, 27, 1, 1)
    blank = struct.pack("<IHBB", 0, 244, 0, 0).ljust(244, b"\0")
    tree = HashTree(rules, {0: root.ljust(256, b"\0"), 1: blank}.__getitem__, 2)
    names = [f"germination {number} {'n' * (number % 9)}".encode() for number in range(9000)]
    for number, name in enumerate(names, 12):
        tree.insert(name, number, 2)
    assert tree.changed[0][30] == 2  # levels of nodes below the root
    for number, name in enumerate(names, 12):
        node, position = tree._path(tree.hash_of(name))[-1]
        inside = {one.name: one.inode for one in entries_of(tree.block(node.pairs[position][1])[:244])}
        assert inside.get(name) == number
