"""Where the clusters of a qcow2 image lie: L1 and L2 tables, and the refcounts of everything in the file.

Changes are ordered so that a crash leaves at worst clusters that are counted but not used: data and refcounts first,
then L2 tables, then the L1 table, and counts are lowered only when nothing points at a cluster any more.
"""

from __future__ import annotations

import zlib

import numpy as np

from narvet.block.files import File
from narvet.formats.images.mapped import MOST_UNPACKED, Kind, Run, distinct_places, same_run, stored_run
from narvet.formats.images.pages import Pages
from narvet.formats.images.qcow2.records import COMPRESSED, COPIED, OFFSET, READS_ZERO, Header
from narvet.formats.images.spare import SpareRuns
from narvet.ground.errors import ImageError, UnsupportedError
from narvet.ground.units import align_up
from narvet.ground.values import replace

_LARGEST_TABLE = 8 << 20  # bytes: refcounts of 64 TiB in clusters of 4 KiB; hypervisors read no more
_MOST_USERS = 0xFFFF
REFCOUNT_ORDER = 4  # 16 bits, as versions 2 and 3 both have them


class Refcounts:
    """The refcounts of all clusters, 16 bits each, and the end of the file where new clusters come from."""

    def __init__(self, file: File, header: Header) -> None:
        self._file = file
        self.cluster = 1 << header.cluster_bits
        self.table_offset = header.refcount_table_offset
        self.table_clusters = header.refcount_table_clusters
        self._per_block = self.cluster // 2
        self._table = Pages(file, ">u8", self.cluster)
        self._counts = Pages(file, ">u2", self.cluster)
        self.end = align_up(file.size, self.cluster)
        self.changed = False
        self.spare = SpareRuns()

    def check(self) -> None:
        """Check, before the image is written to, that the table and its blocks lie in the file, each in a place alone.

        Raises:
            ImageError: they do not.
        """
        length = self.table_clusters * self.cluster
        if self.table_offset % self.cluster or not self.table_offset or self.table_offset + length > self._file.size:
            raise ImageError(f"the refcount table at {self.table_offset} does not lie in the file")
        if length > _LARGEST_TABLE:
            raise ImageError(f"the refcount table has {length} bytes, at most {_LARGEST_TABLE} expected")
        places = np.frombuffer(self._file.read(self.table_offset, length), dtype=">u8").astype(np.uint64)
        wrong = places[(places % self.cluster != 0) | (places + np.uint64(self.cluster) > self._file.size)]
        if len(wrong):
            raise ImageError(f"a refcount block is at {int(wrong[0])}, which is not a cluster of the file")
        distinct_places(places, "refcount blocks")
        if -(-self._file.size // self.cluster // self._per_block) * 8 > _LARGEST_TABLE:
            raise UnsupportedError(f"the image's file has {self._file.size} bytes, more than can be counted")

    def append(self, count: int) -> int:
        """Give `count` clusters, spare or at the end of the file, which read as zeros; return where they start."""
        spare = self.spare.take(count * self.cluster, self._file)
        first = self._take(count) if spare is None else spare
        self._count(first // self.cluster, count, 1)
        return first

    def raise_first(self, count: int) -> None:
        """Count the clusters that a new file starts with."""
        self._count(0, count, 1)

    def lower(self, offset: int, length: int) -> None:
        """Count one user less of every cluster that the bytes touch."""
        first = offset // self.cluster
        self._count(first, (offset + length - 1) // self.cluster - first + 1, -1)

    def give_up(self, offset: int, length: int) -> None:
        """Count one user less, and have whole clusters used again that then have none, once that is flushed."""
        self.lower(offset, length)
        whole = length == self.cluster and offset % self.cluster == 0
        block, inside = divmod(offset // self.cluster, self._per_block)
        if whole and not self._counts.get(self._block(block) + 2 * inside):
            self.spare.give_up(offset, length)

    def flush(self) -> None:
        """Write counts and their table; the caller syncs."""
        self.changed = False
        self._counts.flush()
        self._table.flush()

    def _take(self, count: int) -> int:
        first = self.end
        self.end += count * self.cluster
        self._file.resize(self.end)
        return first

    def _count(self, first: int, count: int, change: int) -> None:
        self.changed = True
        while count:
            block, inside = divmod(first, self._per_block)
            part = min(count, self._per_block - inside)
            place = self._block(block) + 2 * inside
            old = np.concatenate([self._counts.run(place + 2 * done, part - done) for done in self._steps(place, part)])
            new = old.astype(np.int64) + change
            if new.min() < 0 or new.max() > _MOST_USERS:
                raise ImageError(
                    f"the refcounts of clusters from {first} on are damaged: they do not count what is used"
                )
            self._counts.put(place, new.astype(np.uint16))
            first, count = first + part, count - part

    def _steps(self, place: int, count: int) -> list[int]:
        """Return where in `count` counts from `place` on each page starts."""
        steps, done = [], 0
        while done < count:
            steps.append(done)
            done += len(self._counts.run(place + 2 * done, count - done))
        return steps

    def _block(self, number: int) -> int:
        """Return the offset of a refcount block, made if it is missing."""
        if 8 * number >= self.table_clusters * self.cluster:
            self._enlarge(number + 1)
        place = self._table.get(self.table_offset + 8 * number)
        if not place:
            place = self._take(1)
            self._table.put(self.table_offset + 8 * number, np.array([place], dtype=np.uint64))
            self._count(place // self.cluster, 1, 1)
        if place % self.cluster or place + self.cluster > self._file.size:
            raise ImageError(f"the refcount block {number} is at {place}, which is not a cluster of the file")
        return place

    def _enlarge(self, blocks: int) -> None:
        """Move the refcount table to the end of the file with twice the room; the header names it at the next flush."""
        clusters = max(2 * self.table_clusters, -(-8 * blocks // self.cluster))
        old = self._file.read(self.table_offset, self.table_clusters * self.cluster)
        changed = dict(self._table.changes())
        content = bytearray(old)
        for offset, page in changed.items():
            first = max(offset, self.table_offset)
            part = page[first - offset : self.table_offset + len(old) - offset]
            content[first - self.table_offset : first - self.table_offset + len(part)] = part
        given_up = (self.table_offset, len(old))
        place = self._take(clusters)
        self._file.write(place, bytes(content))
        self.table_offset, self.table_clusters = place, clusters
        self._count(place // self.cluster, clusters, 1)
        self.lower(*given_up)


class Clusters:
    """The map of an image's clusters."""

    def __init__(self, file: File, header: Header) -> None:
        self._file = file
        self._header = header
        self.block = 1 << header.cluster_bits
        self.places: dict[int, int] = {}
        self._per_table = self.block // 8
        self._l1 = Pages(file, ">u8", self.block)
        self._l2 = Pages(file, ">u8", self.block)
        self.refcounts = Refcounts(file, header)
        self._unused: list[tuple[int, int]] = []
        self._changed = False
        self._unpacked: tuple[int, bytes] = (-1, b"")
        self._unpacked_bytes = 0
        entries = -(-header.disk_size // (self.block * self._per_table))
        table = np.frombuffer(file.read(header.l1_table_offset, 8 * entries), dtype=">u8").astype(np.uint64)
        distinct_places(table & np.uint64(OFFSET), "L2 tables")

    def _table(self, index: int) -> int:
        """Return the offset of the L2 table for a cluster, 0 if there is none."""
        place = self._l1.get(self._header.l1_table_offset + 8 * (index // self._per_table)) & OFFSET
        if place and (place % self.block or place + self.block > self._file.size):
            raise ImageError(f"an L2 table is at {place}, which is not a cluster of the file")
        return place

    def run(self, index: int, most: int) -> Run:
        """Return the run of clusters of one kind from `index` on."""
        table, inside = self._table(index), index % self._per_table
        left = min(self._per_table - inside, most)
        if not table:
            return Run(Kind.HOLE, 0, min(left + self._empty_after(index) * self._per_table, most))
        entries = self._l2.run(table + 8 * inside, left)
        first = int(entries[0])
        if first & COMPRESSED:
            return Run(Kind.PACKED, 0, 1)
        if self._header.version >= 3 and first & READS_ZERO:
            return Run(Kind.ZERO, 0, same_run((entries & (COMPRESSED | READS_ZERO)) == READS_ZERO))
        places = entries & np.uint64(OFFSET)
        plain = (entries & np.uint64(COMPRESSED | READS_ZERO)) == 0
        if not first & OFFSET:
            return Run(Kind.HOLE, 0, same_run((places == 0) & plain))
        count = min(stored_run(places, self.block), same_run(plain))
        place = first & OFFSET
        if place % self.block or place + count * self.block > align_up(self._file.size, self.block):
            raise ImageError(f"cluster {index} is at {place}, which is not a cluster of the file")
        return Run(Kind.DATA, place, count)

    def _empty_after(self, index: int) -> int:
        """Return how many L1 entries after a cluster's own are empty, as far as a page tells."""
        number = index // self._per_table + 1
        if number >= self._header.l1_size:
            return 0
        entries = self._l1.run(self._header.l1_table_offset + 8 * number, self._header.l1_size - number) & np.uint64(
            OFFSET
        )
        return 0 if entries[0] else same_run(entries == 0)

    def most(self, index: int, count: int) -> int:
        """Return how many of the clusters one L2 table describes."""
        return self.refcounts.spare.longest(self.block, min(count, self._per_table - index % self._per_table))

    def allocate(self, index: int, count: int) -> int:
        """Take clusters of the file and point at them; what was stored there before is given up at the next flush."""
        table = self._table(index) or self._new_table(index)
        place = table + 8 * (index % self._per_table)
        self._give_up(place, count)
        first = self.refcounts.append(count)
        entries = np.arange(first, first + count * self.block, self.block, dtype=np.uint64) | np.uint64(COPIED)
        self._l2.put(place, entries)
        self._changed = True
        if self._l2.crowded:
            self.flush()
        return first

    def _new_table(self, index: int) -> int:
        table = self.refcounts.append(1)
        entry = np.array([table | COPIED], dtype=np.uint64)
        self._l1.put(self._header.l1_table_offset + 8 * (index // self._per_table), entry)
        return table

    def _give_up(self, place: int, count: int) -> None:
        for entry in self._l2.run(place, count).tolist():
            if entry & COMPRESSED:
                self._unused.append(self._packed(entry))
            elif entry & OFFSET:
                self._unused.append((entry & OFFSET, self.block))

    def zero(self, index: int, count: int) -> None:
        """Mark clusters as reading as zeros and give up what they stored; version 2 cannot say so."""
        if self._header.version < 3:
            return
        while count:
            part = min(count, self._per_table - index % self._per_table)
            run = self.run(index, part)
            part = min(part, run.blocks)
            if run.kind is not Kind.ZERO:
                place = (self._table(index) or self._new_table(index)) + 8 * (index % self._per_table)
                self._give_up(place, part)
                self._l2.put(place, np.full(part, READS_ZERO, dtype=np.uint64))
                self._changed = True
            index, count = index + part, count - part

    def enlarge(self, size: int) -> None:
        """Make the disk `size` bytes large; the header says so at once, so the file must be staged."""
        needed = max(-(-size // (self.block * self._per_table)), 1)
        if needed > self._header.l1_size:
            old = self._header.l1_table_offset, 8 * self._header.l1_size
            content = self._file.read(*old)
            place = self.refcounts.append(-(-8 * needed // self.block))
            self._file.write(place, content)
            if content:
                self._unused.append(old)
            self._header = replace(self._header, l1_table_offset=place, l1_size=needed)
        self._header = replace(self._header, disk_size=size)
        self._file.write(0, self._header.encode()[: self._header.header_length])
        self._changed = True

    def present(self, index: int) -> bytes:
        """Clusters are whole."""
        raise ImageError(f"cluster {index} cannot be partial")

    def _packed(self, entry: int) -> tuple[int, int]:
        """Return where a compressed cluster lies in the file, and in how many bytes at most."""
        shift = 62 - (self._header.cluster_bits - 8)
        offset = entry & ((1 << shift) - 1)
        sectors = (entry & (COMPRESSED - 1)) >> shift
        return offset, (sectors + 1) * 512 - offset % 512

    def unpack(self, index: int) -> bytes:
        """Return the content of a compressed cluster."""
        if self._unpacked[0] == index:
            return self._unpacked[1]
        offset, length = self._packed(self._l2.get(self._table(index) + 8 * (index % self._per_table)))
        data = self._file.read(offset, min(length, max(self._file.size - offset, 0)))
        self._unpacked_bytes += len(data)
        if self._unpacked_bytes > MOST_UNPACKED * self._file.size:
            raise ImageError("compressed clusters of the image share places in its file")
        content = _inflated(data, self.block, self._header.compression_type)
        if len(content) != self.block:
            raise ImageError(f"the compressed cluster {index} at {offset} unpacks to {len(content)} bytes")
        self._unpacked = (index, content)
        return content

    def touch(self) -> None:
        """Before the first change, clear the features whose data only hold until then (section "Header")."""
        if self._header.version >= 3 and self._header.autoclear_features:
            self._header = replace(self._header, autoclear_features=0)
            self._file.write(0, self._header.encode()[: self._header.header_length])
            self._file.flush()

    def flush(self) -> None:
        """Put everything on stable storage in the order that a crash can never hurt."""
        self.refcounts.flush()
        self._file.flush()
        if not self._changed:
            return
        if self.refcounts.table_offset != self._header.refcount_table_offset:
            self._header = replace(
                self._header,
                refcount_table_offset=self.refcounts.table_offset,
                refcount_table_clusters=self.refcounts.table_clusters,
            )
            self._file.write(0, self._header.encode()[: self._header.header_length])
        self._l2.flush()
        self._file.flush()
        self._l1.flush()
        self._file.flush()
        self._changed = False
        if self._unused:
            for place in self._unused:
                self.refcounts.give_up(*place)
            self._unused.clear()
            self.refcounts.flush()
            self._file.flush()
            self.refcounts.spare.settle()


def _inflated(data: bytes, most: int, kind: int) -> bytes:
    """Return at most `most` unpacked bytes: deflate without a header, or zstd."""
    try:
        if kind == 0:
            return zlib.decompressobj(-zlib.MAX_WBITS).decompress(data, most)
        if kind == 1:
            import zstandard

            with zstandard.ZstdDecompressor().stream_reader(data) as reader:
                return reader.read(most)
    except Exception as error:  # zlib.error, zstandard.ZstdError: both only say that the data are damaged
        raise ImageError(f"a compressed cluster is damaged: {error}") from None
    raise UnsupportedError(f"the image's clusters are compressed by method {kind}, which is not known")
