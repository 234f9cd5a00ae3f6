"""A load for a mounted filesystem: filled to the last byte with files of many kinds, and read back by checksum."""

from __future__ import annotations

import ctypes
import errno
import hashlib
import os
import random
import stat
from pathlib import Path
from typing import Any

from narvet.ground.units import KIB

_LARGEST = 48 << 20
_KEEP_SIZE = 1


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


def aged(folder: Path, seed: int, most: int) -> None:
    """Use a filesystem so that its files are of every kind, lie everywhere, and in pieces."""
    dice = random.Random(seed)
    made = fill(folder, seed, most)
    delete_half(made)
    for number in range(60):  # folders right below the root are spread over all groups
        place = folder / f"shelf {number}"
        place.mkdir(mode=0o750)
        for index in range(dice.randrange(1, 30)):
            (place / f"sample {index}").write_bytes(dice.randbytes(dice.randrange(9000)))
    big = folder / "big"
    big.mkdir()
    for number in range(3000):
        (big / f"{number}-{'x' * dice.randrange(60)}").touch()
    for number in range(0, 3000, 3):
        next(big.glob(f"{number}-*")).unlink()
    _pieces(folder / "pieces", most // 4)
    (folder / "link").symlink_to("shelf 3/sample 0")
    (folder / "long link").symlink_to("y" * 900)
    os.link(folder / "pieces", folder / "shelf 7" / "the same")
    os.mkfifo(folder / "shelf 9" / "pipe")
    os.mknod(folder / "shelf 9" / "null", stat.S_IFCHR | 0o666, os.makedev(1, 3))
    for number in range(20):
        os.setxattr(folder / f"shelf {number}" / "sample 0", "user.note", b"n" * 700)  # too much for an inode
        os.chown(folder / f"shelf {number}" / "sample 0", 1000 + number, 70000)
    (folder / "promised").touch()
    with (folder / "promised").open("r+b") as file:  # blocks that are given out, and read as zeros
        file.write(b"start")
        ctypes.CDLL(None).fallocate(file.fileno(), _KEEP_SIZE, ctypes.c_long(0), ctypes.c_long(most // 8))
        file.truncate(most // 8)
    os.sync()


def _pieces(path: Path, most: int) -> None:
    """Make a file of many runs: with a hole after every block."""
    with path.open("wb") as file:
        for place in range(0, most, 16 * KIB):
            file.seek(place)
            file.write(place.to_bytes(8, "little") * 128)


def told(folder: Path) -> dict[str, Any]:
    """Return everything that can be told of every file, but for the number of its inode."""
    result: dict[str, Any] = {}
    links: dict[int, list[str]] = {}
    for place in sorted(folder.rglob("*")):
        about, name = place.lstat(), str(place.relative_to(folder))
        links.setdefault(about.st_ino, []).append(name)
        content = str(place.readlink()) if place.is_symlink() else ""
        if stat.S_ISREG(about.st_mode):
            content = hashlib.sha256(place.read_bytes()).hexdigest()
        marks = {key: os.getxattr(place, key) for key in os.listxattr(place, follow_symlinks=False)} if content else {}
        times = (about.st_mtime_ns, about.st_ctime_ns)
        result[name] = (about.st_mode, about.st_nlink, about.st_uid, about.st_gid, about.st_size, about.st_rdev, times)
        result[name] += (content, marks)
    result["links"] = sorted(names for names in links.values() if len(names) > 1)
    return result
