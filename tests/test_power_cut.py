"""A power cut at any moment of writing to an image in place: what was flushed is there, the rest is old or new.

Every write to the file is recorded, with its flushes. The state after a cut is what was written before the last flush,
and any of the writes after it, as a disk's cache may keep or lose each of them.
"""

from __future__ import annotations

import random
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO
from uuid import UUID

import pytest

from narvet.block.file import FileDevice
from narvet.block.files import Folder
from narvet.formats.images import NAMES, chain, ending_of, image_format
from narvet.formats.images.chain import identify, new_image_file, open_image
from narvet.formats.images.children import base_of
from narvet.formats.images.contract import ImageSpec
from narvet.ground.units import KIB, MIB
from tests.test_images import SMALL_BLOCKS

FLUSH, RESIZE = -1, -2
REGION = 96 * KIB


@dataclass
class Tape:
    """What was done to a file, in order: an offset and data, a flush, or the number of a step of the test."""

    steps: list[tuple[int, bytes | int]] = field(default_factory=list)

    def cut(self, before: bytes, dice: random.Random) -> tuple[bytes, int, int]:
        """Return a file as a power cut at a random moment leaves it, and which test steps were flushed and begun."""
        moment = dice.randrange(len(self.steps) + 1)
        done = self.steps[:moment]
        last = max((index for index, (kind, data) in enumerate(done) if kind == FLUSH and data == b""), default=-1)
        content, flushed, begun = bytearray(before), 0, 0
        for index, (offset, data) in enumerate(done):
            if isinstance(data, int):
                flushed, begun = (data, begun) if offset == FLUSH else (flushed, data)
            elif offset == RESIZE:
                size = int.from_bytes(data, "little")
                content[min(size, len(content)) :] = bytes(max(size - len(content), 0))
            elif offset != FLUSH and (index < last or dice.random() < 0.5):
                content[len(content) :] = bytes(max(offset - len(content), 0))
                content[offset : offset + len(data)] = data
        return bytes(content), flushed, begun


class Recorded(FileDevice):
    """A file whose writes go onto the tape as well."""

    tape: Tape

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Write, and keep what was written."""
        self.tape.steps.append((offset, bytes(data)))
        super().write(offset, data)

    def resize(self, size: int) -> None:
        """Resize, and keep the new size, which filesystems never apply before what was done earlier."""
        self.tape.steps.append((RESIZE, size.to_bytes(8, "little")))
        super().resize(size)

    def flush(self) -> None:
        """Keep that everything before is safe."""
        self.tape.steps.append((FLUSH, b""))


@contextmanager
def recorded(tape: Tape, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """Have what is written to the files of images recorded while the context lasts."""

    class RecordedFolder(Folder):
        def wrap(self, file: BinaryIO) -> FileDevice:
            device = Recorded(file)
            device.tape = tape
            return device

    with monkeypatch.context() as patch:
        patch.setattr(chain, "Folder", RecordedFolder)
        yield


@pytest.mark.parametrize("name", [name for name in NAMES if name != "raw"])
@pytest.mark.parametrize("seed", range(3))
def test_a_power_cut_leaves_old_or_new(tmp_path: Path, name: str, seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    kind, dice, path = image_format(name), random.Random(seed), tmp_path / f"image{ending_of(name)}"
    size, block = kind.fit(9 * MIB), SMALL_BLOCKS[name] if seed else None
    with new_image_file(kind, path, ImageSpec(size, id=UUID(int=seed + 1), block_size=block)) as device:
        for place in range(0, size - REGION, 5 * REGION):
            device.write(place, dice.randbytes(REGION))
    before = path.read_bytes()
    with open_image(path) as device:
        old = device.read(0, size)
    places = dice.sample(range(0, size - REGION, REGION), 30)
    contents = [dice.randbytes(REGION) if dice.random() < 0.8 else bytes(REGION) for _ in places]
    tape = Tape()
    with recorded(tape, monkeypatch), open_image(path, writable=True) as device:
        for number, (place, content) in enumerate(zip(places, contents, strict=True), 1):
            tape.steps.append((0, number))
            if any(content):
                device.write(place, content)
            else:
                device.zero(place, REGION)
            if number % 7 == 0:
                device.flush()
                tape.steps.append((FLUSH, number))
    for _ in range(60):
        content, flushed, begun = tape.cut(before, dice)
        path.write_bytes(content)
        with open_image(path) as device:
            found = device.read(0, size)
        expected = bytearray(old)
        for number, (place, new) in enumerate(zip(places, contents, strict=True), 1):
            there, was = found[place : place + REGION], old[place : place + REGION]
            if number <= flushed:
                assert there == new, (number, flushed)
            elif number > begun:
                assert there == was, (number, begun)
            else:
                assert all(a in (b, c) for a, b, c in zip(there[::512], was[::512], new[::512], strict=True)), number
            expected[place : place + REGION] = there
        assert found == expected  # nothing else has changed


@pytest.mark.parametrize("seed", range(2))
def test_a_cut_while_a_partly_present_block_becomes_whole(
    tmp_path: Path, seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A VHD child's block of which only the first half counts: no cut makes sectors count whose data are not there."""
    kind, dice, base, child = image_format("vhd"), random.Random(seed), tmp_path / "base.vhd", tmp_path / "child.vhd"
    size = kind.fit(2 * MIB)
    with new_image_file(kind, base, ImageSpec(size, id=UUID(int=1), block_size=512 * KIB)) as device:
        device.write(0, dice.randbytes(MIB))
    below, _ = base_of(identify(base), child, kind)
    with new_image_file(kind, child, ImageSpec(size, id=UUID(int=2), block_size=512 * KIB, base=below)):
        pass
    with open_image(child, writable=True) as device:
        device.write(0, dice.randbytes(512 * KIB))
    content = bytearray(child.read_bytes())
    bitmap = content.rindex(b"\xff" * 128)
    content[bitmap + 64 : bitmap + 128] = bytes(64)
    child.write_bytes(content)
    with open_image(child) as device:
        old = device.read(0, size)
    new, place, tape = dice.randbytes(64 * KIB), 300 * KIB, Tape()
    with recorded(tape, monkeypatch), open_image(child, writable=True) as device:
        device.write(place, new)
    for _ in range(80):
        cut, _, _ = tape.cut(bytes(content), dice)
        child.write_bytes(cut)
        with open_image(child) as device:
            found = device.read(0, size)
        expected = old[:place] + new + old[place + len(new) :]
        for start in range(0, size, 512):
            assert found[start : start + 512] in (old[start : start + 512], expected[start : start + 512]), start
