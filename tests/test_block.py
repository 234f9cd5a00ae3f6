"""Block devices: each does random work as a plain byte array does, alone and stacked; bounds are kept."""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, nullcontext
from pathlib import Path

import pytest

from narvet.block import names
from narvet.block import publish as publishing
from narvet.block.contract import BlockDevice
from narvet.block.file import FileDevice
from narvet.block.leases import lease
from narvet.block.linear import Linear
from narvet.block.locks import exclusive_lock, hold_file
from narvet.block.memory import MemoryDevice
from narvet.block.names import lock_name, working_name
from narvet.block.publish import publish, recover, recover_all, replace_content, workspace
from narvet.block.staged import StagedFolder
from narvet.block.window import Window
from narvet.block.zeros import Zeros
from narvet.ground.errors import BugError, ImageError, RefusedError
from narvet.ground.units import MIB
from tests.test_images import check, work

KINDS = ("staged", "file", "memory", "window", "linear", "windows of a line of windows")


@contextmanager
def device_of(kind: str, folder: Path, size: int) -> Iterator[BlockDevice]:
    """Yield a device of `size` bytes of zeros."""
    if kind == "file":
        with (folder / "file").open("x+b", buffering=0) as file:
            file.truncate(size)
            yield FileDevice(file)
    elif kind == "memory":
        yield MemoryDevice(size)
    elif kind == "staged":
        (folder / "image").write_bytes(bytes(size // 2))
        with StagedFolder(folder / "image") as files:
            staged = files.open("image", writable=True)
            staged.resize(size)
            yield staged
    elif kind == "window":
        yield Window(MemoryDevice(size + 5000), 777, size)
    else:
        third = size // 3
        parts: list[BlockDevice] = [
            Window(MemoryDevice(third + 99), 99, third),
            MemoryDevice(0),
            MemoryDevice(size - third),
        ]
        line = Linear(parts, 512)
        yield line if kind == "linear" else Window(Linear([MemoryDevice(4096), line], 512), 4096, size)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("seed", range(3))
def test_random_work_equals_a_byte_array(tmp_path: Path, kind: str, seed: int) -> None:
    dice = random.Random(seed)
    size = dice.randrange(MIB, 3 * MIB)
    model = bytearray(size)
    with device_of(kind, tmp_path, size) as device:
        work(device, model, dice, 150)
        check(device, model)
        first = dice.randrange(size // 2)
        for start, length in device.extents(first, first + 200_000):
            assert first <= start and start + length <= first + 200_000
        device.flush()


@pytest.mark.parametrize("kind", KINDS)
def test_bounds(tmp_path: Path, kind: str) -> None:
    """Reading outside is a damaged image's fault, writing outside is our own."""
    with device_of(kind, tmp_path, MIB) as device:
        assert device.size == MIB and device.sector_size == 512
        assert device.read(MIB, 0) == b"" and device.read(0, 0) == b""
        for offset, length in ((MIB, 1), (MIB - 1, 2), (-1, 1), (0, MIB + 1), (1 << 62, 1), (0, -1)):
            with pytest.raises(ImageError):
                device.read(offset, length)
        for offset, length in ((MIB, 1), (MIB - 1, 2), (-1, 1)):
            with pytest.raises(BugError):
                device.write(offset, bytes(length))
            with pytest.raises(BugError):
                device.zero(offset, length)
        with pytest.raises(ImageError, match="does not lie on the disk"):
            Window(device, MIB - 10, 11)


def test_a_file_cut_short_while_it_is_read(tmp_path: Path) -> None:
    (tmp_path / "file").write_bytes(b"x" * 10_000)
    with (tmp_path / "file").open("r+b", buffering=0) as file:
        device = FileDevice(file)
        file.truncate(5000)
        with pytest.raises(ImageError, match="the file ends at 5000, shorter than the 10000 bytes it had"):
            device.read(4000, 3000)


@pytest.mark.parametrize("seed", range(3))
def test_what_a_file_stores_is_told_as_it_changes(tmp_path: Path, seed: int) -> None:
    """No byte that is not zero lies outside of what a device tells, whoever writes to the file or cuts holes meanwhile."""
    dice, size, path = random.Random(seed), 4 * MIB, tmp_path / "file"
    path.write_bytes(b"")
    os.truncate(path, size)
    with path.open("r+b", buffering=0) as file, path.open("r+b", buffering=0) as other:
        device = FileDevice(file)
        for _ in range(200):
            at, length = dice.randrange(size), dice.choice((1, 4096, 70_000, MIB))
            length = min(length, size - at)
            match dice.randrange(4):
                case 0:
                    device.write(at, b"x" * length)
                case 1:
                    os.pwrite(other.fileno(), b"y" * length, at)
                case 2:
                    subprocess.run(
                        ["fallocate", "--punch-hole", "--offset", str(at), "--length", str(length), path], check=True
                    )
                case _:
                    device.zero(at, length)
            first = dice.randrange(size)
            told = [(start, start + run) for start, run in device.extents(first, first + MIB)]
            content = bytearray(path.read_bytes()[first : first + MIB])
            for start, end in told:
                assert first <= start < end <= first + MIB
                content[start - first : end - first] = bytes(end - start)
            assert not any(content)
        os.truncate(path, 0)
        os.truncate(path, size)
        assert list(FileDevice(file).extents()) == []


def test_zeros_hold_nothing() -> None:
    device = Zeros(1 << 45)
    assert device.read(1 << 44, 3) == b"\0\0\0" and list(device.extents()) == []
    device.zero(0, 1 << 45)
    with pytest.raises(BugError):
        device.write(0, b"x")


def test_files_change_all_at_once(tmp_path: Path) -> None:
    """A file is replaced whole, keeping its mode and its link; a new one has the mode that the umask leaves."""
    path, link = tmp_path / "fstab", tmp_path / "link"
    link.symlink_to(path)
    old = os.umask(0o027)
    replace_content(path, b"first")
    os.umask(old)
    assert path.read_bytes() == b"first" and path.stat().st_mode & 0o777 == 0o640
    path.chmod(0o600)
    working_name(path).write_bytes(b"left behind")
    replace_content(link, b"second")
    assert path.read_bytes() == b"second" and path.stat().st_mode & 0o777 == 0o600 and link.is_symlink()
    working_name(path).symlink_to(tmp_path / "link")  # planted
    replace_content(path, b"third")
    assert path.read_bytes() == b"third" and not path.is_symlink()
    with working_name(path).open("wb") as other:  # being written by another Narvet: neither swept away nor taken
        assert hold_file(other.fileno())
        recover_all(tmp_path)
        with pytest.raises(RefusedError, match="another Narvet is at work"):
            replace_content(path, b"fourth")
    recover_all(tmp_path)
    assert sorted(one.name for one in tmp_path.iterdir()) == ["fstab", "link"]


def _publish_until(stop: int, image: Path, build: Callable[[Path], tuple[Path, Path]]) -> None:
    """Publish an image in two files, and end this process right before rename number `stop`, or after the last."""
    left, keep = iter(range(stop)), names.rename_new

    def rename(old: Path, new: Path) -> None:
        if next(left, None) is None:
            os._exit(0)
        keep(old, new)

    with workspace(image) as place, pytest.MonkeyPatch.context() as patch:
        built, piece = build(place)
        patch.setattr(publishing, "rename_new", rename)
        publish(built, image, (piece,))
        os._exit(0)


def test_images_are_published_whole_or_not_at_all(tmp_path: Path) -> None:
    """Taken names are never overwritten, parts go with their image, and what an interruption left is cleared."""
    image, part = tmp_path / "image.vmdk", tmp_path / "image-1.vmdk"

    def build(place: Path) -> tuple[Path, Path]:
        place.write_bytes(b"names the part")
        place.with_name(part.name).write_bytes(b"part")
        return place, place.with_name(part.name)

    image.write_bytes(b"someone's")
    with pytest.raises(RefusedError, match="something took this name"), workspace(image) as place:
        publish(build(place)[0], image, (build(place)[1],))
    assert image.read_bytes() == b"someone's" and [one.name for one in tmp_path.iterdir()] == [image.name]
    image.unlink()
    with workspace(image) as place:
        publish(build(place)[0], image, (build(place)[1],))
    assert sorted(one.name for one in tmp_path.iterdir()) == [part.name, image.name]
    for stop in range(4):  # a process of its own ends between two of the renames
        part.unlink(missing_ok=True)
        image.unlink(missing_ok=True)
        process = os.fork()
        if not process:
            _publish_until(stop, image, build)
        os.waitpid(process, 0)
        recover_all(tmp_path)
        there = sorted(one.name for one in tmp_path.iterdir())
        assert there == ([part.name, image.name] if stop >= 2 else []), stop


def test_planted_marks_are_not_believed(tmp_path: Path) -> None:
    """A mark in a folder that others could write to deletes nothing of theirs."""
    image, theirs = tmp_path / "image.vmdk", tmp_path / "theirs"
    theirs.write_bytes(b"kept")
    about = theirs.stat()
    folder = working_name(image)
    folder.mkdir()
    folder.chmod(0o777)
    (folder / image.name).write_bytes(b"")
    (folder / ".published").write_text(json.dumps([["theirs", about.st_dev, about.st_ino]]))
    recover(image)
    assert [one.name for one in tmp_path.iterdir()] == ["theirs"]


def test_names_are_held_by_one_alone(tmp_path: Path) -> None:
    """Also while the file under the name is replaced, and not for ever where a holder was killed."""
    path = tmp_path / "sheet.toml"
    with exclusive_lock(path):
        path.write_bytes(b"new")
        path.replace(tmp_path / "other")
        path.write_bytes(b"another")
        with pytest.raises(RefusedError, match="another Narvet is at work"), exclusive_lock(path):
            pass
    (tmp_path / ".sheet.toml.narvet-lock").touch()
    with exclusive_lock(path):
        pass
    assert not list(tmp_path.glob(".*"))


def test_a_lock_that_is_only_being_cleared_is_waited_for(tmp_path: Path) -> None:
    """Who clears what a killed run left holds its lock for a moment; nobody is turned away for that."""
    path = tmp_path / "image.raw"
    lock = lock_name(path)
    lock.touch()
    cleared = os.open(lock, os.O_RDWR)
    assert hold_file(cleared)

    def clear() -> None:
        lock.unlink()
        os.close(cleared)

    threading.Timer(0.03, clear).start()
    with exclusive_lock(path):
        assert lock.exists()
    assert not lock.exists()


def test_leases_see_others_and_what_was_replaced(tmp_path: Path) -> None:
    path = tmp_path / "image.raw"
    path.write_bytes(b"disk")
    with lease(path, change=False), lease(path, change=False), pytest.raises(RefusedError), lease(path, change=True):
        pass
    for mode, change, refused in (("r", False, False), ("r", True, True), ("a", False, True)):
        script = f"import sys; file = open({str(path)!r}, {mode!r}); print('open', flush=True); sys.stdin.read()"
        with subprocess.Popen([sys.executable, "-c", script], stdin=subprocess.PIPE, stdout=subprocess.PIPE) as other:
            assert other.stdout and other.stdout.readline()
            with pytest.raises(RefusedError) if refused else nullcontext(), lease(path, change=change):
                pass
            assert other.stdin
            other.stdin.close()
    with lease(path, change=True) as held:
        held.check()
        (tmp_path / "new").write_bytes(b"another disk")
        (tmp_path / "new").replace(path)
        with pytest.raises(RefusedError, match="it was replaced while"):
            held.check()
