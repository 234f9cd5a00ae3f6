"""The log of a VHDX ([MS-VHDX] 2.3): replayed when an image is opened, and used for every change of its tables.

A change of the block allocation table is written to the log first, then in place, then the log is declared empty: a
crash at any moment leaves the old table or the new one. Reading replays into memory only, writing into the file.
"""

from __future__ import annotations

from uuid import UUID

import numpy as np

from narvet.block.files import File
from narvet.formats.images.vhdx.records import DataSector, Descriptor, Header, LogEntryHeader
from narvet.ground.checksums import crc32c
from narvet.ground.errors import ImageError, UnsupportedError
from narvet.ground.units import KIB, align_up
from narvet.ground.values import Frozen, replace

SECTOR = 4 * KIB
LARGEST_LOG = 64 << 20  # bytes; makers use 1 MiB, and a log is read whole


class _Entry(Frozen):
    header: LogEntryHeader
    changes: tuple[tuple[int, bytes], ...]


def pending(file: File, header: Header) -> tuple[tuple[tuple[int, bytes], ...], int]:
    """Return what a log asks to be written, in order, and the length the file must have.

    Raises:
        ImageError: the log is not empty and holds no complete sequence.
    """
    if header.log_guid == UUID(int=0):
        return (), 0
    if not header.log_length or header.log_length % SECTOR or header.log_offset + header.log_length > file.size:
        raise ImageError(f"the VHDX's log at {header.log_offset} does not lie in the file")
    if header.log_length > LARGEST_LOG:
        raise UnsupportedError(f"the VHDX's log has {header.log_length} bytes; at most {LARGEST_LOG} are read")
    best = _Log(file.read(header.log_offset, header.log_length), header.log_guid).latest()
    if not best:
        raise ImageError("the VHDX was not closed cleanly, and its log holds nothing whole to replay")
    last = best[-1].header
    if file.size < last.flushed_file_offset:
        raise ImageError(f"the VHDX ends at {file.size}; its log says it had {last.flushed_file_offset} bytes")
    return tuple(change for entry in best for change in entry.changes), last.last_file_offset


class _Log:
    """The log's bytes, and the entries decoded so far. What is checked is bounded, whatever the headers claim."""

    def __init__(self, data: bytes, guid: UUID) -> None:
        self._data = data
        self._guid = guid
        self._known: dict[int, _Entry | None] = {}
        self._budget = 4 * len(data) + LARGEST_LOG

    def latest(self) -> list[_Entry]:
        """Return the sequence with the largest numbers, empty if none is whole (section 2.3.3)."""
        best: list[_Entry] = []
        for start in range(0, len(self._data), SECTOR):
            sequence = self._sequence(start)
            if sequence and (not best or sequence[-1].header.sequence_number > best[-1].header.sequence_number):
                best = sequence
        return best

    def _sequence(self, start: int) -> list[_Entry]:
        """Return the entries from `start` on, up to the last one that names `start` as the tail of its sequence."""
        entries: list[_Entry] = []
        offset, used = start, 0
        while used < len(self._data):
            entry = self._entry(offset)
            if entry is None or (entries and entry.header.sequence_number != entries[-1].header.sequence_number + 1):
                break
            entries.append(entry)
            used += entry.header.entry_length
            offset = (offset + entry.header.entry_length) % len(self._data)
        while entries and entries[-1].header.tail != start:
            entries.pop()
        return entries

    def _entry(self, offset: int) -> _Entry | None:
        if offset not in self._known:
            self._known[offset] = self._decoded(offset)
        return self._known[offset]

    def _decoded(self, offset: int) -> _Entry | None:
        header = LogEntryHeader.decode(self._data[offset : offset + LogEntryHeader.size])
        length, size = header.entry_length, len(self._data)
        if header.signature != b"loge" or header.log_guid != self._guid or not header.sequence_number:
            return None
        if not length or length % SECTOR or length > size or header.tail % SECTOR or header.tail >= size:
            return None
        self._spend(length)
        data = self._data[offset : offset + length] + self._data[: max(offset + length - size, 0)]
        if crc32c(data[:4] + bytes(4) + data[8:]) != header.checksum:
            return None
        changes = self._changes(data, header)
        return None if changes is None else _Entry(header, changes)

    def _spend(self, size: int) -> None:
        self._budget -= size
        if self._budget < 0:
            raise ImageError("the VHDX's log describes more than a log of its size can hold")

    def _changes(self, data: bytes, header: LogEntryHeader) -> tuple[tuple[int, bytes], ...] | None:
        count = header.descriptor_count
        place = align_up(LogEntryHeader.size + count * Descriptor.size, SECTOR)
        if place > len(data):
            return None
        table = np.frombuffer(data, dtype=Descriptor.dtype(), count=count, offset=LogEntryHeader.size)
        if (table["sequence_number"] != header.sequence_number).any() or (table["file_offset"] % SECTOR).any():
            return None
        changes = []
        for number in range(count):
            start = LogEntryHeader.size + number * Descriptor.size
            descriptor = Descriptor.decode(data[start : start + Descriptor.size])
            if descriptor.signature == b"zero":
                length = int.from_bytes(descriptor.leading_bytes, "little")
                if not length or length % SECTOR:
                    return None
                self._spend(length)
                changes.append((descriptor.file_offset, bytes(length)))
            elif descriptor.signature == b"desc" and place + SECTOR <= len(data):
                sector_size = DataSector.decode(data[place : place + SECTOR])
                number_there = sector_size.sequence_high << 32 | sector_size.sequence_low
                if sector_size.signature != b"data" or number_there != header.sequence_number:
                    return None
                changes.append(
                    (descriptor.file_offset, descriptor.leading_bytes + sector_size.data + descriptor.trailing_bytes)
                )
                place += SECTOR
            else:
                return None
        return tuple(changes)


def entry_bytes(changes: list[tuple[int, bytes]], guid: UUID, sequence: int, file_size: int) -> bytes:
    """Return a log entry, at the log's start, for sectors of 4 KiB and where they go."""
    head = align_up(LogEntryHeader.size + len(changes) * Descriptor.size, SECTOR)
    descriptors = b"".join(
        Descriptor(
            signature=b"desc",
            trailing_bytes=data[-4:],
            leading_bytes=data[:8],
            file_offset=offset,
            sequence_number=sequence,
        ).encode()
        for offset, data in changes
    )
    sectors = b"".join(
        DataSector(
            signature=b"data", sequence_high=sequence >> 32, data=data[8:-4], sequence_low=sequence & 0xFFFFFFFF
        ).encode()
        for _, data in changes
    )
    header = LogEntryHeader(
        signature=b"loge",
        entry_length=head + len(sectors),
        sequence_number=sequence,
        descriptor_count=len(changes),
        log_guid=guid,
        flushed_file_offset=file_size,
        last_file_offset=file_size,
    )
    body = descriptors.ljust(head - LogEntryHeader.size, b"\0") + sectors
    return replace(header, checksum=crc32c(header.encode() + body)).encode() + body


def most_sectors(log_length: int) -> int:
    """Return how many sectors one entry that fits the log can change."""
    return (log_length - SECTOR) // (SECTOR + Descriptor.size) - 1
