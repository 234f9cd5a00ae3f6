"""What the kernel is told of real devices: zeros to write, partitions that are new, filesystems to mount. Linux alone.

ioctl numbers and structures are those of linux/fs.h and linux/blkpg.h; the calls are mount(2) and swapon(2).
"""

from __future__ import annotations

import ctypes
import os
import struct
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path

from narvet.ground.errors import RefusedError

_ZERO_OUT, _REREAD, _PARTITIONS = 0x127F, 0x125F, 0x1269  # BLKZEROOUT, BLKRRPART, BLKPG
_FORGET = 0x1261  # BLKFLSBUF
_ADD, _DELETE, _RESIZE = 1, 2, 3
_NAME = 64  # bytes of each of the two names in a partition that is told
_FLAGS = {"ro": 1, "nosuid": 2, "nodev": 4, "noexec": 8, "sync": 16, "noatime": 1024, "nodiratime": 2048}
_LONE = {"relatime": 1 << 21, "strictatime": 1 << 24, "lazytime": 1 << 25}
_LEFT_OUT = (
    "defaults",
    "nofail",
    "rw",
    "auto",
    "noauto",
    "nouser",
    "user",
    "users",
    "owner",
    "_netdev",
    "exec",
    "suid",
)
_LEFT_OUT_PREFIX = ("x-", "comment=")


def zero_out(handle: int, start: int, length: int) -> None:
    """Make a range of a device read as zeros, by whatever means it has; sizes are whole sectors in bytes.

    Raises:
        OSError: the kernel refused.
    """
    import fcntl

    fcntl.ioctl(handle, _ZERO_OUT, struct.pack("QQ", start, length))


def read_anew(path: str) -> None:
    """Have the kernel forget what it has read of a device, as what is mounted of it changes behind that.

    It is left as it is where this user may not do so.
    """
    import fcntl

    with suppress(OSError):
        handle = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
        try:
            fcntl.ioctl(handle, _FORGET)
        finally:
            os.close(handle)


def tell_partitions(handle: int, device: str, wanted: Mapping[int, tuple[int, int]]) -> None:
    """Have the kernel know the partitions of a device, number to start and size in bytes.

    It reads the table anew if it can. A device in use it does not read, and it may not know this kind of table, or take
    it for another one: what is then missing is added, and what is otherwise replaced.

    Raises:
        OSError: the kernel refused.
    """
    import fcntl

    with suppress(OSError):
        fcntl.ioctl(handle, _REREAD)
    there = runs_of(device)
    for number, run in there.items():
        asked = wanted.get(number)
        if asked is not None and asked[0] == run[0] and asked[1] > run[1]:  # also one that is mounted
            _partition(handle, _RESIZE, number, *asked)
        elif asked != run:
            _partition(handle, _DELETE, number, 0, 0)
            there = {**there, number: (0, 0)}
    for number, (start, size) in wanted.items():
        if there.get(number, (0, 0))[1] == 0:
            _partition(handle, _ADD, number, start, size)


def _partition(handle: int, what: int, number: int, start: int, size: int) -> None:
    import fcntl

    part = struct.pack(f"qqi{_NAME}s{_NAME}s4x", start, size, number, b"", b"")
    held = ctypes.create_string_buffer(part, len(part))
    fcntl.ioctl(handle, _PARTITIONS, struct.pack("iiiP", what, 0, len(part), ctypes.addressof(held)))


def _run_of(path: str) -> tuple[int, int]:
    """Return where a partition starts and its size, as the kernel has it (sysfs counts sectors of 512 bytes)."""
    folder = Path("/sys/class/block", Path(path).name)
    return 512 * int((folder / "start").read_text()), 512 * int((folder / "size").read_text())


def runs_of(device: str) -> dict[int, tuple[int, int]]:
    """Return the partitions that the kernel has of a device: number to start and size in bytes."""
    return {number: _run_of(path) for number, path in partitions_of(device).items()}


def mount(source: str, at: str, kind: str, options: str) -> None:
    """Mount a filesystem as a line of fstab says.

    Raises:
        RefusedError: the kernel refused.
    """
    words = [word for word in options.split(",") if word and word not in _LEFT_OUT]
    words = [word for word in words if not word.startswith(_LEFT_OUT_PREFIX)]
    flags = sum({**_FLAGS, **_LONE}.get(word, 0) for word in dict.fromkeys(words))
    data = ",".join(word for word in words if word not in _FLAGS and word not in _LONE)
    call = ctypes.CDLL(None, use_errno=True).mount
    given = (os.fsencode(source), os.fsencode(at), kind.encode(), ctypes.c_ulong(flags), data.encode())
    if call(*given):
        raise RefusedError(f"{at}: the kernel does not mount {source}: {os.strerror(ctypes.get_errno())}")


def swap_on(path: str) -> None:
    """Use a device for swap.

    Raises:
        RefusedError: the kernel refused.
    """
    if ctypes.CDLL(None, use_errno=True).swapon(os.fsencode(path), 0):
        raise RefusedError(f"{path}: the kernel does not use it for swap: {os.strerror(ctypes.get_errno())}")


def partitions_of(device: str) -> dict[int, str]:
    """Return the partitions that the kernel has of a device, number to path."""
    folder = Path("/sys/class/block", Path(device).name)
    found = {}
    for inner in folder.glob("*/partition"):
        found[int(inner.read_text())] = f"/dev/{inner.parent.name}"
    return dict(sorted(found.items()))
