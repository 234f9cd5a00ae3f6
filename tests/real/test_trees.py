"""Files inside filesystems: what a real kernel wrote is read alike to the last byte, attribute and link."""

from __future__ import annotations

import fcntl
import hashlib
import os
import stat
import struct
from array import array
from collections import defaultdict
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any
from uuid import UUID

import pytest

from narvet.block.delayed import Delayed
from narvet.block.file import FileDevice
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import Wishes
from narvet.formats.filesystems.trees import ChangesFiles, EditedTree, FileTree, HasFiles, Kind, Node, Owner
from narvet.ground.checksums import crc32c_raw
from narvet.ground.errors import RefusedError
from narvet.ground.units import KIB, MIB
from tests.program import HERE
from tests.real import load
from tests.real.kernel import mounted, quiet_log, shown

pytestmark = pytest.mark.kernel

MOMENT = 1772409600
CONTENTS = {
    "small": b"another ten",
    "hundred": b"",
    "in pieces": b"whole again\n" * 3000,
    "pieces": b"x",
    "mapped": b"m" * 70_000,
    "mapped twice": b"M" * 9_000_000,
    "copy": b"no longer shared " * 3000,
    "new": b"n" * 9000,
    "new and large": bytes(range(256)) * 20000,
    "short one": b"s",
}

_KINDS = {stat.S_IFDIR: Kind.FOLDER, stat.S_IFREG: Kind.FILE, stat.S_IFLNK: Kind.LINK}
_GET_FLAGS, _SET_FLAGS, _CLONE, _USES_EXTENTS = 0x80086601, 0x40086602, 0x40049409, 0x80000
_INLINE, _LARGE_DIR, _EA_INODE = 0x8000, 0x4000, 0x400
CASES = {
    "ext4": ("ext4", {}, 0),
    "ext4 of 1 KiB": ("ext4", {"unit": KIB}, 0),
    "ext4 inline": ("ext4", {}, _INLINE | _LARGE_DIR | _EA_INODE),
    "ext4 in clusters": ("ext4", {"unit": 64 * KIB}, 0),
    "xfs": ("xfs", {}, 0),
    "xfs of 1 KiB": ("xfs", {"unit": KIB}, 0),
}


def made(image: Path, name: str, size: int, wishes: dict[str, Any], features: int = 0) -> None:
    """Make a filesystem on a new image, with features of ext4 that Narvet itself does not choose."""
    kind = filesystem(name)
    with image.open("x+b", buffering=0) as file:
        file.truncate(size)
        kind.plan(size, Wishes(UUID(int=7), "seeds", mode=0o755, **wishes)).write(FileDevice(file))
        if features:
            block = bytearray(os.pread(file.fileno(), 1024, 1024))
            struct.pack_into("<I", block, 0x60, struct.unpack_from("<I", block, 0x60)[0] | features)
            struct.pack_into("<I", block, 1020, crc32c_raw(0xFFFFFFFF, bytes(block[:1020])))
            os.pwrite(file.fileno(), block, 1024)


def spread_out(place: Path) -> None:
    """Add folders of every form, contents in thousands of pieces, and attributes of every size."""
    for count in (3, 40, 900, 12_000):
        (place / f"folder of {count}").mkdir()
        for number in range(count):
            (place / f"folder of {count}" / f"leek {number:06} {'n' * (number % 90)}").touch()
    with (place / "in pieces").open("wb", buffering=0) as file:
        for piece in range(4000):
            os.pwrite(file.fileno(), piece.to_bytes(4, "little") * 64, piece * 12288)
    for name, size in (("mapped", 9000), ("mapped twice", 40_000)):  # of ext4: found by maps of single blocks
        (place / name).write_bytes(bytes([len(name)]) * size)
        os.sync()
        with suppress(OSError), (place / name).open("rb") as file:
            flags = array("l", [0])
            fcntl.ioctl(file, _GET_FLAGS, flags)
            fcntl.ioctl(file, _SET_FLAGS, array("l", [flags[0] & ~_USES_EXTENTS]))
    (place / "original").write_bytes(b"shared " * 9000)
    with (place / "original").open("rb") as original, (place / "copy").open("wb") as copy:
        try:
            fcntl.ioctl(copy, _CLONE, original.fileno())  # of xfs: both share all blocks
        except OSError:
            copy.write(original.read())
    (place / "small").write_bytes(b"ten bytes.")
    (place / "hundred").write_bytes(b"h" * 100)
    (place / "short").symlink_to("small")
    for size in (1, 30, 900, 3000):
        with suppress(OSError):  # where blocks are small there is no room for the largest
            os.setxattr(place / "small", f"user.of{size}", bytes([size % 251]) * size)
    os.setxattr(place / "folder of 3", "security.selinux", b"system_u:object_r:var_t:s0\0")
    os.setxattr(place / "folder of 40", "trusted.note", b"t" * 200)
    os.utime(place / "hundred", (1, 1))
    os.utime(place / "small", (5_000_000_000, 5_000_000_000))
    os.sync()


def by_kernel(folder: Path) -> dict[str, Any]:
    """Return what a mounted filesystem tells of everything in it."""
    result = {}
    for place in sorted(folder.rglob("*")):
        about = place.lstat()
        kind = _KINDS.get(stat.S_IFMT(about.st_mode), Kind.OTHER)
        text = str(place.readlink()) if kind == Kind.LINK else ""
        content = hashlib.sha256(place.read_bytes()).hexdigest() if kind == Kind.FILE else text
        marks = {
            name: os.getxattr(place, name, follow_symlinks=False) for name in os.listxattr(place, follow_symlinks=False)
        }
        size = about.st_size if kind == Kind.FILE else 0
        facts = (kind, size, about.st_mode & 0o7777, about.st_uid, about.st_gid, int(about.st_mtime), about.st_nlink)
        result[str(place.relative_to(folder))] = (*facts, content, marks)
    return result


def by_narvet(tree: FileTree, folder: Node | None = None, path: str = "") -> dict[str, Any]:
    """Return what a tree tells of everything in it, in the same form; holes are not read."""
    result: dict[str, Any] = {}
    for name, reference in tree.names(folder or tree.root):
        node, own = tree.node(reference), f"{path}{name}"
        content = tree.target(node) if node.kind == Kind.LINK else ""
        if node.kind == Kind.FILE:
            whole = bytearray(node.size)
            for start, length in tree.stored(node):
                whole[start : start + length] = tree.read(node, start, length)
            content = hashlib.sha256(whole).hexdigest()
        size = node.size if node.kind == Kind.FILE else 0
        facts = (node.kind, size, node.mode, node.uid, node.gid, node.modified, node.names)
        result[own] = (*facts, content, dict(tree.attributes(node)))
        if node.kind == Kind.FOLDER:
            result |= by_narvet(tree, node, f"{own}/")
    return result


@contextmanager
def tree_of(image: Path, name: str) -> Iterator[FileTree]:
    """Open the files of a filesystem that fills an image."""
    kind = filesystem(name)
    assert isinstance(kind, HasFiles)
    with image.open("rb", buffering=0) as file:
        yield kind.tree(FileDevice(file))


def alike(image: Path, name: str, place: Path) -> None:
    """Compare everything; what differs is named."""
    with quiet_log(), mounted(image, place) as there:
        wanted = by_kernel(there)
    with tree_of(image, name) as tree:
        found = by_narvet(tree)
    differ: dict[str, list[Any]] = defaultdict(list)
    for path in wanted.keys() | found.keys():
        if wanted.get(path) != found.get(path):
            differ[path] += [wanted.get(path), found.get(path)]
    assert not differ, dict(list(differ.items())[:3])


@pytest.mark.parametrize("case", CASES)
def test_what_the_kernel_wrote_is_read_alike(tmp_path: Path, case: str) -> None:
    name, wishes, features = CASES[case]
    image = tmp_path / "image.raw"
    made(image, name, 400 * MIB, wishes, features)
    with quiet_log(), mounted(image, tmp_path) as place:
        load.aged(place, 7, 60 * MIB)
        spread_out(place)
    alike(image, name, tmp_path)


EDITED = list(CASES)


def edits(tree: EditedTree, place: str = "") -> dict[str, Any]:
    """Make folders everywhere, replace files, remove a folder; return what is there then and was not before."""
    made, owner = dict[str, Any](), Owner(70001, 1300, 0o2750)
    marks = {"security.selinux": b"system_u:object_r:var_t:s0\0"}
    for path in ("", "folder of 3", "folder of 40", "folder of 900", "folder of 12000", "shelf 3"):
        folder = tree.look_up(tree.root, path) if path else tree.root
        assert folder is not None
        for number in range(16):
            name = f"point {number:02} {'p' * (14 * number)}"
            new = tree.make_folder(folder, name, owner, marks if number % 2 else {})
            folder = tree.look_up(tree.root, path) if path else tree.root
            assert folder is not None
            made[f"{path}/{name}".strip("/")] = (
                Kind.FOLDER,
                0,
                0o2750,
                70001,
                1300,
                MOMENT,
                2,
                "",
                marks if number % 2 else {},
            )
            assert new.kind == Kind.FOLDER
    for name, content in CONTENTS.items():
        before = tree.look_up(tree.root, name)
        tree.replace(tree.root, name, content)
        checksum = hashlib.sha256(content).hexdigest()
        about = (
            (0o644, 0, 0, MOMENT, 1) if before is None else (before.mode, before.uid, before.gid, MOMENT, before.names)
        )
        made[name] = (Kind.FILE, len(content), *about, checksum, dict(tree.attributes(before)) if before else {})
    return made


def remove_files(tree: EditedTree, was: dict[str, Any], kept: dict[str, Any]) -> list[str]:
    """Remove sixty of the files that were there and have one name; return the paths of those that went."""
    files = [path for path, one in was.items() if one[0] == Kind.FILE and one[6] == 1 and path not in kept]
    gone = []
    for path in files[:: len(files) // 60]:
        *above, name = path.split("/")
        folder: Node | None = tree.root
        for one in above:
            folder = tree.look_up(folder, one) if folder else None
        assert folder is not None
        gone += [path] if tree.remove_file(folder, name) else []
        assert tree.look_up(folder, name) is None or was[path][-1]
    assert len(gone) > 50 and not tree.remove_file(tree.root, "pieces")
    return gone


@pytest.mark.parametrize("case", EDITED)
def test_files_are_changed_and_the_kernel_goes_on(tmp_path: Path, case: str) -> None:
    name, wishes, features = CASES[case]
    image, kind = tmp_path / "image.raw", filesystem(CASES[case][0])
    made(image, name, 400 * MIB, wishes, features)
    with quiet_log(), mounted(image, tmp_path) as place:
        load.aged(place, 7, 60 * MIB)
        spread_out(place)
        (place / "empty" / "inner").mkdir(parents=True)
        was = by_kernel(place)
    assert isinstance(kind, ChangesFiles)
    with image.open("r+b", buffering=0) as file:
        tree = kind.edited(FileDevice(file), MOMENT)
        made_now = edits(tree)
        gone = remove_files(tree, was, made_now)
        wanted = {path: one for path, one in was.items() if path not in gone} | made_now
        empty = tree.look_up(tree.root, "empty")
        assert empty is not None and not tree.remove_folder(tree.root, "empty") and tree.remove_folder(empty, "inner")
        assert tree.remove_folder(tree.root, "empty") and not tree.remove_folder(tree.root, "empty")
        shelf = tree.look_up(tree.root, "shelf 5")
        assert shelf is not None and tree.own(shelf, Owner(5, 6, 0o700))
        state = kind.read(FileDevice(file), HERE)
    assert state is not None and state.findings == ()
    del wanted["empty"], wanted["empty/inner"]
    wanted["shelf 7/the same"] = wanted["pieces"]  # two names of one file
    wanted["shelf 5"] = (*wanted["shelf 5"][:2], 0o700, 5, 6, *wanted["shelf 5"][5:])
    with quiet_log(), mounted(image, tmp_path) as place:
        now = by_kernel(place)
        for path, one in list(wanted.items()):
            if now.get(path) != one and one[0] == Kind.FOLDER and path in was:  # what was put into it counts there
                wanted[path] = (*one[:5], MOMENT, now[path][6], *one[7:])
        assert {path: now.get(path) for path, one in wanted.items() if now.get(path) != one} == {}
        assert len(now) == len(wanted)
        assert shown(place)["free"] == state.free
        for path, number in (("folder of 12000", 3000), ("", 500), ("folder of 3", 400)):
            for index in range(number):
                (place / path / f"later {index} {'l' * (index % 100)}").mkdir()
        filled = load.fill(place / "more", 3)
        load.verify(filled)
        load.delete_half(filled)
    with quiet_log(), mounted(image, tmp_path) as place:
        load.verify(filled)
    with image.open("rb", buffering=0) as file:
        state = kind.read(FileDevice(file), HERE)
    assert state is not None and state.findings == ()


@pytest.mark.parametrize("name", ["ext4", "xfs"])
def test_what_is_nearly_full_takes_what_fits_and_refuses_the_rest(tmp_path: Path, name: str) -> None:
    """No inode or no block left where one is looked for: others are taken, then it is refused; all stays sound."""
    image, kind = tmp_path / "image.raw", filesystem(name)
    made(image, name, 64 * MIB, {"inode_each": 256 * KIB} if name == "ext4" else {})
    with quiet_log(), mounted(image, tmp_path) as place:
        (place / "here").mkdir()
        filled = load.fill(place, 5)
        for number in range(400):
            with suppress(OSError):
                (place / "here" / f"takes an inode {number}").touch()
        small = [path for path in filled if 30_000 < path.stat().st_size < 400_000] or list(filled)[:1]
        for path in small[:2]:
            path.unlink()
            del filled[path]
    assert isinstance(kind, ChangesFiles)
    told, count = "", 0
    while not told and count < 2000:
        with image.open("r+b", buffering=0) as file:
            staged = Delayed(FileDevice(file), 64 * MIB)
            tree = kind.edited(staged, MOMENT)
            folder = tree.look_up(tree.root, "here")
            assert folder is not None
            try:
                for number in range(5):
                    tree.make_folder(folder, f"new {count + number} {'n' * 100}", Owner(0, 0, 0o755), {})
            except RefusedError as error:
                told = str(error)
                continue
            staged.replay(FileDevice(file))
            count += 5
    assert "room" in told or "inode" in told
    with image.open("rb", buffering=0) as file:
        state = kind.read(FileDevice(file), HERE)
    assert state is not None and state.findings == ()
    with quiet_log(), mounted(image, tmp_path) as place:
        load.verify(filled)
        assert sum(one.name.startswith("new") for one in (place / "here").iterdir()) == count
        assert shown(place)["free"] == state.free
