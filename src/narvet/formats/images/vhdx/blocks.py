"""Where the blocks of a VHDX lie: the block allocation table ([MS-VHDX] 2.5), changed only through the log."""

from __future__ import annotations

from uuid import UUID

import numpy as np

from narvet.block.files import File
from narvet.formats.images.mapped import Kind, Run, same_run, stored_run
from narvet.formats.images.pages import Pages
from narvet.formats.images.spare import SpareRuns
from narvet.formats.images.vhdx.log import SECTOR, entry_bytes, most_sectors
from narvet.formats.images.vhdx.records import (
    FULLY_PRESENT,
    HEADER_OFFSETS,
    HEADER_SIZE,
    NOT_PRESENT,
    PARTIALLY_PRESENT,
    SB_PRESENT,
    STATE,
    ZERO,
    Header,
)
from narvet.ground.checksums import crc32c
from narvet.ground.errors import ImageError
from narvet.ground.ids import derive
from narvet.ground.units import MIB, align_up
from narvet.ground.values import replace

_OFFSET = np.uint64(0xFFFFFFFFFFF00000)


def signed(header: Header) -> bytes:
    """Return a header with its checksum, as long as what that covers."""
    blank = replace(header, checksum=0).encode().ljust(HEADER_SIZE, b"\0")
    return replace(header, checksum=crc32c(blank)).encode().ljust(HEADER_SIZE, b"\0")


class Blocks:
    """The map of an image's blocks; `fresh` while a new image is put together, which needs no log."""

    def __init__(
        self, file: File, header: Header, bat: int, block: int, sector_size: int, *, fresh: bool = False
    ) -> None:
        self._file = file
        self._header = header
        self._bat = bat
        self._sector = sector_size
        self._ratio = (sector_size << 23) // block
        self._pages = Pages(file, "<u8")
        self._fresh = fresh
        self._changed = self._announced = False
        self.block = block
        self.places: dict[int, int] = {}
        self._spare = SpareRuns()

    def _place(self, index: int) -> int:
        return self._bat + 8 * (index + index // self._ratio)

    def run(self, index: int, most: int) -> Run:
        """Return the run of blocks in one state from `index` on."""
        entries = self._pages.run(self._place(index), min(most, self._ratio - index % self._ratio))
        states = entries & np.uint64(STATE)
        state, count = int(states[0]), same_run(states)
        if state == NOT_PRESENT:
            return Run(Kind.HOLE, 0, count)
        if state in (FULLY_PRESENT, PARTIALLY_PRESENT):
            places = entries[:count] & _OFFSET
            stored = stored_run(places, self.block) if state == FULLY_PRESENT else 1
            place = int(places[0])
            if place < MIB or place + stored * self.block > self._file.size:
                raise ImageError(f"block {index} of the VHDX lies at {place}, behind the end of the file")
            return Run(Kind.DATA if state == FULLY_PRESENT else Kind.PARTIAL, place, stored)
        return Run(Kind.ZERO, 0, count)

    def most(self, index: int, count: int) -> int:
        """Return how many blocks of one chunk can be given places in a row."""
        return self._spare.longest(self.block, min(count, self._ratio - index % self._ratio))

    def allocate(self, index: int, count: int) -> int:
        """Give blocks places, spare or at the file's end; a partial block stays where it is and becomes whole."""
        entry = self._pages.get(self._place(index))
        if entry & STATE == PARTIALLY_PRESENT:
            first = entry & int(_OFFSET)
        else:
            spare = self._spare.take(count * self.block, self._file)
            first = align_up(self._file.size, MIB) if spare is None else spare
            self._file.resize(max(self._file.size, first + count * self.block))
        places = np.arange(first, first + count * self.block, self.block, dtype=np.uint64)
        self._pages.put(self._place(index), places | np.uint64(FULLY_PRESENT))
        self._changed = True
        if self._pages.crowded:
            self.flush()
        return first

    def zero(self, index: int, count: int) -> None:
        """Mark blocks as reading as zeros."""
        while count:
            part = min(count, self._ratio - index % self._ratio)
            for entry in self._pages.run(self._place(index), part).tolist():
                if entry & STATE == FULLY_PRESENT:
                    self._spare.give_up(entry & int(_OFFSET), self.block)
            self._pages.put(self._place(index), np.full(part, ZERO, dtype=np.uint64))
            index, count = index + part, count - part
        self._changed = True

    def present(self, index: int) -> bytes:
        """Return the bits of the sectors that count in a partial block (section 2.5.1.2)."""
        chunk, inside = divmod(index, self._ratio)
        entry = self._pages.get(self._bat + 8 * ((chunk + 1) * self._ratio + chunk))
        if entry & STATE != SB_PRESENT:
            raise ImageError(f"block {index} of the VHDX is partial, but its sector bitmap is missing")
        length = self.block // self._sector // 8
        bits = np.frombuffer(self._file.read((entry & int(_OFFSET)) + inside * length, length), dtype=np.uint8)
        return np.packbits(np.unpackbits(bits, bitorder="little")).tobytes()

    def unpack(self, index: int) -> bytes:
        """Blocks are never compressed."""
        raise ImageError(f"block {index} of a VHDX cannot be compressed")

    def touch(self) -> None:
        """Before the first change, give the image new write ids: its children must notice."""
        if self._fresh or self._announced:
            return
        self._announced = True
        number = self._header.sequence_number
        self._set_header(
            replace(
                self._header,
                file_write_guid=derive(self._header.file_write_guid, "file", number),
                data_write_guid=derive(self._header.data_write_guid, "data", number),
            )
        )

    def _set_header(self, header: Header) -> None:
        """Write the header that is not current, which makes it so (section 2.2.2.1)."""
        first = Header.decode(self._file.read(HEADER_OFFSETS[0], Header.size))
        spare = 1 if first.sequence_number == self._header.sequence_number else 0
        self._header = replace(header, sequence_number=self._header.sequence_number + 1)
        self._file.write(HEADER_OFFSETS[spare], signed(self._header))
        self._file.flush()

    def clear_log(self) -> None:
        """Say that the log holds nothing to be replayed: it has been."""
        self._set_header(replace(self._header, log_guid=UUID(int=0)))

    def flush(self) -> None:
        """Put the data on stable storage, then the table: through the log, unless the image is still being made."""
        self._file.flush()
        if not self._changed:
            return
        self._changed = False
        if self._fresh:
            self._pages.flush()
            self._file.flush()
            self._spare.settle()
            return
        sectors = [
            (offset + start, content[start : start + SECTOR])
            for offset, content in self._pages.changes()
            for start in range(0, len(content), SECTOR)
        ]
        step = most_sectors(self._header.log_length)
        for start in range(0, len(sectors), step):
            self._logged(sectors[start : start + step])
        self._spare.settle()

    def _logged(self, sectors: list[tuple[int, bytes]]) -> None:
        number = self._header.sequence_number + 1
        guid = derive(self._header.file_write_guid, "log", number)
        self._file.write(self._header.log_offset, entry_bytes(sectors, guid, number, self._file.size))
        self._file.flush()
        self._set_header(replace(self._header, log_guid=guid))
        for offset, content in sectors:
            self._file.write(offset, content)
        self._file.flush()
        self._set_header(replace(self._header, log_guid=UUID(int=0)))
