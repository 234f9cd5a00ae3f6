"""The shape of an NTFS: its sizes, planned or read."""

from __future__ import annotations

from narvet.ground.units import Cluster
from narvet.ground.values import Frozen


class Shape(Frozen):
    """The sizes of one NTFS, in bytes but for `sectors`, which leave out the copy of the first one behind them."""

    sector_size: int
    sectors: int
    cluster_size: int
    record_size: int
    index_size: int

    @property
    def size(self) -> int:
        """Bytes of all sectors and of the copy of the first."""
        return (self.sectors + 1) * self.sector_size

    @property
    def clusters(self) -> int:
        """Whole clusters."""
        return self.sectors * self.sector_size // self.cluster_size

    @property
    def total(self) -> int:
        """Bytes of all clusters."""
        return self.clusters * self.cluster_size

    def start_of(self, cluster: Cluster) -> int:
        """Return the byte at which a cluster starts, or the bytes that so many have."""
        return cluster * self.cluster_size

    @property
    def unit(self) -> int:
        """Bytes of a cluster."""
        return self.cluster_size

    @property
    def held_back(self) -> int:
        """Nothing: ordinary users can fill what is free."""
        return 0

    @property
    def map_size(self) -> int:
        """Bytes of the map of clusters: whole words of 64 bits."""
        return -(-self.clusters // 64) * 8


class Account(Frozen):
    """What another size needs to know besides: the clusters that the map of clusters has.

    `least` is the fewest clusters that the volume can have as its files lie, None if that was not looked at.
    """

    map_clusters: int
    least: int | None = None
