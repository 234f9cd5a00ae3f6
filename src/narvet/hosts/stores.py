"""Facts about a store's folder: whether it is there, its room, and the largest file its filesystem can hold."""

from __future__ import annotations

import os
import re
import shutil
from pathlib import Path

from narvet.layout.facts import StoreFacts
from narvet.units import GIB, TIB

_ANY = (1 << 63) - 1  # the largest offset a file can have on this system
_OCTAL = re.compile(r"\\([0-7]{3})")


def store_facts(path: str) -> StoreFacts:
    """Return the facts of the folder at `path`."""
    folder = Path(path)
    if not folder.is_dir():
        return StoreFacts(path, exists=False)
    usage = shutil.disk_usage(folder)
    kind = _filesystem_kind(folder)
    return StoreFacts(
        path=path,
        exists=True,
        writable=os.access(folder, os.W_OK | os.X_OK),
        free=usage.free,
        total=usage.total,
        filesystem=kind,
        largest_file=_largest_file(folder, kind),
    )


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
    return kind


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
