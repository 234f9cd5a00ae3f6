"""The GUID partition table: UEFI Specification 2.10, section 5.3, for sectors of 512 and 4096 bytes.

Written with 128 entries of 128 bytes. Read with any entry size the specification allows, up to a bounded table.
"""

from __future__ import annotations

from collections.abc import Iterable
from uuid import UUID

from narvet.block.contract import BlockDevice
from narvet.formats.tables.contract import (
    POOL,
    Bounds,
    DataPartition,
    PartitionEntry,
    Reserved,
    Table,
    check_partitions,
)
from narvet.formats.tables.mbr import SIZE as MBR_SIZE
from narvet.formats.tables.mbr import is_protective, protective, resized_protective
from narvet.ground.checksums import crc32
from narvet.ground.errors import ImageError, UnsupportedError
from narvet.ground.extents import Extent
from narvet.ground.findings import Finding, Place
from narvet.ground.records import Record, guid, raw, sector64, u32, u64, utf16
from narvet.ground.rules import tables as rules
from narvet.ground.units import Sector, align_up, end_of, offset_of, sector_at
from narvet.ground.values import replace

SIGNATURE = b"EFI PART"
REVISION = 0x00010000
ENTRY_COUNT = 128
ENTRY_SIZE = 128
LINUX_TYPE = "0fc63daf-8483-4772-8e79-3d69d8477de4"
_BASIC_DATA = "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7"
_DATA: dict[DataPartition, str] = {"linux": LINUX_TYPE, "basic": _BASIC_DATA}
TYPES = {
    POOL: "e6d6d379-f507-44c2-a23c-238f2a3df928",
    "swap": "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f",
    "ntfs": _BASIC_DATA,
    "exfat": _BASIC_DATA,
    "fat32": _BASIC_DATA,
}
_SUITABLE = {
    POOL: (TYPES[POOL],),
    "swap": (TYPES["swap"],),
    "ntfs": (_BASIC_DATA,),
    "exfat": (_BASIC_DATA,),
    "fat32": (_BASIC_DATA, "c12a7328-f81f-11d2-ba4b-00a0c93ec93b"),
}
ASIDE = "e3c9e316-0b5c-4db8-817d-f92df00215ae"
ATTRIBUTES = {"read-only": 1 << 60, "hidden": 1 << 62, "no-letter": 1 << 63}
"""The flags of a basic data partition that Windows reads: the upper bits are the type's own (UEFI 2.10, table 5.7)."""

LARGEST_ENTRY_ARRAY = 1 << 20  # 64 times the usual array; a damaged count must not make us read gigabytes

_TYPE_UNUSED = bytes(16)


class GptHeader(Record, title="gpt header", size=92):
    """UEFI 2.10, table 5.5."""

    signature: bytes = raw(0, 8, "", "'EFI PART'")
    revision: int = u32(8, "", "1.0 as 0x00010000")
    header_size: int = u32(12, "bytes", "bytes the header's CRC covers")
    header_crc32: int = u32(16, "", "CRC-32 of the header with this field zero")
    reserved: int = u32(20, "", "zero")
    my_lba: Sector = sector64(24, "sectors", "where this copy lies")
    alternate_lba: Sector = sector64(32, "sectors", "where the other copy lies")
    first_usable_lba: Sector = sector64(40, "sectors", "first sector a partition may use")
    last_usable_lba: Sector = sector64(48, "sectors", "last sector a partition may use")
    disk_guid: UUID = guid(56, "", "id of the disk")
    partition_entry_lba: Sector = sector64(72, "sectors", "where the entry array starts")
    number_of_partition_entries: int = u32(80, "entries", "entries in the array")
    size_of_partition_entry: int = u32(84, "bytes", "128 times a power of two")
    partition_entry_array_crc32: int = u32(88, "", "CRC-32 of the whole array")


class GptEntry(Record, title="gpt entry", size=ENTRY_SIZE):
    """UEFI 2.10, table 5.6."""

    partition_type_guid: UUID = guid(0, "", "what the partition is for; zero if unused")
    unique_partition_guid: UUID = guid(16, "", "id of the partition")
    starting_lba: Sector = sector64(32, "sectors", "first sector")
    ending_lba: Sector = sector64(40, "sectors", "last sector, included")
    attributes: int = u64(48, "", "flags")
    partition_name: str = utf16(56, 36, "", "name")


_HEADER, _ENTRIES = Sector(1), Sector(2)  # of the first copy


def _last_sector(device: BlockDevice) -> Sector:
    return Sector(sector_at(device.size, device.sector_size) - 1)


def _array_sectors(sector_size: int) -> Sector:
    """Return the sectors the entry array takes: at least 16 KiB (UEFI 2.10, section 5.3.1)."""
    return sector_at(ENTRY_COUNT * ENTRY_SIZE, sector_size)


class Gpt:
    """The format behind `table = "gpt"`."""

    name = "gpt"
    most_partitions = ENTRY_COUNT
    label_limit = 36
    keeps_labels = True
    attributes = ATTRIBUTES
    aside = ASIDE

    def most(self, sector_size: int) -> int:
        """Return all that 64 bits of sectors hold."""
        return sector_size << 63

    def native_id(self, uuid: UUID) -> str:
        """Return the UUID."""
        return str(uuid)

    def uuid_of(self, native_id: str) -> UUID:
        """Return the UUID."""
        return UUID(native_id)

    def native_partition_id(self, table: str, uuid: UUID, number: int) -> str:
        """Return the UUID."""
        del table, number
        return str(uuid)

    def numbers(self, count: int) -> tuple[int, ...]:
        """Return 1 to `count`."""
        return tuple(range(1, count + 1))

    def bounds(self, disk_size: int, sector_size: int) -> Bounds:
        """Return what lies between the table's two copies; empty if the disk cannot hold both."""
        taken = 1 + _array_sectors(sector_size)
        first, end = Sector(1 + taken), Sector(sector_at(disk_size, sector_size) - taken)
        return Bounds(offset_of(first, sector_size), offset_of(max(end, first), sector_size))

    def reserved(self, disk_size: int, sector_size: int) -> tuple[Reserved, ...]:
        """Return the runs of the protective MBR with the first copy, and of the second copy."""
        bounds = self.bounds(disk_size, sector_size)
        end = disk_size // sector_size * sector_size
        return (
            Reserved(0, bounds.first, "protective MBR, GPT"),
            Reserved(bounds.end, end - bounds.end, "GPT, second copy"),
        )

    def partition_type(self, filesystem: str | None, data: DataPartition) -> str:
        """Return the type GUID of a partition."""
        return TYPES.get(filesystem or "", _DATA[data])

    def suits(self, type: str, filesystem: str) -> bool:  # noqa: A002 (the specification's own word)
        """Return whether a partition of this type GUID is one that such a filesystem is found on."""
        return type in _SUITABLE.get(filesystem, (LINUX_TYPE, _BASIC_DATA))

    def label_length(self, label: str) -> int:
        """Return the UTF-16 units of a partition's name."""
        return len(label.encode("utf-16-le")) // 2

    def write(self, device: BlockDevice, table: Table) -> None:
        """Write the protective MBR, then the second copy, then the first: a header never points at nothing."""
        sector_size, last = device.sector_size, _last_sector(device)
        taken = _array_sectors(sector_size)
        array = self._entries(table, sector_size)
        first = GptHeader(
            signature=SIGNATURE,
            revision=REVISION,
            header_size=GptHeader.size,
            my_lba=_HEADER,
            alternate_lba=last,
            first_usable_lba=Sector(_ENTRIES + taken),
            last_usable_lba=Sector(last - 1 - taken),
            disk_guid=UUID(table.id),
            partition_entry_lba=_ENTRIES,
            number_of_partition_entries=ENTRY_COUNT,
            size_of_partition_entry=ENTRY_SIZE,
            partition_entry_array_crc32=crc32(array),
        )
        second = replace(first, my_lba=last, alternate_lba=_HEADER, partition_entry_lba=Sector(last - taken))
        device.write(0, protective(device.size, sector_size))
        for header in (second, first):
            device.write(offset_of(header.partition_entry_lba, sector_size), array)
            device.write(offset_of(header.my_lba, sector_size), _signed(header))

    def _entries(self, table: Table, sector_size: int) -> bytes:
        array = bytearray(ENTRY_COUNT * ENTRY_SIZE)
        most = max((part.number for part in table.partitions), default=0)
        if most > ENTRY_COUNT:
            raise UnsupportedError(f"the table has a partition {most}; {ENTRY_COUNT} can be written")
        for part in table.partitions:
            array[(part.number - 1) * ENTRY_SIZE : part.number * ENTRY_SIZE] = _entry(part, sector_size).encode()
        return bytes(array)

    def change(self, device: BlockDevice, entries: Iterable[PartitionEntry]) -> None:
        """Give partitions these entries, in both copies; what lies behind the known fields of an entry stays."""
        sector_size = device.sector_size
        both = [found for found, _ in (_copy(device, place) for place in (_HEADER, _last_sector(device))) if found]
        if not both:
            raise ImageError("neither copy of the GPT is sound")
        first, array = both[0][0], bytearray(both[0][1])
        for part in entries:
            if part.number > first.number_of_partition_entries:
                raise UnsupportedError(f"the GPT has {first.number_of_partition_entries} places for partitions")
            at = (part.number - 1) * first.size_of_partition_entry
            array[at : at + ENTRY_SIZE] = _entry(part, sector_size).encode()
        for header, _ in both:
            place = offset_of(header.my_lba, sector_size)
            tail = device.read(place + GptHeader.size, header.header_size - GptHeader.size)
            device.write(offset_of(header.partition_entry_lba, sector_size), bytes(array))
            device.write(place, _signed(replace(header, partition_entry_array_crc32=crc32(bytes(array))), tail))

    def follow_end(self, device: BlockDevice, old_size: int) -> tuple[Extent, ...]:
        """Move the second copy to the new end; ids, entries, their number, boot code and other fields stay."""
        sector_size, last = device.sector_size, _last_sector(device)
        first, _ = _copy(device, _HEADER)
        place = first[0].alternate_lba if first else Sector(sector_at(old_size, sector_size) - 1)
        second, _ = _copy(device, place)
        if first is None and second is None:
            return ()
        header, array = first or second  # type: ignore[misc]
        taken = max(sector_at(align_up(len(array), sector_size), sector_size), _array_sectors(sector_size))
        head = device.read(0, sector_size)
        known = offset_of(_HEADER if first else place, sector_size) + GptHeader.size
        tail = device.read(known, header.header_size - GptHeader.size)
        entries = header.partition_entry_lba if first else _ENTRIES
        end = Sector(last - 1 - taken)
        wanted = replace(header, my_lba=_HEADER, alternate_lba=last, partition_entry_lba=entries, last_usable_lba=end)
        copy = replace(wanted, my_lba=last, alternate_lba=_HEADER, partition_entry_lba=Sector(end + 1))
        copied_to = offset_of(copy.partition_entry_lba, sector_size)
        changed = [
            _put(device, copied_to, array.ljust(offset_of(taken, sector_size), b"\0")),
            _put(device, offset_of(last, sector_size), _signed(copy, tail)),
            _put(device, sector_size, _signed(wanted, tail)),
            _put(device, 0, resized_protective(head, device.size, sector_size)),
        ]
        if first is None:
            changed.append(_put(device, offset_of(entries, sector_size), array))
        if second is not None:
            reach = max((part.end for part in _table(header, array, sector_size).partitions), default=0)
            start = offset_of(second[0].partition_entry_lba, sector_size)
            old = Extent(start, min(end_of(place, sector_size), copied_to) - start)  # both copies may overlap
            if reach <= old.start < copied_to:
                device.zero(*old)
                changed.append(old)
        return tuple(changed)

    def read(self, device: BlockDevice, where: Place) -> tuple[Table | None, tuple[Finding, ...]]:
        """Return the table of a device that is not trusted; whichever copy is sound serves."""
        sector_size = device.sector_size
        last = _last_sector(device)
        if last < _HEADER:
            return None, ()
        first, first_fault = _copy(device, _HEADER)
        ends = _end_by_first(device) if first is None else None
        if ends is not None and ends > last:
            return None, (rules.table_cut_short.error(where, end_of(ends, sector_size), device.size),)
        place = first[0].alternate_lba if first else last
        second, second_fault = _copy(device, place)
        faults = [rules.table_damaged.error(where, _unsound("first", first_fault))] if first_fault else []
        if place > last:
            faults.append(rules.table_cut_short.error(where, end_of(place, sector_size), device.size))
        elif second_fault:
            faults.append(rules.table_damaged.error(where, _unsound("second", second_fault)))
        elif place != last:
            faults.append(rules.table_not_at_end.warning(where, end_of(place, sector_size), device.size))
        if first is None and second is None:
            # Without a copy that is sound, only the protective MBR tells that a GPT was here at all.
            return None, tuple(faults if is_protective(device.read(0, MBR_SIZE)) else ())
        header, array = first or second  # type: ignore[misc]
        table = _table(header, array, sector_size)
        end = min(end_of(header.last_usable_lba, sector_size), device.size)
        faults += check_partitions(table, Bounds(offset_of(header.first_usable_lba, sector_size), end), where)
        return table, tuple(faults)


FORMAT = Gpt()


def _signed(header: GptHeader, tail: bytes = b"") -> bytes:
    """Return a header with its checksum, and what its maker put behind the fields that are known."""
    return replace(header, header_crc32=crc32(replace(header, header_crc32=0).encode() + tail)).encode() + tail


def _entry(part: PartitionEntry, sector_size: int) -> GptEntry:
    return GptEntry(
        partition_type_guid=UUID(part.type),
        unique_partition_guid=UUID(part.id),
        starting_lba=sector_at(part.start, sector_size),
        ending_lba=Sector(sector_at(part.end, sector_size) - 1),
        attributes=part.attributes,
        partition_name=part.label,
    )


def _put(device: BlockDevice, offset: int, data: bytes) -> Extent:
    device.write(offset, data)
    return Extent(offset, len(data))


def _end_by_first(device: BlockDevice) -> Sector | None:
    """Return the disk's last sector by the first header, if that is sound, whether its entries can be read or not."""
    data = device.read(offset_of(_HEADER, device.sector_size), device.sector_size)
    try:
        return _checked_header(data, _HEADER).alternate_lba
    except ImageError:
        return None


def _copy(device: BlockDevice, place: Sector) -> tuple[tuple[GptHeader, bytes] | None, str]:
    """Return a header and its entry array if the copy at sector `place` is sound, else None and why not."""
    sector_size = device.sector_size
    try:
        header = _checked_header(device.read(offset_of(place, sector_size), sector_size), place)
        array_size = header.number_of_partition_entries * header.size_of_partition_entry
        array = device.read(offset_of(header.partition_entry_lba, sector_size), array_size)
        if crc32(array) != header.partition_entry_array_crc32:
            raise ImageError("its entries do not match their checksum")
    except ImageError as error:
        return None, str(error)
    return (header, array), ""


def _checked_header(data: bytes, expected_lba: Sector) -> GptHeader:
    header = GptHeader.decode(data)
    if header.signature != SIGNATURE:
        raise ImageError("its header has no GPT signature")
    if not GptHeader.size <= header.header_size <= len(data):
        raise ImageError(f"its header gives its own size as {header.header_size} bytes")
    if crc32(GptHeader.changed(data[: header.header_size], header_crc32=0)) != header.header_crc32:
        raise ImageError("its header does not match its checksum")
    if header.my_lba != expected_lba:
        raise ImageError(f"its header says it lies at sector {header.my_lba}, not at {expected_lba}")
    size, count = header.size_of_partition_entry, header.number_of_partition_entries
    if size < ENTRY_SIZE or size & (size - 1):
        raise ImageError(f"its entries are {size} bytes, not 128 times a power of two")
    if count * size > LARGEST_ENTRY_ARRAY:
        raise ImageError(f"its {count} entries of {size} bytes are more than the {LARGEST_ENTRY_ARRAY} bytes read")
    return header


def _table(header: GptHeader, array: bytes, sector_size: int) -> Table:
    partitions = []
    used = len(array.rstrip(b"\0"))
    for index in range(-(-used // header.size_of_partition_entry)):
        start = index * header.size_of_partition_entry
        if array[start : start + len(_TYPE_UNUSED)] == _TYPE_UNUSED:
            continue
        entry = GptEntry.decode(array[start : start + ENTRY_SIZE])
        partitions.append(
            PartitionEntry(
                number=index + 1,
                start=offset_of(entry.starting_lba, sector_size),
                size=offset_of(Sector(max(entry.ending_lba + 1 - entry.starting_lba, 0)), sector_size),
                type=str(entry.partition_type_guid),
                id=str(entry.unique_partition_guid),
                label=entry.partition_name,
                attributes=entry.attributes,
            )
        )
    return Table("gpt", str(header.disk_guid), tuple(partitions))


def _unsound(copy: str, fault: str) -> str:
    return f"the {copy} copy of the GPT is not sound: {fault}"
