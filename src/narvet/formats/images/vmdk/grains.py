"""Where the grains of a sparse VMDK extent lie: grain directory and tables, both of their copies, and packed grains."""

from __future__ import annotations

import zlib
from collections.abc import Callable

import numpy as np

from narvet.block.files import File
from narvet.formats.images.mapped import MOST_UNPACKED, Kind, Run, distinct_places, same_run, stored_run
from narvet.formats.images.pages import PAGE, Pages
from narvet.formats.images.vmdk.records import (
    AT_END,
    COMPRESSED,
    DEFLATE,
    DESCRIPTOR_SECTORS,
    ENTRIES,
    LINE_ENDS,
    MAGIC,
    NEWLINE_TEST,
    REDUNDANT,
    SECTOR,
    ZEROED_GRAINS,
    CompressedGrain,
    SparseHeader,
)
from narvet.ground.errors import ImageError, UnsupportedError
from narvet.ground.units import KIB, MIB, align_up

GRAIN = 64 * KIB

_LARGEST_DIRECTORY = 32 * MIB
_LARGEST_GRAIN = 64 * MIB // SECTOR
_TABLE_SECTORS = ENTRIES * 4 // SECTOR
_MOST_ENTRIES = 4096  # of a grain table; makers use 512


def sparse_header(file: File) -> SparseHeader | None:
    """Return a sparse extent's header, or the footer where that names the directory; None without the magic number."""
    if file.size < SparseHeader.size:
        return None
    header = SparseHeader.decode(file.read(0, SparseHeader.size))
    if header.magic != MAGIC:
        return None
    if header.gd_offset == AT_END:
        header = SparseHeader.decode(file.read(file.size - 2 * SECTOR, SECTOR))
        if header.magic != MAGIC or header.gd_offset == AT_END:
            raise ImageError("the VMDK's footer, which should name its grain directory, is not sound")
    grain = header.grain_size
    if not 0 < grain <= _LARGEST_GRAIN or grain & (grain - 1):
        raise ImageError(f"the VMDK's grains are {grain} sectors, a power of two up to {_LARGEST_GRAIN} expected")
    if not 0 < header.num_gtes_per_gt <= _MOST_ENTRIES:
        raise ImageError(f"the VMDK's grain tables have {header.num_gtes_per_gt} entries, 512 expected")
    tables = -(-header.capacity // (grain * header.num_gtes_per_gt))
    if header.capacity >= 1 << 53 or header.gd_offset * SECTOR + 4 * tables > file.size:
        raise ImageError(f"the VMDK's grain directory at sector {header.gd_offset} does not lie in the file")
    if 4 * tables > _LARGEST_DIRECTORY:
        raise UnsupportedError(
            f"the VMDK's grain directory has {4 * tables} bytes; at most {_LARGEST_DIRECTORY} are read"
        )
    if header.flags & COMPRESSED and header.compress_algorithm != DEFLATE:
        raise UnsupportedError(f"the VMDK is packed by method {header.compress_algorithm}, which is not known")
    return header


def layout(size: int, grain: int, *, apart: bool = False) -> SparseHeader:
    """Return the header of a sparse file for `size` bytes: descriptor unless it lies apart, tables twice, grains."""
    tables = -(-size // (grain * ENTRIES))
    directory = align_up(4 * tables, SECTOR) // SECTOR
    redundant = 1 if apart else 1 + DESCRIPTOR_SECTORS
    second = redundant + directory + tables * _TABLE_SECTORS
    end = second + directory + tables * _TABLE_SECTORS
    return SparseHeader(
        magic=MAGIC,
        version=1,
        flags=NEWLINE_TEST | REDUNDANT,
        capacity=size // SECTOR,
        grain_size=grain // SECTOR,
        descriptor_offset=0 if apart else 1,
        descriptor_size=0 if apart else DESCRIPTOR_SECTORS,
        num_gtes_per_gt=ENTRIES,
        rgd_offset=redundant,
        gd_offset=second,
        over_head=align_up(end, grain // SECTOR),
        line_ends=LINE_ENDS,
    )


def write_sparse(file: File, size: int, grain: int, descriptor: bytes = b"") -> SparseHeader:
    """Write everything of a sparse file before its grains; return the header."""
    header = layout(size, grain, apart=not descriptor)
    file.resize(header.over_head * SECTOR)
    file.write(0, header.encode())
    if descriptor:
        file.write(header.descriptor_offset * SECTOR, descriptor)
    tables = -(-size // (grain * ENTRIES))
    for directory in (header.rgd_offset, header.gd_offset):
        first = directory + align_up(4 * tables, SECTOR) // SECTOR
        places = np.arange(first, first + tables * _TABLE_SECTORS, _TABLE_SECTORS, dtype="<u4")
        file.write(directory * SECTOR, places.tobytes())
    return header


class Grains:
    """The map of an extent's grains. `on_change` is called before the first change, None if it is only read.

    Tables that are written to are cached by the sector, as grains may follow the last one directly.
    """

    def __init__(self, file: File, header: SparseHeader, on_change: Callable[[], None] | None = None) -> None:
        self._file = file
        self._header = header
        self._entries = header.num_gtes_per_gt
        self._directory = Pages(file, "<u4")
        self._tables = Pages(file, "<u4", SECTOR if on_change else PAGE)
        self._changed = False
        self._on_change = on_change
        self._unpacked: tuple[int, bytes] = (-1, b"")
        self._unpacked_bytes = 0
        tables = -(-header.capacity // (header.grain_size * self._entries))
        directory = np.frombuffer(file.read(header.gd_offset * SECTOR, 4 * tables), dtype="<u4")
        distinct_places(directory, "grain tables")
        self.block = header.grain_size * SECTOR
        self.places: dict[int, int] = {}

    def touch(self) -> None:
        """Before the first change, tell."""
        if self._on_change is not None:
            self._on_change()
            self._on_change = None

    def _table(self, index: int, directory: int) -> int:
        """Return the file offset of the table entry for a grain by one of the directories, 0 without a table."""
        number, inside = divmod(index, self._entries)
        table = self._directory.get(directory * SECTOR + 4 * number)
        return table * SECTOR + 4 * inside if table else 0

    def run(self, index: int, most: int) -> Run:
        """Return the run of grains of one kind from `index` on."""
        left = min(most, self._entries - index % self._entries)
        place = self._table(index, self._header.gd_offset)
        if not place:
            return Run(Kind.HOLE, 0, left)
        entries = self._tables.run(place, left)
        first = int(entries[0])
        if not first:
            return Run(Kind.HOLE, 0, same_run(entries == 0))
        if first == 1 and self._header.flags & ZEROED_GRAINS:
            return Run(Kind.ZERO, 0, same_run(entries == 1))
        if self._header.flags & COMPRESSED:
            return Run(Kind.PACKED, first * SECTOR, 1)
        count = min(stored_run(entries, self._header.grain_size), same_run(entries > 1))
        if (first + count * self._header.grain_size) * SECTOR > align_up(self._file.size, self.block):
            raise ImageError(f"grain {index} of the VMDK lies at sector {first}, behind the end of the file")
        return Run(Kind.DATA, first * SECTOR, count)

    def most(self, index: int, count: int) -> int:
        """Return how many grains one table describes."""
        return min(count, self._entries - index % self._entries)

    def allocate(self, index: int, count: int) -> int:
        """Append grains to the file and enter them in both tables."""
        first = align_up(self._file.size, self.block)
        self._file.resize(first + count * self.block)
        sectors = np.arange(first, first + count * self.block, self.block, dtype=np.int64) // SECTOR
        copies = (self._header.gd_offset, self._header.rgd_offset if self._header.flags & REDUNDANT else 0)
        for directory in copies:
            place = self._table(index, directory) if directory else 0
            if place:
                self._tables.put(place, sectors.astype(np.uint32))
            elif directory == self._header.gd_offset:
                raise UnsupportedError("the VMDK has grain tables still to be made; recast it to write to it")
        self._changed = True
        if self._tables.crowded:
            self.flush()
        return first

    def zero(self, index: int, count: int) -> None:
        """Not every reader knows zeroed grains: zeros are written."""

    def present(self, index: int) -> bytes:
        """Grains are whole."""
        raise ImageError(f"grain {index} cannot be partial")

    def unpack(self, index: int) -> bytes:
        """Return the content of a packed grain."""
        if self._unpacked[0] == index:
            return self._unpacked[1]
        place = self._tables.get(self._table(index, self._header.gd_offset)) * SECTOR
        marker = CompressedGrain.decode(self._file.read(place, CompressedGrain.size))
        if marker.packed_size > 2 * self.block + SECTOR:
            raise ImageError(f"the packed grain {index} at {place} has {marker.packed_size} bytes, more than any can")
        self._unpacked_bytes += marker.packed_size
        if self._unpacked_bytes > MOST_UNPACKED * self._file.size:
            raise ImageError("packed grains of the VMDK share places in its file")
        try:
            data = self._file.read(place + CompressedGrain.size, marker.packed_size)
            content = zlib.decompressobj().decompress(data, self.block)
        except zlib.error as error:
            raise ImageError(f"the packed grain {index} at {place} is damaged: {error}") from None
        self._unpacked = (index, content.ljust(self.block, b"\0"))
        return self._unpacked[1]

    def flush(self) -> None:
        """Put the data on stable storage, then the tables."""
        self._file.flush()
        if self._changed:
            self._changed = False
            self._tables.flush()
            self._file.flush()
