"""One flipped byte in what a real kernel has written: noticed wherever there is a checksum or a second copy to tell it by."""

from __future__ import annotations

import os
import random
from pathlib import Path
from uuid import UUID

import pytest

from narvet.block.file import FileDevice
from narvet.formats.filesystems import filesystem
from narvet.formats.filesystems.contract import Wishes
from narvet.ground.units import MIB
from tests.program import facts, rules
from tests.real import kernel
from tests.real.kernel import mounted, quiet_log

pytestmark = pytest.mark.kernel
NAME = "germination-of-wild-leeks"


def aged(image: Path, name: str, folder: Path) -> None:
    """Have the kernel make folders of all sizes, long links, attributes, and files in thousands of pieces."""
    kind = filesystem(name)
    with image.open("x+b", buffering=0) as file:
        file.truncate(340 * MIB)
        kind.plan(340 * MIB, Wishes(uuid=UUID(int=5))).write(FileDevice(file))
    with quiet_log(), mounted(image, folder) as place:
        (place / "small").mkdir()
        for number in range(30):
            (place / "small" / f"{NAME}-{number}").touch()
        (place / "large").mkdir()
        for number in range(4000):
            (place / "large" / f"{NAME}-{number:05}-{'n' * 60}").touch()
        for number in range(0, 4000, 3):
            (place / "large" / f"{NAME}-{number:05}-{'n' * 60}").unlink()
        (place / "link").symlink_to("/" + "long/" * 150 + NAME)
        (place / "noted").write_bytes(b"y")
        for number in range(12):
            os.setxattr(place / "noted", f"user.remark{number}", bytes([65 + number]) * 180)
        with (place / "pieces").open("wb", buffering=0) as file:
            for piece in range(3000):
                os.pwrite(file.fileno(), b"z" * 4096, piece * 12288)
        os.sync()


def places_of(content: bytes, what: bytes, block: int, skip: int = 0) -> list[int]:
    """Return the blocks of an image that start with some bytes, `skip` bytes into the block."""
    return [
        place for place in range(0, len(content), block) if content[place + skip : place + skip + len(what)] == what
    ]


def noticed(image: Path, content: bytes, place: int) -> bool:
    """Return whether a survey tells of damage while the byte at a place has one bit flipped."""
    with image.open("r+b", buffering=0) as file:
        os.pwrite(file.fileno(), bytes([content[place] ^ 0x10]), place)
        found = rules(facts("survey", str(image), status=None)[0])
        os.pwrite(file.fileno(), content[place : place + 1], place)
    return "filesystem-damaged" in found


@pytest.mark.parametrize("name", ["ext4", "xfs"])
def test_a_flipped_byte_is_noticed(tmp_path: Path, name: str) -> None:
    if not kernel.knows(name):
        pytest.skip(f"this kernel has no {name}")
    image, dice = tmp_path / "image.raw", random.Random(4)
    aged(image, name, tmp_path)
    assert facts("survey", str(image))[0]["findings"] == []
    content = image.read_bytes()
    if name == "ext4":
        starts = {
            "folder": [
                place for place in range(0, len(content), 4096) if NAME.encode() in content[place : place + 400]
            ],
            "hash tree": [
                place for place in places_of(content, b"\x0c\0\x01\x02.", 4096, 4) if content[place + 28] in (1, 2)
            ],
            "extents": [place for place in places_of(content, b"\x0a\xf3", 4096) if content[place + 2] > 4],
            "attributes": places_of(content, b"\0\0\x02\xea", 4096),
        }
    else:
        starts = {
            magic.decode(): places_of(content, magic, 4096) for magic in (b"XDB3", b"XDD3", b"XDF3", b"XSLM", b"BMA3")
        } | {
            "leaf": places_of(content, b"\x3d\xff", 4096, 8) + places_of(content, b"\x3d\xf1", 4096, 8),
            "attributes": places_of(content, b"\x3b\xee", 4096, 8),
        }  # fmt: skip
    assert all(starts.values()), {kind: len(places) for kind, places in starts.items()}
    for kind, places in starts.items():
        # Logs hold copies that nothing reads any more; at least one of some places is the block itself.
        tried = dice.sample(places, min(len(places), 6))
        inside = 40 if kind in ("hash tree", "attributes") else dice.randrange(16, 120)
        assert any(noticed(image, content, place + inside) for place in tried), (kind, tried)
    assert facts("survey", str(image))[0]["findings"] == []
