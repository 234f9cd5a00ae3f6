"""Where the blocks of a dynamic VHD or a child lie: the table of blocks, and the bitmap before each."""

from __future__ import annotations

import numpy as np

from narvet.block.files import File
from narvet.formats.images.mapped import Kind, Run, same_run
from narvet.formats.images.pages import Pages
from narvet.formats.images.vhd.records import COOKIE, SECTOR, UNUSED, DynamicHeader, Footer
from narvet.ground.errors import ImageError
from narvet.ground.units import KIB, align_up


def _bitmap_size(block: int) -> int:
    return align_up(block // SECTOR // 8, SECTOR)


class Blocks:
    """Where the blocks of a dynamic image or a child lie: the table of blocks, and the bitmap before each."""

    def __init__(self, file: File, footer: Footer, header: DynamicHeader, *, has_base: bool) -> None:
        self._file = file
        self._footer = footer
        self._table = header.table_offset
        self._entries = header.max_table_entries
        self._pages = Pages(file, ">u4", SECTOR)
        self._has_base = has_base
        self._end = file.size  # a footer that lies there is overwritten, its copy at the start serves until `flush`
        if file.size >= SECTOR and file.read(file.size - SECTOR, 8) == COOKIE:
            self._end -= SECTOR
        self._changed = file.size == self._end
        self._made_whole: dict[int, int] = {}  # blocks that were partial, and where their bitmaps lie
        self.block = header.block_size
        self.places: dict[int, int] = {}
        self._bitmap = _bitmap_size(self.block)
        self._all = b"\xff" * (self.block // SECTOR // 8)

    def run(self, index: int, most: int) -> Run:
        """Return unused blocks in a row, or one that is stored."""
        entries = self._pages.run(self._table + 4 * index, min(most, self._entries - index))
        if entries[0] == UNUSED:
            return Run(Kind.HOLE, 0, same_run(entries == UNUSED))
        place = int(entries[0]) * SECTOR
        if place + self._bitmap + self.block > self._file.size:
            raise ImageError(f"block {index} of the VHD lies at {place}, behind the end of the file")
        whole = not self._has_base or index in self._made_whole or self._bits(place) == self._all
        return Run(Kind.DATA if whole else Kind.PARTIAL, place + self._bitmap, 1)

    def most(self, index: int, count: int) -> int:
        """Return 1: every block has its bitmap before it."""
        del index, count
        return 1

    def allocate(self, index: int, count: int) -> int:
        """Append a block, all of whose sectors count; a PARTIAL one stays where it is and becomes whole."""
        del count
        entry = self._pages.get(self._table + 4 * index)
        self._changed = True
        if entry != UNUSED:  # until its data are safe, its bitmap says what it said
            self._made_whole[index] = entry * SECTOR
            return entry * SECTOR + self._bitmap
        place = align_up(self._end + self._bitmap, 4 * KIB)
        self._file.resize(self._end)
        self._file.resize(place + self.block)
        self._end = place + self.block
        self._pages.put(self._table + 4 * index, np.array([(place - self._bitmap) // SECTOR], dtype=np.uint32))
        self._file.write(place - self._bitmap, self._all.ljust(self._bitmap, b"\0"))
        if self._pages.crowded:
            self.flush()
        return place

    def zero(self, index: int, count: int) -> None:
        """There is no way to say so: zeros are written."""

    def present(self, index: int) -> bytes:
        """Return the sector bitmap of a block."""
        return self._bits(self._pages.get(self._table + 4 * index) * SECTOR)

    def _bits(self, place: int) -> bytes:
        return self._file.read(place, self.block // SECTOR // 8)

    def unpack(self, index: int) -> bytes:
        """Blocks are never compressed."""
        raise ImageError(f"block {index} of a VHD cannot be compressed")

    def touch(self) -> None:
        """Children know the image by what changes anyway."""

    def flush(self) -> None:
        """Write the data, then the footer behind them and the table, each on stable storage before the next."""
        self._file.flush()
        if not self._changed:
            return
        self._file.resize(self._end + SECTOR)
        self._file.write(self._end, self._footer.encode())
        self._pages.flush()
        for place in self._made_whole.values():
            self._file.write(place, self._all)
        self._file.flush()
        self._made_whole.clear()
        self._changed = False
