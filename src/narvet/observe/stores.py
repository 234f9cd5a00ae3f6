"""Facts about a store's folder: whether it is there, its room, and the largest file its filesystem can hold."""

from __future__ import annotations

import ctypes
import os
import re
import shutil
import zlib
from collections.abc import Collection
from pathlib import Path

from narvet.ground.errors import NarvetError
from narvet.ground.libc import libc_call
from narvet.ground.units import GIB, TIB
from narvet.ground.values import replace
from narvet.model.estate import Store

_ANY = (1 << 63) - 1  # the largest offset a file can have on this system
_MAGICS = {
    0xEF53: "ext4",
    0x58465342: "xfs",
    0x9123683E: "btrfs",
    0x01021994: "tmpfs",
    0x4D44: "vfat",
    0x2011BAB0: "exfat",
}
"""Filesystems by statfs(2); ext2 and ext3 have the number of ext4; only the list of mounts tells which one it is."""

_OCTAL = re.compile(r"\\([0-7]{3})")


def observe_store(path: str) -> Store:
    """Return the facts of the folder at `path`."""
    folder = Path(path)
    if not folder.is_dir():
        return Store(path, exists=False, writable=False)
    usage = shutil.disk_usage(folder)
    kind = _filesystem_kind(folder)
    return Store(
        path=path,
        exists=True,
        writable=os.access(folder, os.W_OK | os.X_OK),
        free=usage.free,
        total=usage.total,
        filesystem=kind,
        largest_file=_largest_file(folder, kind),
        device=folder.stat().st_dev,
    )


def observe_service(store: Store, url: str, identity: str, begun: Collection[str]) -> Store:
    """Return the facts of a store whose volumes the service at a URL hands out: its folder keeps their records only.

    `identity` is that of the sheet, which tells the volumes of its disks from others. `begun` are the disks whose
    volumes were begun and not finished: what they take of the quota is still theirs to take.
    """
    from narvet.services.known import service_named

    try:
        service = service_named(url)
        offer, machines, volumes = service.offer(), service.guests(), service.volumes("sheet", identity)
    except NarvetError as error:
        return replace(store, free=0, total=0, largest_file=None, device=0, problem=str(error))
    quota = offer.quota
    own = [one for one in volumes if one.state != "leaving"]
    free = quota.bytes - quota.used_bytes + sum(one.bytes for one in own if one.tags.get("disk") in begun)
    return replace(
        store,
        free=max(free, 0),
        total=quota.bytes,
        largest_file=None,
        filesystem="",
        device=_number_of(url),
        offer=offer,
        machines=machines,
        ordered={one.tags.get("key", ""): (one.id, one.tags.get("disk", "")) for one in own},
    )


def _number_of(url: str) -> int:
    """Return what tells a service from others, and from filesystems: stores with one service share its quota."""
    return -1 - zlib.crc32(url.rstrip("/").encode())


def _filesystem_kind(folder: Path) -> str:
    """Return the name of the filesystem a folder lies on, empty where the system does not tell (proc(5), mountinfo)."""
    try:
        table = Path("/proc/self/mountinfo").read_text("utf-8", "surrogateescape")
    except OSError:
        return ""
    place, best, kind = str(folder.resolve()), "", ""
    for line in table.splitlines():
        fields, _, source = line.partition(" - ")
        mount = _OCTAL.sub(lambda match: chr(int(match[1], 8)), fields.split(" ")[4])
        inside = place == mount or place.startswith(mount.rstrip("/") + "/")
        if inside and len(mount) >= len(best):
            best, kind = mount, source.split(" ")[0]
    return kind or _MAGICS.get(_magic(folder), "")


def _magic(folder: Path) -> int:
    """Return the number by which the system knows a folder's filesystem (statfs(2), f_type); 0 if it does not tell.

    A folder in a chroot has no line in the list of mounts.
    """
    call = libc_call("statfs")
    if call is None:
        return 0
    room = ctypes.create_string_buffer(256)  # struct statfs has 120 bytes; its first word is f_type
    if call(os.fsencode(folder), room):
        return 0
    return ctypes.c_long.from_buffer(room).value & 0xFFFFFFFF


def _largest_file(folder: Path, kind: str) -> int | None:
    """Return the most bytes one file can have there, None where neither filesystem nor system tells."""
    limits = [limit for limit in (_kind_limit(folder, kind), _process_limit()) if limit is not None]
    return min(limits, default=None)


def _kind_limit(folder: Path, kind: str) -> int | None:
    """Return the limit that the filesystem's own block addresses set."""
    if kind == "ext4":  # extents number a file's blocks with 32 bits
        return ((1 << 32) - 1) * os.statvfs(folder).f_bsize
    if kind in ("ext2", "ext3"):
        return 2 * TIB
    if kind in ("vfat", "msdos"):
        return 4 * GIB - 1
    return _ANY if kind in ("xfs", "btrfs", "tmpfs", "exfat") else None


def _process_limit() -> int | None:
    """Return the limit set on files this process writes (getrlimit, RLIMIT_FSIZE)."""
    try:
        import resource
    except ImportError:
        return None
    limit = resource.getrlimit(resource.RLIMIT_FSIZE)[0]
    return None if limit == resource.RLIM_INFINITY else limit
