"""NTFS, version 3.1, by the published documentation of its on-disk structures.

Written: all files that describe a volume, access rights included. Not made here: compression, encryption, journals of
changes; these are the guest's.
"""

from __future__ import annotations

from typing import Any
from uuid import UUID

from narvet.filesystems.contract import InFolder, Options, ownerless_options
from narvet.filesystems.ntfs.geometry import LEAST, MOST


class Ntfs(InFolder):
    """The filesystem behind `filesystem = "ntfs"`."""

    folder = __name__
    maps = "maps"
    name = "ntfs"
    mount_type = "ntfs3"
    check_pass = 0
    least = LEAST
    most = MOST
    label_limit = 32
    keys = frozenset({"block"})

    def known_as(self, uuid: UUID) -> str:
        """Return the serial number of 64 bits, the upper half of a UUID."""
        return f"{uuid.int >> 64:016x}"

    def spec(self, known_as: str) -> str:
        """Return the serial number with the tag of ids, in capitals as guests write it."""
        return f"UUID={known_as.upper()}"

    def rights(self, geometry: Any) -> str:
        """Return the security descriptor of its root as text."""
        security = self._part("security")
        return str(security.rights_text(security.root_descriptor(geometry.options)))

    def links(self, geometry: Any) -> tuple[tuple[str, str], ...]:
        """Return path and target of each folder that a volume is mounted in."""
        target = self._part("folders").target
        return tuple(("\\".join(["", *one.path]), target(one.volume)) for one in geometry.options.folders)

    def label_length(self, label: str) -> int:
        """Return the UTF-16 units of a label."""
        return len(label.encode("utf-16-le")) // 2

    def mount_options(self, options: Options) -> tuple[str, ...]:
        """Return the options that give the root, and all in it, the owner and mode asked for."""
        return (*super().mount_options(options), *ownerless_options(options, usual=0o777))


FILESYSTEM = Ntfs()
