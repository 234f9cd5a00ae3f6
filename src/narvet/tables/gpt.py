"""The GUID partition table: UEFI Specification 2.10, section 5.3, for sectors of 512 and 4096 bytes.

Written with 128 entries of 128 bytes. Read with any entry size the specification allows, up to a bounded table.
"""

from __future__ import annotations

from uuid import UUID

from narvet.block.contract import BlockDevice, Extent
from narvet.checksums import crc32
from narvet.errors import ImageError, UnsupportedError
from narvet.findings import Finding
from narvet.records import Record, at
from narvet.tables.contract import Bounds, Partition, Reserved, Table, check_partitions
from narvet.tables.mbr import SIZE as MBR_SIZE
from narvet.tables.mbr import is_protective, protective, resized_protective

SIGNATURE = b"EFI PART"
REVISION = 0x00010000
ENTRY_COUNT = 128
ENTRY_SIZE = 128
LINUX_TYPE = "0fc63daf-8483-4772-8e79-3d69d8477de4"
_BASIC_DATA = "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7"
TYPES = {
    "swap": "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f",
    "ntfs": _BASIC_DATA,
    "exfat": _BASIC_DATA,
    "fat32": _BASIC_DATA,
}
_SUITABLE = {
    "swap": (TYPES["swap"],),
    "ntfs": (_BASIC_DATA,),
    "exfat": (_BASIC_DATA,),
    "fat32": (_BASIC_DATA, "c12a7328-f81f-11d2-ba4b-00a0c93ec93b"),
}
ASIDE = "e3c9e316-0b5c-4db8-817d-f92df00215ae"
ATTRIBUTES = {"read-only": 1 << 60, "hidden": 1 << 62, "no-letter": 1 << 63}
"""What Windows heeds of a basic data partition: the upper bits are the type's own (UEFI 2.10, table 5.7)."""

LARGEST_ENTRY_ARRAY = 1 << 20  # 64 times the usual array; a damaged count must not make us read gigabytes

_TYPE_UNUSED = bytes(16)


class GptHeader(Record, title="gpt header", size=92):
    """UEFI 2.10, table 5.5."""

    signature: bytes = at(0, "8s", "", "'EFI PART'")
    revision: int = at(8, "u32", "", "1.0 as 0x00010000")
    header_size: int = at(12, "u32", "bytes", "bytes the header's CRC covers")
    header_crc32: int = at(16, "u32", "", "CRC-32 of the header with this field zero")
    reserved: int = at(20, "u32", "", "zero")
    my_lba: int = at(24, "u64", "sectors", "where this copy lies")
    alternate_lba: int = at(32, "u64", "sectors", "where the other copy lies")
    first_usable_lba: int = at(40, "u64", "sectors", "first sector a partition may use")
    last_usable_lba: int = at(48, "u64", "sectors", "last sector a partition may use")
    disk_guid: UUID = at(56, "guid", "", "id of the disk")
    partition_entry_lba: int = at(72, "u64", "sectors", "where the entry array starts")
    number_of_partition_entries: int = at(80, "u32", "entries", "entries in the array")
    size_of_partition_entry: int = at(84, "u32", "bytes", "128 times a power of two")
    partition_entry_array_crc32: int = at(88, "u32", "", "CRC-32 of the whole array")


class GptEntry(Record, title="gpt entry", size=ENTRY_SIZE):
    """UEFI 2.10, table 5.6."""

    partition_type_guid: UUID = at(0, "guid", "", "what the partition is for; zero if unused")
    unique_partition_guid: UUID = at(16, "guid", "", "id of the partition")
    starting_lba: int = at(32, "u64", "sectors", "first sector")
    ending_lba: int = at(40, "u64", "sectors", "last sector, included")
    attributes: int = at(48, "u64", "", "flags")
    partition_name: str = at(56, "utf16*36", "", "name")


def _array_sectors(sector: int) -> int:
    """Return the sectors the entry array takes: at least 16 KiB (UEFI 2.10, section 5.3.1)."""
    return ENTRY_COUNT * ENTRY_SIZE // sector


class Gpt:
    """The format behind `table = "gpt"`."""

    name = "gpt"
    most_partitions = ENTRY_COUNT
    label_limit = 36
    keeps_labels = True
    attributes = ATTRIBUTES
    aside = ASIDE

    def most(self, sector: int) -> int:
        """Return all that 64 bits of sectors hold."""
        return sector << 63

    def known_as(self, uuid: UUID) -> str:
        """Return the UUID."""
        return str(uuid)

    def part_known_as(self, table: str, uuid: UUID, number: int) -> str:
        """Return the UUID."""
        del table, number
        return str(uuid)

    def numbers(self, count: int) -> tuple[int, ...]:
        """Return 1 to `count`."""
        return tuple(range(1, count + 1))

    def ahead(self, index: int, count: int, sector: int) -> int:
        """Return nothing: all entries lie together."""
        del index, count, sector
        return 0

    def bounds(self, disk_size: int, sector: int) -> Bounds:
        """Return what lies between the table's two copies; empty if the disk cannot hold both."""
        taken = 1 + _array_sectors(sector)
        last = disk_size // sector
        return Bounds((1 + taken) * sector, max(last - taken, 1 + taken) * sector)

    def reserved(self, disk_size: int, sector: int) -> tuple[Reserved, ...]:
        """Return the runs of the protective MBR with the first copy, and of the second copy."""
        bounds = self.bounds(disk_size, sector)
        end = disk_size // sector * sector
        return (
            Reserved(0, bounds.first, "protective MBR, GPT"),
            Reserved(bounds.end, end - bounds.end, "GPT, second copy"),
        )

    def partition_type(self, filesystem: str | None, system: str) -> str:
        """Return the type GUID of a partition."""
        return TYPES.get(filesystem or "", LINUX_TYPE if system == "linux" else _BASIC_DATA)

    def suits(self, type: str, filesystem: str) -> bool:  # noqa: A002 (the specification's own word)
        """Return whether a partition of this type GUID is one that such a filesystem is found on."""
        return type in _SUITABLE.get(filesystem, (LINUX_TYPE, _BASIC_DATA))

    def label_length(self, label: str) -> int:
        """Return the UTF-16 units of a partition's name."""
        return len(label.encode("utf-16-le")) // 2

    def write(self, device: BlockDevice, table: Table) -> None:
        """Write the protective MBR, then the second copy, then the first: a header never points at nothing."""
        sector, last = device.sector, device.size // device.sector - 1
        taken = _array_sectors(sector)
        array = self._entries(table, sector)
        first = GptHeader.of(
            signature=SIGNATURE,
            revision=REVISION,
            header_size=GptHeader.size,
            my_lba=1,
            alternate_lba=last,
            first_usable_lba=2 + taken,
            last_usable_lba=last - 1 - taken,
            disk_guid=UUID(table.id),
            partition_entry_lba=2,
            number_of_partition_entries=ENTRY_COUNT,
            size_of_partition_entry=ENTRY_SIZE,
            partition_entry_array_crc32=crc32(array),
        )
        second = first.but(my_lba=last, alternate_lba=1, partition_entry_lba=last - taken)
        device.write(0, protective(device.size, sector))
        for header in (second, first):
            device.write(header.partition_entry_lba * sector, array)
            device.write(header.my_lba * sector, _signed(header))

    def _entries(self, table: Table, sector: int) -> bytes:
        array = bytearray(ENTRY_COUNT * ENTRY_SIZE)
        most = max((part.number for part in table.partitions), default=0)
        if most > ENTRY_COUNT:
            raise UnsupportedError(f"the table has a partition {most}; {ENTRY_COUNT} can be written")
        for part in table.partitions:
            entry = GptEntry.of(
                partition_type_guid=UUID(part.type),
                unique_partition_guid=UUID(part.id),
                starting_lba=part.start // sector,
                ending_lba=part.end // sector - 1,
                attributes=part.attributes,
                partition_name=part.label,
            )
            array[(part.number - 1) * ENTRY_SIZE : part.number * ENTRY_SIZE] = entry.encode()
        return bytes(array)

    def follow_end(self, device: BlockDevice, old_size: int) -> tuple[Extent, ...]:
        """Move the second copy to the new end; ids, entries, their number, boot code and other fields stay."""
        sector, last = device.sector, device.size // device.sector - 1
        first, _ = _copy(device, 1, 1)
        place = first[0].alternate_lba if first else old_size // sector - 1
        second, _ = _copy(device, place, place)
        if first is None and second is None:
            return ()
        header, array = first or second  # type: ignore[misc]
        taken = max(-(-len(array) // sector), _array_sectors(sector))
        head = device.read(0, sector)
        tail = device.read((1 if first else place) * sector + GptHeader.size, header.header_size - GptHeader.size)
        entries = header.partition_entry_lba if first else 2
        wanted = header.but(my_lba=1, alternate_lba=last, partition_entry_lba=entries, last_usable_lba=last - 1 - taken)
        copy = wanted.but(my_lba=last, alternate_lba=1, partition_entry_lba=last - taken)
        changed = [
            _put(device, copy.partition_entry_lba * sector, array.ljust(taken * sector, b"\0")),
            _put(device, last * sector, _signed(copy, tail)),
            _put(device, sector, _signed(wanted, tail)),
            _put(device, 0, resized_protective(head, device.size, sector)),
        ]
        if first is None:
            changed.append(_put(device, entries * sector, array))
        if second is not None:
            reach = max((part.end for part in _table(header, array, sector).partitions), default=0)
            old = Extent(second[0].partition_entry_lba * sector, (place + 1 - second[0].partition_entry_lba) * sector)
            if reach <= old.start < copy.partition_entry_lba * sector:
                device.zero(*old)
                changed.append(old)
        return tuple(changed)

    def read(self, device: BlockDevice, where: str) -> tuple[Table | None, tuple[Finding, ...]]:
        """Return the table of a device that is not trusted; whichever copy is sound serves."""
        sector = device.sector
        last = device.size // sector - 1
        if last < 1:
            return None, ()
        first, first_fault = _copy(device, 1, 1)
        ends = _end_by_first(device)
        if ends is not None and ends > last and first is None:
            return None, (_cut_short(where, (ends + 1) * sector, device.size),)
        place = first[0].alternate_lba if first else last
        second, second_fault = _copy(device, place, place)
        faults = [_damaged(where, "first", first_fault)] if first_fault else []
        if place > last:
            faults.append(_cut_short(where, (place + 1) * sector, device.size))
        elif second_fault:
            faults.append(_damaged(where, "second", second_fault))
        elif place != last:
            faults.append(_not_at_end(where, (place + 1) * sector, device.size))
        if first is None and second is None:
            # Without a copy that is sound, only the protective MBR tells that a GPT was here at all.
            return None, tuple(faults if is_protective(device.read(0, MBR_SIZE)) else ())
        header, array = first or second  # type: ignore[misc]
        table = _table(header, array, sector)
        bounds = Bounds(header.first_usable_lba * sector, (header.last_usable_lba + 1) * sector)
        faults += check_partitions(table, Bounds(bounds.first, min(bounds.end, device.size)), where)
        return table, tuple(faults)


FORMAT = Gpt()


def _signed(header: GptHeader, tail: bytes = b"") -> bytes:
    """Return a header with its checksum, and what its maker put behind the fields that are known."""
    return header.but(header_crc32=crc32(header.but(header_crc32=0).encode() + tail)).encode() + tail


def _put(device: BlockDevice, offset: int, data: bytes) -> Extent:
    device.write(offset, data)
    return Extent(offset, len(data))


def _end_by_first(device: BlockDevice) -> int | None:
    """Return the disk's last sector by the first header, if that is sound, whether its entries can be read or not."""
    try:
        return _checked_header(device.read(device.sector, device.sector), 1).alternate_lba
    except ImageError:
        return None


def _copy(device: BlockDevice, place: int, expected: int) -> tuple[tuple[GptHeader, bytes] | None, str]:
    """Return a header and its entry array if the copy at sector `place` is sound, else None and why not."""
    sector = device.sector
    try:
        header = _checked_header(device.read(place * sector, sector), expected)
        array_size = header.number_of_partition_entries * header.size_of_partition_entry
        array = device.read(header.partition_entry_lba * sector, array_size)
        if crc32(array) != header.partition_entry_array_crc32:
            raise ImageError("its entries do not match their checksum")
    except ImageError as error:
        return None, str(error)
    return (header, array), ""


def _checked_header(data: bytes, expected_lba: int) -> GptHeader:
    header = GptHeader.decode(data)
    if header.signature != SIGNATURE:
        raise ImageError("its header has no GPT signature")
    if not GptHeader.size <= header.header_size <= len(data):
        raise ImageError(f"its header gives its own size as {header.header_size} bytes")
    covered = header.but(header_crc32=0).encode() + data[GptHeader.size : header.header_size]
    if crc32(covered) != header.header_crc32:
        raise ImageError("its header does not match its checksum")
    if header.my_lba != expected_lba:
        raise ImageError(f"its header says it lies at sector {header.my_lba}, not at {expected_lba}")
    size, count = header.size_of_partition_entry, header.number_of_partition_entries
    if size < ENTRY_SIZE or size & (size - 1):
        raise ImageError(f"its entries are {size} bytes, not 128 times a power of two")
    if count * size > LARGEST_ENTRY_ARRAY:
        raise ImageError(f"its {count} entries of {size} bytes are more than the {LARGEST_ENTRY_ARRAY} bytes read")
    return header


def _table(header: GptHeader, array: bytes, sector: int) -> Table:
    partitions = []
    for index in range(header.number_of_partition_entries):
        start = index * header.size_of_partition_entry
        if array[start : start + len(_TYPE_UNUSED)] == _TYPE_UNUSED:
            continue
        entry = GptEntry.decode(array[start : start + ENTRY_SIZE])
        partitions.append(
            Partition(
                number=index + 1,
                start=entry.starting_lba * sector,
                size=max(entry.ending_lba + 1 - entry.starting_lba, 0) * sector,
                type=str(entry.partition_type_guid),
                id=str(entry.unique_partition_guid),
                label=entry.partition_name,
                attributes=entry.attributes,
            )
        )
    return Table("gpt", str(header.disk_guid), tuple(partitions))


def _damaged(where: str, copy: str, fault: str) -> Finding:
    return Finding(
        "table-damaged", "error", where, f"the {copy} copy of the GPT is not sound: {fault}",
        "copy the data off before anything writes to this disk",
    )  # fmt: skip


def _cut_short(where: str, should: int, size: int) -> Finding:
    return Finding(
        "table-cut-short", "error", where, f"the GPT describes a disk of {should} bytes, but it has {size}",
        "the copy of this image was not finished, or it was cut; fetch it again",
    )  # fmt: skip


def _not_at_end(where: str, ends: int, size: int) -> Finding:
    return Finding(
        "table-not-at-end", "warning", where, f"the GPT's second copy ends at {ends}, the disk at {size}",
        "the disk was enlarged without its table; the space behind cannot be used yet",
    )  # fmt: skip
