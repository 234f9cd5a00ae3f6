"""Real block devices of a machine, as values: what each is known by, what it holds, who uses it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from narvet.ground.values import Frozen

if TYPE_CHECKING:
    from narvet.model.estate import Disk


class Device(Frozen):
    """A whole block device at `path`; sizes are bytes.

    `holds` says what is on it, empty for nothing; `found` is that in full, where it could be read. `users` says who
    uses it or a partition of it. `partitions` are those that the kernel has of it, number to path. `mark` tells it from
    every other device, also after a restart if it has a serial. `mounts` has where its partitions are mounted, by their
    numbers, 0 for the whole of it, and `swaps` those used for swap.
    """

    path: str
    number: int
    serial: str
    size: int
    sector_size: int
    rotates: bool
    read_only: bool
    removable: bool
    model: str = ""
    holds: str = ""
    found: Disk | None = None
    users: tuple[str, ...] = ()
    partitions: tuple[tuple[int, str], ...] = ()
    mark: str = ""
    mounts: tuple[tuple[int, str], ...] = ()
    swaps: tuple[int, ...] = ()

    def is_used(self, number: int, at: str | None) -> bool:
        """Return whether a partition is mounted at a folder, or used for swap where that is None."""
        return number in self.swaps if at is None else (number, at) in self.mounts

    @property
    def is_blank(self) -> bool:
        """Whether nothing is on it and nobody uses it."""
        return not self.holds and not self.users and not self.partitions
