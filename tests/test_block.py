"""Block devices: each does random work as a plain byte array does, alone and stacked; bounds are kept."""

from __future__ import annotations

import random
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from narvet.block.contract import BlockDevice
from narvet.block.file import FileDevice
from narvet.block.files import PARTIAL, held, partial_name, publish, replace_content
from narvet.block.linear import Linear
from narvet.block.memory import MemoryDevice
from narvet.block.window import Window
from narvet.block.zeros import Zeros
from narvet.errors import BugError, ImageError, RefusedError
from narvet.units import MIB
from tests.test_images import check, work

KINDS = ("file", "memory", "window", "linear", "windows of a line of windows")


@contextmanager
def device_of(kind: str, folder: Path, size: int) -> Iterator[BlockDevice]:
    """Yield a device of `size` bytes of zeros."""
    if kind == "file":
        with (folder / "file").open("x+b", buffering=0) as file:
            file.truncate(size)
            yield FileDevice(file)
    elif kind == "memory":
        yield MemoryDevice(size)
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
        assert device.size == MIB and device.sector == 512
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


def test_zeros_hold_nothing() -> None:
    device = Zeros(1 << 45)
    assert device.read(1 << 44, 3) == b"\0\0\0" and list(device.extents()) == []
    device.zero(0, 1 << 45)
    with pytest.raises(BugError):
        device.write(0, b"x")


def test_files_change_all_at_once(tmp_path: Path) -> None:
    """A file is replaced whole, keeping its mode; a name that was taken is never overwritten; a held file is refused."""
    path = tmp_path / "fstab"
    replace_content(path, b"first")
    assert path.read_bytes() == b"first" and path.stat().st_mode & 0o777 == 0o644
    path.chmod(0o600)
    partial_name(path).write_bytes(b"left behind")
    replace_content(path, b"second")
    assert path.read_bytes() == b"second" and path.stat().st_mode & 0o777 == 0o600
    assert [one.name for one in tmp_path.iterdir()] == ["fstab"]
    made = partial_name(tmp_path / "image")
    assert made.name == f".image{PARTIAL}"
    made.write_bytes(b"image")
    (tmp_path / "image").write_bytes(b"someone's")
    with pytest.raises(RefusedError, match="something took this name"):
        publish(made, tmp_path / "image")
    assert (tmp_path / "image").read_bytes() == b"someone's" and made.exists()
    publish(made, tmp_path / "other")
    assert (tmp_path / "other").read_bytes() == b"image" and not made.exists()
    with held(path), pytest.raises(RefusedError, match="another Narvet is at work"), held(path):
        pass
