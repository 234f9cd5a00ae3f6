"""The machine's own kernel as a judge: loop devices, mounts, and its log."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from narvet.formats.images.chain import open_image
from tests.real.guest import complaints

# A line about the kernel itself, not about what is on the disk: what kernels built with CONFIG_EXT4_DEBUG print when
# writing back one run of blocks finishes in parts (fs/ext4/extents.c calls it an issue of its own state machine).
# Guests' kernels are built without that.
_OF_THE_KERNEL_ITSELF = ("ext4_convert_unwritten_extents_endio",)
_WATCHED = ("EXT4-fs", "XFS", "JBD2", "EXT3-fs", "EXT2-fs", "Buffer I/O")


def missing() -> list[str]:
    """Return what this machine lacks to be a judge."""
    lacking = [] if hasattr(os, "geteuid") and os.geteuid() == 0 else ["root"]
    lacking += [] if Path("/dev/loop-control").exists() else ["loop devices"]
    known = Path("/proc/filesystems")
    return lacking + ([] if known.exists() and "\text4\n" in known.read_text() else ["ext4 in the kernel"])


def knows(filesystem: str) -> bool:
    """Return whether this kernel can mount a filesystem."""
    return f"\t{filesystem}\n" in Path("/proc/filesystems").read_text()


def as_raw(image: Path, copy: Path) -> Path:
    """Return a raw copy of an image's disk, of any format, with its holes."""
    with open_image(image) as device, copy.open("wb") as file:
        file.truncate(device.size)
        for start, length in device.extents():
            for offset in range(start, start + length, 1 << 24):
                file.seek(offset)
                file.write(device.read(offset, min(1 << 24, start + length - offset)))
    return copy


@contextmanager
def mounted(image: Path, folder: Path, start: int = 0, size: int = 0) -> Iterator[Path]:
    """Mount a part of an image (all of it from `start` where `size` is 0) in a new folder below `folder`."""
    limits = ["--sizelimit", str(size)] if size else []
    command = ["losetup", "--find", "--show", "--offset", str(start), *limits, str(image)]
    loop = subprocess.run(command, check=True, capture_output=True, text=True).stdout.strip()
    place = folder / "mount"
    place.mkdir()
    try:
        subprocess.run(["mount", loop, str(place)], check=True, capture_output=True)
        try:
            yield place
        finally:
            subprocess.run(["umount", str(place)], check=True)
    finally:
        subprocess.run(["losetup", "--detach", loop], check=True)
        place.rmdir()


@contextmanager
def quiet_log() -> Iterator[None]:
    """Fail if the kernel logs a warning or worse about a filesystem while the context lasts.

    The kernel keeps few lines: a context lasts for one mount or a few, and fails too if lines were lost.
    """
    reader = os.open("/dev/kmsg", os.O_RDONLY | os.O_NONBLOCK)
    try:
        os.lseek(reader, 0, os.SEEK_END)
        yield
        lines = []
        with suppress(BlockingIOError):
            while record := os.read(reader, 8192).decode(errors="replace"):
                head, _, text = record.partition(";")
                lines.append(f"<{head.split(',')[0]}>{text}")
        assert complaints("\n".join(lines), *_WATCHED, passed_over=_OF_THE_KERNEL_ITSELF) == []
    finally:
        os.close(reader)


def shown(folder: Path) -> dict[str, int]:
    """Return what a mounted filesystem reports, in bytes, under the keys of the facts."""
    told = os.statvfs(folder)
    blocks = {"total": told.f_blocks, "free": told.f_bfree, "available": told.f_bavail}
    return {name: count * told.f_frsize for name, count in blocks.items()}
