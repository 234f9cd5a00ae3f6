"""qcow2, by its specification (docs/interop/qcow2.rst): version 3 written, 2 and 3 read.

Clusters of 512 bytes to 2 MiB, thin and preallocated images, children with the format of their base, zero clusters,
compressed clusters (deflate, zstd) read. Refused by name: encryption, external data files, extended L2 entries. Images
with internal snapshots, or refcounts of other than 16 bits, are only read.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from narvet.block.contract import BlockDevice
from narvet.block.files import File, Files
from narvet.formats.images.contract import ImageFacts, ImageSpec, Opened
from narvet.formats.images.mapped import MappedDevice, all_stored, allocate_all
from narvet.formats.images.qcow2.clusters import REFCOUNT_ORDER, Clusters
from narvet.formats.images.qcow2.records import (
    CORRUPT,
    DIRTY,
    EXTENSION_BACKING_FORMAT,
    EXTENSION_BASE_LINK,
    EXTENSION_END,
    INCOMPATIBLE,
    MAGIC,
    READABLE,
    V2_LENGTH,
    V3_LENGTH,
    Extension,
    Header,
)
from narvet.ground.errors import ImageError, UnsupportedError
from narvet.ground.units import KIB, MIB, TIB, align_up
from narvet.ground.values import replace

CLUSTER = 64 * KIB
MOST = 64 * TIB
LARGEST_L1 = 32 * MIB  # as hypervisors have it
_LEAST_CLUSTER, _MOST_CLUSTER = 512, 2 * MIB
_LONGEST_NAME = 1023  # bytes, by the specification
_MOST_EXTENSIONS = 32  # a handful are known; a loop through a damaged header ends here


class Qcow2:
    """The format behind `format = "qcow2"`."""

    name = "qcow2"
    most = MOST
    sectors = (512, 4096)
    makes_children = True
    records_sector = False
    renews_link = False

    def fit(self, size: int, block: int | None = None) -> int:  # noqa: ARG002 (clusters need not be whole)
        """Return the size in whole sectors."""
        return align_up(size, 512)

    def blocks(self) -> tuple[int, ...]:
        """Return the powers of two a cluster can be."""
        return tuple(512 << shift for shift in range(13))

    def footprint(self, image_spec: ImageSpec, data: int) -> int:
        """Return header, tables, refcounts and data."""
        cluster = image_spec.block_size or CLUSTER
        total = -(-image_spec.size // cluster)
        tables = -(-total * 8 // cluster)
        if image_spec.space == "thin":
            tables = min(tables, data // 512)
        used = (total if image_spec.space == "full" else min(data // 512, total)) + tables
        counts = -(-used * 2 // cluster) + 2
        first = 4 + _table_clusters(total, cluster) + -(-tables * 8 // cluster)
        return (tables + counts + first) * cluster + (total * cluster if image_spec.space == "full" else data)

    @contextmanager
    def create(self, files: Files, name: str, image_spec: ImageSpec) -> Iterator[BlockDevice]:
        """Make an image; full allocates every cluster and every table, and the file all of its bytes."""
        cluster, file = image_spec.block_size or CLUSTER, files.create(name)
        header = _new_header(file, image_spec, cluster)
        clusters = Clusters(file, header)
        clusters.refcounts.raise_first(file.size // cluster)
        device = MappedDevice(file, clusters, image_spec.size, image_spec.sector_size)
        if image_spec.space == "full" and image_spec.base is None:
            allocate_all(clusters, file, image_spec.size)
        yield device
        clusters.flush()

    def probe(self, files: Files, name: str, *, writable: bool = False) -> Opened | None:
        """Open an image; None without its magic number."""
        file = files.open(name, writable=writable)
        header = _read_header(file)
        if header is None:
            return None
        link = f"{file.size}-{file.changed}"
        base, extensions = _base(file, header, files), _extensions(file, header)
        clusters = Clusters(file, header)
        full = all_stored(clusters, header.disk_size)
        if writable:
            _check_writable(header)
            file.resize(align_up(file.size, 1 << header.cluster_bits))
            clusters.refcounts.check()
        facts = ImageFacts(
            format="qcow2",
            space="full" if full and base is None else "thin",
            size=header.disk_size,
            sector_size=0,
            allocated=file.stored,
            block_size=1 << header.cluster_bits,
            link=link,
            base=base,
            base_link=extensions.get(EXTENSION_BASE_LINK, b"").decode("ascii", "replace"),
            base_format=extensions.get(EXTENSION_BACKING_FORMAT, b"").decode("ascii", "replace"),
        )

        def device(sector_size: int, below: BlockDevice | None) -> BlockDevice:
            return MappedDevice(file, clusters, header.disk_size, sector_size or 512, below)

        return Opened(facts, device, clusters.flush)

    def enlarge(self, files: Files, name: str, size: int, *, full: bool = False, piece: int | None = None) -> None:
        """Make the disk larger: a longer L1 table, if need be, and another size in the header."""
        del piece
        opened = self.probe(files, name, writable=True)
        file = files.open(name, writable=True)
        header = _read_header(file)
        if opened is None or header is None:
            raise ImageError("this is not a qcow2 image")
        cluster = 1 << header.cluster_bits
        if 8 * -(-size // (cluster * cluster // 8)) > LARGEST_L1:
            raise UnsupportedError(f"clusters of {cluster} bytes do not reach so far; recast it with a larger block")
        clusters = Clusters(file, header)
        clusters.enlarge(size)
        if full:
            allocate_all(clusters, file, size, -(-header.disk_size // cluster))
        clusters.flush()


FORMAT = Qcow2()


def _new_header(file: File, image_spec: ImageSpec, cluster: int) -> Header:
    """Write header, refcount table and L1 table; return the header."""
    entries = max(-(-image_spec.size // (cluster * cluster // 8)), 1)
    table = align_up(8 * entries, cluster)
    counts = _table_clusters(-(-image_spec.size // cluster), cluster)
    header = Header(
        magic=MAGIC,
        version=3,
        cluster_bits=cluster.bit_length() - 1,
        disk_size=image_spec.size,
        l1_size=entries,
        l1_table_offset=(1 + counts) * cluster,
        refcount_table_offset=cluster,
        refcount_table_clusters=counts,
        refcount_order=REFCOUNT_ORDER,
        header_length=Header.size,
    )
    tail = b""
    if image_spec.base:
        base = image_spec.base
        tail += _extension(EXTENSION_BACKING_FORMAT, base.format.encode()) + _extension(
            EXTENSION_BASE_LINK, base.link.encode()
        )
    tail += _extension(EXTENSION_END, b"")
    if image_spec.base:
        name = image_spec.base.relative.encode()
        header = replace(header, backing_file_offset=Header.size + len(tail), backing_file_size=len(name))
        tail += name
    if Header.size + len(tail) > cluster:
        raise UnsupportedError(f"the name of the base does not fit a cluster of {cluster} bytes; choose a larger block")
    file.resize((1 + counts) * cluster + table)
    file.write(0, header.encode() + tail)
    return header


def _table_clusters(total: int, cluster: int) -> int:
    """Return the clusters of a refcount table that serves a file with all `total` clusters of the disk stored."""
    blocks = -(-(total * 9 // 8 + 64) * 2 // cluster) + 1
    return -(-blocks * 8 // cluster)


def _extension(kind: int, data: bytes) -> bytes:
    return Extension(kind=kind, length=len(data)).encode() + data.ljust(align_up(len(data), 8), b"\0")


def _read_header(file: File) -> Header | None:
    """Return the header, every value checked that others follow; None without the magic number."""
    if file.size < V2_LENGTH:
        return None
    data = file.read(0, min(file.size, Header.size)).ljust(Header.size, b"\0")
    header = Header.decode(data)
    if header.magic != MAGIC:
        return None
    if header.version == 2:
        header = replace(
            Header.decode(data[:V2_LENGTH].ljust(Header.size, b"\0")), refcount_order=4, header_length=V2_LENGTH
        )
    elif header.version != 3:
        raise UnsupportedError(f"the image is of version {header.version}; 2 and 3 are known")
    elif header.header_length < Header.size:
        kept = data[: max(header.header_length, V3_LENGTH)].ljust(Header.size, b"\0")
        header = Header.decode(kept)
    _check(header, file)
    return header


def _check(header: Header, file: File) -> None:
    unknown = header.incompatible_features & ~READABLE
    if unknown:
        names = [INCOMPATIBLE.get(1 << bit, f"bit {bit}") for bit in range(64) if unknown >> bit & 1]
        raise UnsupportedError(f"the image uses {', '.join(names)}, which cannot be read yet")
    if header.crypt_method:
        raise UnsupportedError("the image is encrypted; decrypt it where its key is")
    if not _LEAST_CLUSTER <= 1 << min(header.cluster_bits, 64) <= _MOST_CLUSTER:
        raise ImageError(f"the image's cluster_bits are {header.cluster_bits}, 9 to 21 expected")
    cluster = 1 << header.cluster_bits
    needed = -(-header.disk_size // (cluster * cluster // 8))
    if header.disk_size >= 1 << 63 or header.l1_size < needed:
        raise ImageError(f"the image's L1 table of {header.l1_size} entries is too short for {header.disk_size} bytes")
    if 8 * needed > LARGEST_L1:
        raise UnsupportedError(f"the image's L1 table has {8 * needed} bytes; at most {LARGEST_L1} are read")
    if needed and (header.l1_table_offset % cluster or header.l1_table_offset + 8 * needed > file.size):
        raise ImageError(f"the image's L1 table at {header.l1_table_offset} does not lie in the file")
    if header.refcount_order > 6:
        raise ImageError(f"the image's refcount_order is {header.refcount_order}, at most 6 expected")


def _check_writable(header: Header) -> None:
    if header.incompatible_features & (DIRTY | CORRUPT):
        names = [name for bit, name in INCOMPATIBLE.items() if header.incompatible_features & bit & (DIRTY | CORRUPT)]
        raise UnsupportedError(f"the image is marked {' and '.join(names)}; have what wrote it repair it first")
    if header.nb_snapshots:
        raise UnsupportedError(f"the image holds {header.nb_snapshots} internal snapshots; such images are only read")
    if header.refcount_order != REFCOUNT_ORDER:
        raise UnsupportedError(f"the image counts with {1 << header.refcount_order} bits; such images are only read")


def _extensions(file: File, header: Header) -> dict[int, bytes]:
    found: dict[int, bytes] = {}
    offset, end = header.header_length, min(1 << header.cluster_bits, file.size)
    for _ in range(_MOST_EXTENSIONS):
        if header.version < 3 or offset + Extension.size > end:
            break
        extension = Extension.decode(file.read(offset, Extension.size))
        offset += Extension.size
        if extension.kind == EXTENSION_END or offset + extension.length > end:
            break
        found[extension.kind] = file.read(offset, extension.length)
        offset += align_up(extension.length, 8)
    return found


def _base(file: File, header: Header, files: Files) -> str | None:
    if not header.backing_file_offset:
        return None
    if header.backing_file_size > _LONGEST_NAME:
        raise ImageError(f"the name of the image's base has {header.backing_file_size} bytes, at most 1023 expected")
    name = file.read(header.backing_file_offset, header.backing_file_size).decode("utf-8", "surrogateescape")
    if not name or "\0" in name:
        raise ImageError("the image is a child, but the name of its base cannot be read")
    return files.shown(name)
