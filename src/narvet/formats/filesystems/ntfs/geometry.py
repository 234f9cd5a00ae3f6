"""An NTFS planned: clusters, and where the files of the filesystem itself lie, as plain integers.

Everything but the table's mirror lies at the start, one after another, and the master file table last of it, so that
all that is free behind it can be its zone. The mirror lies in the middle of the volume.
"""

from __future__ import annotations

from functools import cached_property
from typing import TypeVar

from narvet.formats.filesystems.contract import Capacity, FilesystemState, Loss, UnfitError
from narvet.formats.filesystems.ntfs import folders, security
from narvet.formats.filesystems.ntfs.folders import Planned
from narvet.formats.filesystems.ntfs.options import LEAST, MOST, NtfsOptions, native_id
from narvet.formats.filesystems.ntfs.records import INDEX_BLOCK, ROOT
from narvet.formats.filesystems.ntfs.shape import Shape
from narvet.ground.errors import BugError
from narvet.ground.units import GIB, KIB, MIB, TIB, Cluster, align_up, outside, show_both
from narvet.ground.values import Frozen

UNITS = tuple(512 << shift for shift in range(13))
MOST_CLUSTERS = (1 << 32) - 1
TABLE_STEP = 64  # records that the master file table is made in
SYSTEM_NAMES = (
    "$AttrDef", "$BadClus", "$Bitmap", "$Boot", "$Extend", "$LogFile", "$MFT", "$MFTMirr", "$Secure", "$UpCase",
    "$Volume", ".",
)  # fmt: skip
UPCASE_SIZE = 128 * KIB
ATTRDEF_SIZE = 2560
BOOT_SIZE = 8 * KIB
# Cluster by the size of the volume up to which it serves; larger where files are few and large.
_CLUSTERS = ((16 * TIB - 64 * KIB, 4 * KIB), (32 * TIB - 64 * KIB, 8 * KIB), (MOST, 16 * KIB))
_OF_MEDIA = 64 * KIB
_MEDIA_FROM = 4 * GIB


class PlannedNtfs(Frozen, dict=True, gc=True):
    """An NTFS that is to be made in `size` bytes; places are clusters."""

    size: int
    options: NtfsOptions
    shape: Shape
    log_size: int

    @property
    def bitmap_size(self) -> int:
        """Bytes of the map of clusters."""
        return align_up(-(-self.shape.clusters // 8), 8)

    @cached_property
    def folders(self) -> tuple[Planned, ...]:
        """The folders to be made in it."""
        return folders.plan(self.options)

    @cached_property
    def records(self) -> int:
        """Records of the fresh master file table."""
        return align_up(folders.FIRST + len(self.folders), TABLE_STEP)

    @property
    def table_size(self) -> int:
        """Bytes of the master file table."""
        return self.records * self.shape.record_size

    @property
    def mirror_size(self) -> int:
        """Bytes of the mirror: four records, or as many as a cluster holds."""
        return max(4 * self.shape.record_size, self.shape.unit)

    @cached_property
    def places(self) -> dict[str, tuple[Cluster, int]]:
        """First cluster and bytes of everything with runs, by a name; ascending but for the mirror in the middle."""
        sizes = (
            ("boot", BOOT_SIZE),
            ("attrdef", ATTRDEF_SIZE),
            ("upcase", UPCASE_SIZE),
            ("secure", security.stream_size(self.options)),
            ("log", self.log_size),
            ("map", self.bitmap_size),
            ("records", self.records // 8),
            *((name, count * INDEX_BLOCK) for name, count in self.index_blocks.items()),
            ("table", self.table_size),
        )
        found, place = {}, 0
        for name, size in sizes:
            found[name] = (Cluster(place), size)
            place += -(-size // self.shape.unit)
        found["mirror"] = (Cluster(max(self.shape.clusters // 2, place)), self.mirror_size)
        return found

    @cached_property
    def index_blocks(self) -> dict[str, int]:
        """Blocks of every index that has any, by a name: the root's, the list of mount points, those of folders."""
        names = (*SYSTEM_NAMES, *(folder.name for folder in self.folders if folder.parent == ROOT))
        counts = {"root": folders.index_blocks(names), "reparse": folders.reparse_blocks(self.folders)}
        counts |= {index_name(folder): folders.blocks_of(folder) for folder in self.folders}
        return {name: count for name, count in counts.items() if count}

    def taken(self, name: str) -> int:
        """Return the clusters that something takes."""
        return -(-self.places[name][1] // self.shape.unit)

    @property
    def used(self) -> int:
        """Clusters in use."""
        return sum(self.taken(name) for name in self.places)

    def capacity(self) -> Capacity:
        """Return what statvfs gives on the fresh mount, and where the rest of the partition went."""
        cluster, total = self.shape.unit, self.shape.total
        free = (self.shape.clusters - self.used) * cluster
        named = {"log": "log", "table": "master file table", "map": "map of clusters", "secure": "access rights"}
        losses = [(what, self.taken(name) * cluster) for name, what in named.items()]
        rest = sum(self.taken(name) for name in self.places if name not in named) * cluster
        losses += [("boot files, table of capitals, root folder", rest), ("too short for a cluster", self.size - total)]
        found = Capacity(total, free, free, tuple(Loss(what, size) for what, size in losses if size))
        if found.available + sum(loss.size for loss in found.losses) != self.size:
            raise BugError(f"ntfs: the parts of {self.size} bytes do not add up")
        return found

    def footprint(self) -> int:
        """Return the most bytes that writing the filesystem stores."""
        indexes = sum(self.index_blocks.values()) * INDEX_BLOCK
        rights = 2 * (security.stream_size(self.options) - security.MIRROR)
        fixed = 2 * BOOT_SIZE + UPCASE_SIZE + 3 * 4 * KIB + rights + indexes
        mirror = min(self.mirror_size, self.table_size)
        return self.log_size + self.table_size + mirror + fixed + 64 * KIB

    def state(self) -> FilesystemState:
        """Return what a reader will find once it is written."""
        options = self.options
        return FilesystemState(
            "ntfs", native_id(options.uuid), options.label, self.shape,
            (self.shape.clusters - self.used) * self.shape.unit,
            rights=security.rights_text(security.root_descriptor(options)) or "",
            links=tuple(("\\".join(["", *one.path]), folders.target(one.volume)) for one in options.folders),
        )  # fmt: skip


def index_name(folder: Planned) -> str:
    """Return the name of the place where a folder's index has its blocks, if it has any."""
    return f"folder {folder.record}"


N = TypeVar("N", bound=PlannedNtfs)


def plan(kind: type[N], size: int, options: NtfsOptions) -> N:
    """Return an NTFS to be made in `size` bytes, as a `kind` of it.

    Raises:
        UnfitError: the size is outside what NTFS is made for here, or has too many clusters of the size asked for.
    """
    cluster = options.unit or _usual(size, options)
    most = min(MOST, MOST_CLUSTERS * cluster)
    if not LEAST <= size <= most:
        units = f" in clusters of {cluster} bytes" if options.unit else ""
        raise UnfitError(f"ntfs{units} is made {outside(size, LEAST, most)}", LEAST, most)
    sectors = size // options.sector_size - 1  # the last one of the partition holds the copy of the first
    shape = Shape(options.sector_size, sectors, cluster, max(1024, options.sector_size), INDEX_BLOCK)
    log = min(max(size // 256 // MIB * MIB, 2 * MIB), 16 * MIB)
    new = kind(size, options, shape, log)
    if new.places["mirror"][0] + new.taken("mirror") >= shape.clusters:
        told = f"{show_both(size)} do not hold the metadata of ntfs in clusters of {cluster} bytes"
        raise UnfitError(told, LEAST, most)
    return new


def _usual(size: int, options: NtfsOptions) -> int:
    unit = next((unit for upto, unit in _CLUSTERS if size <= upto), _CLUSTERS[-1][1])
    if options.purpose == "media" and size >= _MEDIA_FROM:
        unit = max(unit, _OF_MEDIA)
    return max(unit, options.sector_size)


def breakpoints(options: NtfsOptions) -> tuple[int, ...]:
    """Return the sizes at which a rule of this module changes, ascending, the bounds included."""
    sizes = {LEAST, MOST, *(upto + 1 for upto, _ in _CLUSTERS[:-1])}
    sizes |= {number * 256 * MIB for number in range(3, 17)} | ({_MEDIA_FROM} if options.purpose == "media" else set())
    return tuple(sorted(sizes))
