"""A load for a mounted filesystem: filled to the last byte with files of many kinds, and read back by checksum."""

from __future__ import annotations

import errno
import hashlib
import os
import random
from pathlib import Path

_LARGEST = 48 << 20


def fill(folder: Path, seed: int, most: int = 1 << 40) -> dict[Path, str]:
    """Write large and tiny files, long names and a deep tree until nothing more fits; return their checksums."""
    dice = random.Random(seed)
    made: dict[Path, str] = {}
    deep = folder.joinpath(*("level" for _ in range(30)))
    deep.mkdir(parents=True)
    (folder / "tiny").mkdir()
    written = number = 0
    largest = _LARGEST
    while written < most and largest > 512:
        number += 1
        kind = dice.choice(("tiny", "tiny", "tiny", "long", "deep", "large"))
        size = min(dice.randrange(1 << 20, _LARGEST) if kind == "large" else dice.randrange(1, 9000), largest)
        name = f"{number}-{'n' * 240}" if kind == "long" else str(number)
        place = {"tiny": folder / "tiny", "deep": deep}.get(kind, folder) / name
        content = dice.randbytes(size)
        try:
            place.write_bytes(content)
        except OSError as error:
            assert error.errno == errno.ENOSPC, error
            place.unlink(missing_ok=True)
            largest = size // 2
            continue
        made[place] = hashlib.sha256(content).hexdigest()
        written += size
    os.sync()
    return made


def verify(made: dict[Path, str]) -> None:
    """Read every file back."""
    for place, checksum in made.items():
        assert hashlib.sha256(place.read_bytes()).hexdigest() == checksum, place


def delete_half(made: dict[Path, str]) -> None:
    """Delete every other file."""
    for place in list(made)[::2]:
        place.unlink()
        del made[place]
