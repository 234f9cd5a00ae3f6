"""Checking an NTFS: every record walked, runs against the map, mirror against table, names against records, rights.

Bounded: of the master file table at most `MOST_RECORDS` are looked at; in larger ones, and where the table itself has
more runs than its first record holds, what needs all of them is left out.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.links import RECORD_BITS, listed_points, records_of
from narvet.formats.filesystems.ntfs.maps import used_runs
from narvet.formats.filesystems.ntfs.parse import (
    Found,
    Volume,
    attributes,
    content,
    index_entries,
    one_of,
    system_file,
    unprotected,
)
from narvet.formats.filesystems.ntfs.security import MIRROR, descriptor_hash
from narvet.ground.errors import ImageError
from narvet.ground.extents import joined_runs
from narvet.ground.values import Draft, field

MOST_RECORDS = 1 << 16
_MIRRORED = 4
_UPCASE_SIZE = 128 << 10
_LARGEST_RIGHTS = 16 << 20  # of $SDS that is looked at


class _Seen(Draft):
    """What walking the records brings together."""

    runs: list[tuple[int, int]] = field(default_factory=list)
    sequences: dict[int, int] = field(default_factory=dict)
    names: set[tuple[int, int, bytes]] = field(default_factory=set)
    folders: dict[int, list[Found]] = field(default_factory=dict)
    rights: dict[int, int] = field(default_factory=dict)
    points: set[int] = field(default_factory=set)


def faults(volume: Volume) -> Iterator[str]:
    """Yield what is wrong with a clean volume."""
    yield from _boot_faults(volume)
    table = content(
        volume, one_of(system_file(volume, r.MFT), r.DATA, "", "$MFT"), MOST_RECORDS * volume.shape.record_size
    )
    whole = one_of(system_file(volume, r.MFT), r.DATA, "", "$MFT").size == table.size
    yield from _mirror_faults(volume, table)
    seen = _Seen()
    yield from _walk(volume, table, seen)
    if not whole:
        return
    yield from _map_faults(volume, seen)
    yield from _name_faults(volume, seen)
    yield from _rights_faults(volume, seen)
    listed = {number for number, _ in listed_points(volume, records_of(volume, system_file(volume, r.MFT)))}
    if listed != seen.points:
        yield f"{len(listed ^ seen.points)} reparse points are listed and not there, or the other way round"


def _boot_faults(volume: Volume) -> Iterator[str]:
    boot = volume.boot
    place = boot.number_of_sectors * boot.bytes_per_sector
    if r.BootSector.decode(volume.device.read(place, r.BootSector.size)) != boot:
        yield "the boot sector and its copy in the last sector differ"


def _mirror_faults(volume: Volume, table: BlockDevice) -> Iterator[str]:
    size = _MIRRORED * volume.shape.record_size
    if volume.device.read(volume.shape.start_of(volume.boot.mftmirr_lcn), size) != table.read(0, min(size, table.size)):
        yield "the master file table and its mirror differ"


def _walk(volume: Volume, table: BlockDevice, seen: _Seen) -> Iterator[str]:
    for number in range(table.size // volume.shape.record_size):
        data = table.read(number * volume.shape.record_size, volume.shape.record_size)
        where = f"record {number}"
        try:
            data = unprotected(data, b"FILE", where)
            head = r.FileRecord.decode(data)
            if head.flags & r.IN_USE:
                _take(seen, number, head, list(attributes(volume, data, where)))
        except ImageError as error:
            if any(data):
                yield str(error)


def _take(seen: _Seen, number: int, head: r.FileRecord, found: list[Found]) -> None:
    """Remember what one record tells."""
    for one in found:
        seen.runs += [(start, start + count) for start, count in one.runs if start is not None]
    if any(one.type == r.REPARSE_POINT for one in found):
        seen.points.add(head.base_mft_record & RECORD_BITS or number)
    if head.base_mft_record:  # attributes that another record had no room for
        return
    seen.sequences[number] = head.sequence_number
    for one in found:
        if one.type == r.FILE_NAME and one.value is not None:
            name = r.FileName.decode(one.value, f"record {number}")
            seen.names.add((number, name.parent_directory & RECORD_BITS, _text(one.value)))
        elif one.type == r.STANDARD_INFORMATION and one.value and len(one.value) >= r.StandardInformation.size:
            seen.rights[number] = r.StandardInformation.decode(one.value).security_id
    if head.flags & r.IS_FOLDER:
        seen.folders[number] = found


def _text(value: bytes) -> bytes:
    name = r.FileName.decode(value)
    return value[r.FileName.size : r.FileName.size + 2 * name.file_name_length]


def _map_faults(volume: Volume, seen: _Seen) -> Iterator[str]:
    runs = np.array(sorted(seen.runs), dtype=np.int64).reshape(-1, 2)
    if len(runs) and (runs[1:, 0] < runs[:-1, 1]).any():
        yield "two files claim the same clusters"
        return
    owned, mapped = joined_runs(runs), used_runs(volume)
    if owned.shape != mapped.shape or (owned != mapped).any():
        lost, unmapped = _total(mapped), _total(owned)
        yield f"files have {unmapped} clusters, the map says {lost} are in use, or others than those"


def _total(runs: NDArray[np.int64]) -> int:
    return int((runs[:, 1] - runs[:, 0]).sum())


def _name_faults(volume: Volume, seen: _Seen) -> Iterator[str]:
    """Hold each folder's index against the names in the records, and its order against the table of capitals."""
    capitals = _capitals(volume)
    listed: set[tuple[int, int, bytes]] = set()
    for folder, found in seen.folders.items():
        try:
            for entries, where in index_entries(volume, found, "$I30", f"folder {folder}"):
                keys = []
                for one, key in entries:
                    number, sequence = one.reference & RECORD_BITS, one.reference >> 48
                    name = _text(key)
                    if seen.sequences.get(number) != sequence:
                        yield f"{where}: an entry refers to record {number}, which is not that file"
                    listed.add((number, folder, name))
                    units = capitals[np.frombuffer(name, dtype="<u2")]
                    keys.append(tuple(units.tolist()))
                if keys != sorted(keys):
                    yield f"{where}: its entries are out of order"
        except ImageError as error:
            yield str(error)
    if listed != seen.names:
        lost = len(seen.names - listed) + len(listed - seen.names)
        yield f"{lost} names are in folders and not in records, or the other way round"


def _capitals(volume: Volume) -> NDArray[np.uint16]:
    there = content(volume, one_of(system_file(volume, r.UPCASE), r.DATA, "", "$UpCase"), _UPCASE_SIZE)
    if there.size != _UPCASE_SIZE:
        raise ImageError(f"$UpCase has {there.size} bytes, {_UPCASE_SIZE} expected")
    return np.frombuffer(there.read(0, _UPCASE_SIZE), dtype="<u2")


def _rights_faults(volume: Volume, seen: _Seen) -> Iterator[str]:
    """Look every security descriptor up by its number, compare it with its hash and its second copy."""
    found = system_file(volume, r.SECURE)
    stream = content(volume, one_of(found, r.DATA, "$SDS", "$Secure"), _LARGEST_RIGHTS)
    known = set()
    for entries, where in index_entries(volume, found, "$SII", "$Secure"):
        for one, rest in entries:
            offset = (one.reference & 0xFFFF) - r.IndexEntry.size
            row = r.SecurityEntry.decode(rest[max(offset, 0) :], where)
            known.add(row.security_id)
            if row.offset + row.length <= stream.size and row.offset // MIRROR % 2 == 0:
                yield from _descriptor_faults(stream, row)
    strangers = {number for number in seen.rights.values() if number} - known
    if strangers:
        yield f"files have access rights of number {min(strangers)}, which $Secure does not have"
    hashes = sum(len(entries) for entries, _ in index_entries(volume, found, "$SDH", "$Secure"))
    if hashes != len(known):
        yield f"$Secure finds {hashes} descriptors by hash and {len(known)} by number"


def _descriptor_faults(stream: BlockDevice, row: r.SecurityEntry) -> Iterator[str]:
    data = stream.read(row.offset, row.length)
    number = row.security_id
    if data[: r.SecurityEntry.size] != row.encode() or descriptor_hash(data[r.SecurityEntry.size :]) != row.hash:
        yield f"the access rights of number {number} are not what $Secure says of them"
    elif row.offset + MIRROR + row.length > stream.size or data != stream.read(row.offset + MIRROR, row.length):
        yield f"the access rights of number {number} and their second copy differ"
