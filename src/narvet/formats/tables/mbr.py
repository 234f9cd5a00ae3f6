"""The master boot record: four partitions, or three and any number of logical ones, and the form that protects a GPT.

UEFI Specification 2.10, sections 5.2.1 (legacy MBR) and 5.2.3 (protective MBR). Logical partitions lie in an extended
one, each behind a record of its own of the same form: its first entry is the partition, its second leads to the next.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import ClassVar, NamedTuple
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
from narvet.ground.errors import UnsupportedError
from narvet.ground.extents import Extent
from narvet.ground.findings import Finding, Place
from narvet.ground.records import Record, raw, sector32, u8, u16, u32
from narvet.ground.rules import tables as rules
from narvet.ground.units import Sector, offset_of, sector_at
from narvet.ground.values import replace

PROTECTIVE_TYPE = 0xEE
SIGNATURE = 0xAA55
SIZE = 512
TYPES = {POOL: 0x8E, "swap": 0x82, "ntfs": 0x07, "exfat": 0x07, "fat32": 0x0C}
_SUITABLE = {
    POOL: (0x8E,),
    "swap": (0x82,),
    "ntfs": (0x07, 0x17, 0x27),
    "exfat": (0x07, 0x17),
    "fat32": (0x0B, 0x0C, 0x1B, 0x1C, 0xEF),
}
LINUX_TYPE, EXTENDED = 0x83, 0x0F
_DATA: dict[DataPartition, int] = {"linux": LINUX_TYPE, "basic": 0x07}
_EXTENDED_TYPES = (0x05, 0x0F, 0x85)
_PRIMARIES = 4
_SIGNATURE_DIGITS = 8
MOST = 60  # partitions: as many as guests number
_BY_SECTOR = b"\xfe\xff\xff"  # cylinder, head and sector of whatever lies where they cannot reach


class MbrEntry(Record, title="mbr entry", size=16):
    """One of the four partition records."""

    boot_indicator: int = u8(0, "", "0x80 if a legacy system boots from it")
    starting_chs: bytes = raw(1, 3, "", "start as cylinder, head and sector")
    os_type: int = u8(4, "", "kind of partition")
    ending_chs: bytes = raw(5, 3, "", "end as cylinder, head and sector")
    starting_lba: Sector = sector32(8, "sectors", "first sector")
    size_in_lba: Sector = sector32(12, "sectors", "sectors in the partition")


class _Break(NamedTuple):
    """Where the chain of logical partitions breaks off: the partition that is next, and the byte."""

    number: int
    place: int

    @property
    def message(self) -> str:
        return f"the chain of logical partitions breaks off ahead of partition {self.number}, at {self.place}"


class MasterBootRecord(Record, title="mbr", size=SIZE):
    """The first 512 bytes of a disk."""

    boot_code: bytes = raw(0, 440, "", "not used by UEFI")
    unique_mbr_disk_signature: int = u32(440, "", "zero on a GPT disk")
    unknown: int = u16(444, "", "zero")
    partition_records: bytes = raw(446, 64, "", "four partition records")
    signature: int = u16(510, "", "0xAA55")


def _protected(disk_size: int, sector_size: int) -> Sector:
    return Sector(min(sector_at(disk_size, sector_size) - 1, 0xFFFFFFFF))


def protective(disk_size: int, sector_size: int) -> bytes:
    """Return the protective MBR of a GPT disk of `disk_size` bytes (UEFI 2.10, table 5.4).

    The size field is the disk less its first sector, or all ones where 32 bits do not hold it.
    """
    entry = MbrEntry(
        starting_chs=bytes((0x00, 0x02, 0x00)),
        os_type=PROTECTIVE_TYPE,
        ending_chs=b"\xff\xff\xff",
        starting_lba=Sector(1),
        size_in_lba=_protected(disk_size, sector_size),
    )
    return MasterBootRecord(partition_records=entry.encode(), signature=SIGNATURE).encode()


def resized_protective(data: bytes, disk_size: int, sector_size: int) -> bytes:
    """Return the first 512 bytes of a GPT disk for another size; boot code and other entries stay as they are.

    Only an entry that protects all of the disk from its second sector on is changed (UEFI 2.10, table 5.4).
    """
    record = MasterBootRecord.decode(data)
    rows = [entry for _, entry in _entries(record)]
    for index, entry in enumerate(rows):
        if (
            entry.os_type == PROTECTIVE_TYPE
            and entry.starting_lba == 1
            and not any(other.os_type for other in rows if other is not entry)
        ):
            rows[index] = replace(entry, size_in_lba=_protected(disk_size, sector_size))
    return replace(record, partition_records=b"".join(entry.encode() for entry in rows)).encode() + data[SIZE:]


def is_protective(data: bytes) -> bool:
    """Return whether the first 512 bytes of a disk, not trusted, are a protective MBR."""
    record = MasterBootRecord.decode(data)
    if record.signature != SIGNATURE:
        return False
    entries = (MbrEntry.decode(record.partition_records[at : at + 16]) for at in range(0, 64, 16))
    return any(entry.os_type == PROTECTIVE_TYPE for entry in entries)


class Mbr:
    """The format behind `table = "mbr"`."""

    name = "mbr"
    most_partitions = MOST
    label_limit = 255
    keeps_labels = False
    attributes: ClassVar[dict[str, int]] = {}
    aside = ""

    def most(self, sector_size: int) -> int:
        """Return what 32 bits of sectors hold."""
        return sector_size << 32

    def native_id(self, uuid: UUID) -> str:
        """Return the disk's signature."""
        return f"{uuid.int >> 96 or 1:08x}"

    def uuid_of(self, native_id: str) -> UUID:
        """Return one that starts with the signature."""
        if len(native_id) != _SIGNATURE_DIGITS:
            raise ValueError(f"the id of an MBR has {_SIGNATURE_DIGITS} digits")
        return UUID(int=int(native_id, 16) << 96)

    def native_partition_id(self, table: str, uuid: UUID, number: int) -> str:
        """Return signature and number: partitions have no ids of their own."""
        del uuid
        return f"{table}-{number:02x}"

    def numbers(self, count: int) -> tuple[int, ...]:
        """Return 1 to 4; with more than four the fourth is the extended one, and logical ones start with 5."""
        if count <= _PRIMARIES:
            return tuple(range(1, count + 1))
        return (*range(1, _PRIMARIES), *range(_PRIMARIES + 1, count + 2))

    def ahead(self, index: int, count: int, sector_size: int) -> int:
        """Return a sector for the record of a logical partition."""
        return sector_size if count > _PRIMARIES and index >= _PRIMARIES - 1 else 0

    def ahead_of(self, number: int, sector_size: int) -> int:
        """Return a sector for the record of a logical partition."""
        return sector_size if number > _PRIMARIES else 0

    def bounds(self, disk_size: int, sector_size: int) -> Bounds:
        """Return what lies behind the first sector, as far as 32 bits of sectors reach."""
        return Bounds(
            sector_size, max(min(disk_size // sector_size * sector_size, self.most(sector_size)), sector_size)
        )

    def reserved(self, disk_size: int, sector_size: int) -> tuple[Reserved, ...]:
        """Return the first sector."""
        del disk_size
        return (Reserved(0, sector_size, "MBR"),)

    def partition_type(self, filesystem: str | None, data: DataPartition) -> str:
        """Return the type code of a partition."""
        return f"{TYPES.get(filesystem or '', _DATA[data]):02x}"

    def suits(self, type: str, filesystem: str) -> bool:  # noqa: A002 (the specification's own word)
        """Return whether a partition of this type code is one that such a filesystem is found on."""
        return int(type, 16) in _SUITABLE.get(filesystem, (LINUX_TYPE,))

    def label_length(self, label: str) -> int:
        """Return the length, though no label is stored."""
        return len(label)

    def write(self, device: BlockDevice, table: Table) -> None:
        """Write the records of logical partitions, the last one first, then the one that leads to them."""
        sector_size = device.sector_size
        primary = [part for part in table.partitions if part.number <= _PRIMARIES]
        logical = [part for part in table.partitions if part.number > _PRIMARIES]
        entries = [_entry(int(part.type, 16), part.start, part.size, sector_size) for part in primary]
        if logical:
            first = logical[0].start - sector_size
            entries.append(_entry(EXTENDED, first, logical[-1].end - first, sector_size))
            for part, later in reversed([*zip(logical, [*logical[1:], None], strict=True)]):
                place = part.start - sector_size
                chain = [_entry(int(part.type, 16), sector_size, part.size, sector_size)]
                if later is not None:
                    start = later.start - sector_size
                    chain.append(_entry(EXTENDED, start - first, later.end - start, sector_size))
                device.write(place, _record(chain, 0))
        device.write(0, _record(entries, int(table.id, 16)))

    def change(self, device: BlockDevice, entries: Iterable[PartitionEntry]) -> None:
        """Give partitions these entries; the extended partition reaches as far as the last logical one needs."""
        sector_size, changed = device.sector_size, list(entries)
        for part in changed:
            if part.number <= _PRIMARIES:
                _put(device, 0, part.number - 1, _entry(int(part.type, 16), part.start, part.size, sector_size))
        logical = [part for part in changed if part.number > _PRIMARIES]
        if not logical:
            return
        rows = _entries(MasterBootRecord.decode(device.read(0, SIZE)))
        found = next(((number, row) for number, row in rows if row.os_type in _EXTENDED_TYPES), None)
        if found is None:
            free = next((number for number, row in rows if not row.os_type), None)
            if free is None:
                raise UnsupportedError("the MBR has no place for an extended partition, which a logical one lies in")
            first = Sector(sector_at(min(part.start for part in logical), sector_size) - 1)
            found = free, MbrEntry(os_type=EXTENDED, starting_lba=first)
        number, row = found
        start, size = (offset_of(value, sector_size) for value in (row.starting_lba, row.size_in_lba))
        needed = max(size, max(part.end for part in logical) - start)
        _put(device, 0, number - 1, _entry(row.os_type, start, needed, sector_size))
        _change_logical(device, Extent(start, needed), logical)

    def follow_end(self, device: BlockDevice, old_size: int) -> tuple[Extent, ...]:  # noqa: ARG002 (the contract's)
        """End an extended partition with the disk that became smaller; logical ones lie before that."""
        sector_size = device.sector_size
        data = device.read(0, SIZE)
        for number, row in [] if is_protective(data) else _entries(MasterBootRecord.decode(data)):
            start = offset_of(row.starting_lba, sector_size)
            if row.os_type in _EXTENDED_TYPES and start < device.size < start + offset_of(row.size_in_lba, sector_size):
                size = device.size // sector_size * sector_size - start
                _put(device, 0, number - 1, _entry(row.os_type, start, size, sector_size))
                return (Extent(0, SIZE),)
        return ()

    def read(self, device: BlockDevice, where: Place) -> tuple[Table | None, tuple[Finding, ...]]:
        """Return the table of a device that is not trusted; only one whose every entry makes sense is one."""
        if device.size < 2 * device.sector_size:
            return None, ()
        data = device.read(0, SIZE)
        record = MasterBootRecord.decode(data)
        entries = _entries(record)
        used = [entry for _, entry in entries if entry.os_type]
        plain = all(entry.boot_indicator in (0, 0x80) and entry.starting_lba and entry.size_in_lba for entry in used)
        if record.signature != SIGNATURE or is_protective(data) or not used or not plain:
            return None, ()
        native_id, sector_size = f"{record.unique_mbr_disk_signature:08x}", device.sector_size
        found: list[PartitionEntry | _Break] = []
        for number, entry in entries:
            start = offset_of(entry.starting_lba, sector_size)
            if entry.os_type in _EXTENDED_TYPES:
                found += _logical(device, Extent(start, offset_of(entry.size_in_lba, sector_size)), native_id)
            elif entry.os_type:
                found.append(_partition(number, start, entry, native_id, sector_size))
        parts = sorted((one for one in found if isinstance(one, PartitionEntry)), key=lambda part: part.number)
        breaks = (one for one in found if isinstance(one, _Break))
        faults = (rules.table_damaged.error(where, one.message) for one in breaks)
        table = Table("mbr", native_id, tuple(parts))
        return table, (*faults, *check_partitions(table, Bounds(sector_size, device.size), where))


FORMAT = Mbr()


def _entry(os_type: int, start: int, size: int, sector_size: int) -> bytes:
    return MbrEntry(
        starting_chs=_BY_SECTOR,
        os_type=os_type,
        ending_chs=_BY_SECTOR,
        starting_lba=sector_at(start, sector_size),
        size_in_lba=sector_at(size, sector_size),
    ).encode()


def _record(entries: list[bytes], disk_signature: int) -> bytes:
    return MasterBootRecord(
        unique_mbr_disk_signature=disk_signature,
        partition_records=b"".join(entries).ljust(64, b"\0"),
        signature=SIGNATURE,
    ).encode()


def _entries(record: MasterBootRecord) -> list[tuple[int, MbrEntry]]:
    return [(at // 16 + 1, MbrEntry.decode(record.partition_records[at : at + 16])) for at in range(0, 64, 16)]


def _partition(number: int, start: int, entry: MbrEntry, table: str, sector_size: int) -> PartitionEntry:
    native_id = f"{table}-{number:02x}"
    return PartitionEntry(number, start, offset_of(entry.size_in_lba, sector_size), f"{entry.os_type:02x}", native_id)


class _Link(NamedTuple):
    """One record of the chain of logical partitions: its byte, the partition it is of, and its two entries."""

    number: int
    place: int
    own: MbrEntry
    later: MbrEntry


def _chain(device: BlockDevice, extended: Extent) -> Iterator[_Link | _Break]:
    """Yield the records of an extended partition, last of all where their chain breaks off if it does.

    The chain must go on towards the end of the extended partition, so that it ends.
    """
    place, number = extended.start, _PRIMARIES + 1
    while number <= MOST + 1:
        record = None
        if place + SIZE <= device.size:
            record = MasterBootRecord.decode(device.read(place, SIZE))
        if record is None or record.signature != SIGNATURE:
            yield _Break(number, place)
            return
        (_, own), (_, later) = _entries(record)[:2]
        yield _Link(number, place, own, later)
        number += bool(own.os_type)
        if not later.os_type:
            return
        following = extended.start + offset_of(later.starting_lba, device.sector_size)
        if not place < following < extended.end:
            yield _Break(number, following)
            return
        place = following


def _logical(device: BlockDevice, extended: Extent, table: str) -> Iterator[PartitionEntry | _Break]:
    """Yield the logical partitions of an extended one, last of all where their chain breaks off if it does."""
    sector_size, since = device.sector_size, extended.start
    for link in _chain(device, extended):
        if isinstance(link, _Break):
            yield link
            return
        since = min(since, link.place)  # also a record that leads to nothing keeps its place
        if link.own.os_type:
            start = link.place + offset_of(link.own.starting_lba, sector_size)
            yield replace(_partition(link.number, start, link.own, table, sector_size), link=since)
            since = extended.end


def _change_logical(device: BlockDevice, extended: Extent, parts: list[PartitionEntry]) -> None:
    """Give logical partitions these entries, those that are new at the end of the chain."""
    sector_size = device.sector_size
    links = [link for link in _chain(device, extended) if isinstance(link, _Link)]
    used = {link.number: link for link in links if link.own.os_type}
    last = links[-1] if links else _Link(_PRIMARIES + 1, extended.start, MbrEntry(), MbrEntry())
    for part in sorted(parts, key=lambda part: part.number):
        link = used.get(part.number)
        if link is None and not last.own.os_type:  # an extended partition with nothing in it yet
            link = used[part.number] = last
        place = part.start - sector_size if link is None else link.place
        _put(device, place, 0, _entry(int(part.type, 16), part.start - place, part.size, sector_size))
        before = (
            last if link is None else next((one for one in links if _leads_to(one, place, extended, sector_size)), None)
        )
        if before is not None:
            _put(device, before.place, 1, _entry(EXTENDED, place - extended.start, part.end - place, sector_size))
        if link is None or link is last:
            last = _Link(part.number, place, MbrEntry(os_type=int(part.type, 16)), MbrEntry())


def _leads_to(link: _Link, place: int, extended: Extent, sector_size: int) -> bool:
    return bool(link.later.os_type) and extended.start + offset_of(link.later.starting_lba, sector_size) == place


def _put(device: BlockDevice, place: int, row: int, entry: bytes) -> None:
    """Write one entry of the record at byte `place`, which becomes one if it was none."""
    record = MasterBootRecord.decode(device.read(place, SIZE))
    if record.signature != SIGNATURE:
        record = MasterBootRecord(signature=SIGNATURE)
    rows = bytearray(record.partition_records)
    old = MbrEntry.decode(bytes(rows[16 * row : 16 * row + 16]))
    new = replace(MbrEntry.decode(entry), boot_indicator=old.boot_indicator)
    if old.os_type and old.starting_lba == new.starting_lba:
        new = replace(new, starting_chs=old.starting_chs)
    rows[16 * row : 16 * row + 16] = new.encode()
    device.write(place, replace(record, partition_records=bytes(rows)).encode())
