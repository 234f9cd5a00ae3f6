"""The checksums of ext4's group descriptors, of any size and either kind."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from narvet.formats.filesystems.ext4.volume import Volume
from narvet.ground.checksums import crc16_rows, crc32c_numbered

CHECKSUM = 0x1E
"""Where a descriptor keeps its checksum (bg_checksum)."""


def descriptor_sums(volume: Volume, rows: NDArray[np.uint8], first: int) -> NDArray[Any]:
    """Return the checksums of descriptors, shape (n, bytes), of groups from `first` on; those there without any."""
    if not volume.checksums and not volume.ro_compat("uninit_bg"):
        return rows[:, CHECKSUM : CHECKSUM + 2].copy().view("<u2")[:, 0]
    numbers = np.arange(first, first + len(rows), dtype="<u4")
    if volume.checksums:
        blank = rows.copy()
        blank[:, CHECKSUM : CHECKSUM + 2] = 0
        return crc32c_numbered(volume.seed, blank.view(f"V{rows.shape[1]}")[:, 0], first) & 0xFFFF
    uuid = np.frombuffer(volume.superblock.s_uuid.bytes, dtype=np.uint8)[None, :]
    seed = int(crc16_rows(0xFFFF, uuid)[0])
    covered = np.concatenate(
        [numbers.view(np.uint8).reshape(-1, 4), rows[:, :CHECKSUM], rows[:, CHECKSUM + 2 :]], axis=1
    )
    return crc16_rows(seed, covered)
