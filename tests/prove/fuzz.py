"""Hostile bytes: images and filesystems changed field by field, every checksum accepted; only findings may come of it.

Checksums keep most damage from being read at all, so they are made to match whatever is there: what is tried then is
the reading of values that a hostile maker has signed.
"""

from __future__ import annotations

import contextlib
import filecmp
import io
import random
import shutil
import signal
import sys
import tempfile
import traceback
from collections.abc import Callable, Iterator
from pathlib import Path
from types import FrameType
from typing import Any

from narvet.block.memory import MemoryDevice
from narvet.formats.filesystems import NAMES as FILESYSTEMS
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import Wishes
from narvet.formats.images import NAMES as FORMATS
from narvet.formats.images import ending_of, image_format
from narvet.formats.images.chain import new_image_file, open_image
from narvet.formats.images.contract import ImageSpec
from narvet.formats.images.trust import Trust
from narvet.formats.tables import NAMES as TABLES
from narvet.formats.tables import table_format
from narvet.formats.tables.contract import PartitionEntry, Table
from narvet.ground.errors import NarvetError
from narvet.ground.findings import has_errors
from narvet.ground.units import KIB, MIB
from narvet.observe.images import survey
from narvet.usecases.enlarge import Resized, enlarge
from narvet.usecases.shrink import shrink

SECONDS = 30  # that one of them may take
_SIZES = {"ext4": 12 * MIB, "xfs": 320 * MIB, "swap": MIB, "ntfs": 16 * MIB, "exfat": 6 * MIB, "fat32": 36 * MIB}
_SUMS = ("crc32", "crc32c", "crc32c_raw", "crc32c_rows", "checksum", "set_checksum", "sound", "_summed", "_sound")
_VALUES = (
    0,
    1,
    2,
    3,
    7,
    8,
    0x7F,
    0x80,
    0xFF,
    0x100,
    0xFFF,
    0xFFFF,
    0x7FFFFFFF,
    0x80000000,
    0xFFFFFFFF,
    (1 << 63) - 1,
    (1 << 64) - 1,
)


class Alike(int):
    """A checksum that is equal to everything."""

    def __eq__(self, other: object) -> bool:
        """Return yes."""
        return True

    def __ne__(self, other: object) -> bool:
        """Return no."""
        return False

    def __hash__(self) -> int:
        """Return one number for all."""
        return 0

    def __xor__(self, other: object) -> int:
        """Return no difference."""
        return 0

    __rxor__ = __xor__

    def to_bytes(self, *words: Any, **options: Any) -> bytes:
        """Return bytes that are nothing special."""
        return int(self).to_bytes(*words, **options)


def accept_every_checksum() -> None:
    """Have every reader take every checksum for right, in this process from now on."""
    for name, module in list(sys.modules.items()):
        for attribute in _SUMS if name.startswith("narvet.") and name != "narvet.ground.checksums" else ():
            if callable(getattr(module, attribute, None)):
                setattr(module, attribute, lambda *_words, **_options: Alike(0))


def targets(folder: Path) -> list[tuple[str, Path]]:
    """Make one small sound image of every format and one raw disk of every filesystem and table; return name and path."""
    found = []
    for name in FORMATS[1:]:
        for kind, extra in (
            ("thin", {}),
            ("full", {"space": "full"}),
            ("pieces", {"pieces": 2 * MIB}),
            ("packed", {"packed": True}),
        ):
            if kind in ("pieces", "packed") and name != "vmdk":
                continue
            path = folder / f"{name}-{kind}{ending_of(name)}"
            image_spec = ImageSpec(image_format(name).fit(4 * MIB), block_size=None, **extra)
            with new_image_file(image_format(name), path, image_spec) as device:
                device.write(MIB, random.Random(1).randbytes(300 * KIB))
            found.append((f"{name} {kind}", path))
    for name in FILESYSTEMS:
        path = folder / f"{name}.raw"
        device = MemoryDevice(_SIZES[name])
        kind_of = filesystem(name)
        kind_of.plan(device.size, Wishes(label="x")).write(device)
        _save(device, path)
        found.append((name, path))
    for name in TABLES:
        device, table = MemoryDevice(8 * MIB), table_format(name)
        form = table.partition_type(None, "linux")
        parts = tuple(
            PartitionEntry(number, number * MIB, MIB, form, str(Wishes().uuid) if name == "gpt" else "", "p")
            for number in (1, 2, 3)
        )
        table.write(device, Table(name, str(Wishes().uuid) if name == "gpt" else "1", parts))
        _save(device, folder / f"{name}.raw")
        found.append((name, folder / f"{name}.raw"))
    return found


def _save(device: MemoryDevice, path: Path) -> None:
    with path.open("wb") as file:
        file.truncate(device.size)
        for start, length in device.extents():
            file.seek(start)
            file.write(device.read(start, length))


def damaged(content: bytes, places: list[int], dice: random.Random) -> dict[int, bytes]:
    """Return some changes: a field of 1 to 8 bytes, at a place that holds anything, set to a value that means trouble."""
    changes = {}
    for _ in range(dice.choice((1, 1, 1, 2, 4))):
        place = dice.choice(places) + dice.randrange(16)
        width = dice.choice((1, 2, 4, 4, 8))
        order: Any = dice.choice(("little", "big"))
        value = dice.choice(
            (
                *_VALUES,
                dice.getrandbits(64),
                *([int.from_bytes(content[place : place + width], order) + dice.choice((-1, 1, 8))] * 3),
            )
        )
        changes[place] = (value & ((1 << 8 * width) - 1)).to_bytes(width, order)
    return changes


def campaign(seed: int, count: int) -> Iterator[tuple[str, list[str]]]:
    """Yield name and faults of so many damaged images, spread over all targets."""
    dice = random.Random(seed)
    with tempfile.TemporaryDirectory(dir="/dev/shm") as name:
        made = targets(Path(name))
        for _, path in made:  # everything is loaded before the checksums are replaced
            survey(str(path), trust=Trust(by_content=True))
        accept_every_checksum()
        for kind, path in made:
            content = path.read_bytes()
            places = [place for place in range(0, len(content), 16) if any(content[place : place + 16])][:20000]
            with path.open("r+b", buffering=0) as file:
                for number in range(count // len(made)):
                    changes = damaged(content, places, dice)
                    for place, data in changes.items():
                        file.seek(place)
                        file.write(data)
                    told = _tried(path, written=number % 4 == 0)
                    yield f"{kind}, seed {seed}, image {number}, {changes}", [told] if told else []
                    for place, data in changes.items():
                        file.seek(place)
                        file.write(content[place : place + len(data)])
                    file.truncate(len(content))


def _tried(path: Path, *, written: bool) -> str:
    """Return what is wrong with how an image was taken: an exception that is none of ours, or too much time.

    With `written`, a copy of it is written to as well, as a fold into it would; others are enlarged, and made smaller.
    """

    def late(number: int, frame: FrameType | None) -> None:
        raise TimeoutError("".join(traceback.format_stack(frame)[-3:]))

    signal.signal(signal.SIGALRM, late)
    signal.alarm(SECONDS)
    try:
        survey(str(path), trust=Trust(by_content=True))
        with contextlib.suppress(NarvetError), open_image(path, trust=Trust(by_content=True)) as device:
            for start, length in device.extents():
                device.read(start, min(length, 64 * KIB))
        if written:
            _change_copy(path, lambda copy: enlarge(copy, 400 * MIB if path.name.startswith("xfs") else 48 * MIB))
            _change_copy(path, lambda copy: shrink(copy, 10 * MIB if "ntfs" in path.name else 4 * MIB, move_files=True))
        if written and path.suffix != ".raw":
            _write_to_copy(path)
    except (NarvetError, OSError):
        return ""
    except BaseException:
        text = io.StringIO()
        traceback.print_exc(limit=-4, file=text)
        return text.getvalue()
    finally:
        signal.alarm(0)
    return ""


def _change_copy(path: Path, change: Callable[[Path], Resized]) -> None:
    """Change a copy; where that is refused, the copy must be as it was, and nothing may lie beside it."""
    folder = path.with_name("changed")
    folder.mkdir()
    copy = folder / path.name
    shutil.copyfile(path, copy)
    try:
        refused = has_errors(change(copy).findings)
    except (NarvetError, OSError):
        refused = True
    try:
        assert not refused or filecmp.cmp(path, copy, shallow=False), "refused, but changed"
        assert list(folder.iterdir()) == [copy], "something was left behind"
    finally:
        shutil.rmtree(folder)


def _write_to_copy(path: Path) -> None:
    copy = path.with_name(f"copy-{path.name}")
    shutil.copyfile(path, copy)
    try:
        with open_image(copy, writable=True) as device:
            for place in (0, MIB + 1000, device.size - 5000):
                device.write(place, b"x" * 5000)
            device.zero(0, device.size // 2)
            device.flush()
    finally:
        copy.unlink()
