"""The master boot record: four partitions, or three and any number of logical ones, and the form that protects a GPT.

UEFI Specification 2.10, sections 5.2.1 (legacy MBR) and 5.2.3 (protective MBR). Logical partitions lie in an extended
one, each behind a record of its own of the same form: its first entry is the partition, its second leads to the next.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import ClassVar
from uuid import UUID

from narvet.block.contract import BlockDevice, Extent
from narvet.findings import Finding
from narvet.records import Record, at
from narvet.tables.contract import Bounds, Partition, Reserved, Table, check_partitions

PROTECTIVE_TYPE = 0xEE
SIGNATURE = 0xAA55
SIZE = 512
TYPES = {"swap": 0x82, "ntfs": 0x07, "exfat": 0x07, "fat32": 0x0C}
_SUITABLE = {
    "swap": (0x82,),
    "ntfs": (0x07, 0x17, 0x27),
    "exfat": (0x07, 0x17),
    "fat32": (0x0B, 0x0C, 0x1B, 0x1C, 0xEF),
}
LINUX_TYPE, EXTENDED = 0x83, 0x0F
_EXTENDED_TYPES = (0x05, 0x0F, 0x85)
_PRIMARIES = 4
MOST = 60  # partitions: as many as guests number
_BY_SECTOR = b"\xfe\xff\xff"  # cylinder, head and sector of whatever lies where they cannot reach


class MbrEntry(Record, title="mbr entry", size=16):
    """One of the four partition records."""

    boot_indicator: int = at(0, "u8", "", "0x80 if a legacy system boots from it")
    starting_chs: bytes = at(1, "3s", "", "start as cylinder, head and sector")
    os_type: int = at(4, "u8", "", "kind of partition")
    ending_chs: bytes = at(5, "3s", "", "end as cylinder, head and sector")
    starting_lba: int = at(8, "u32", "sectors", "first sector")
    size_in_lba: int = at(12, "u32", "sectors", "sectors in the partition")


class MasterBootRecord(Record, title="mbr", size=SIZE):
    """The first 512 bytes of a disk."""

    boot_code: bytes = at(0, "440s", "", "not used by UEFI")
    unique_mbr_disk_signature: int = at(440, "u32", "", "zero on a GPT disk")
    unknown: int = at(444, "u16", "", "zero")
    partition_records: bytes = at(446, "64s", "", "four partition records")
    signature: int = at(510, "u16", "", "0xAA55")


def protective(disk_size: int, sector: int) -> bytes:
    """Return the protective MBR of a GPT disk of `disk_size` bytes (UEFI 2.10, table 5.4).

    The size field is the disk less its first sector, or all ones where 32 bits do not hold it.
    """
    entry = MbrEntry.of(
        starting_chs=bytes((0x00, 0x02, 0x00)),
        os_type=PROTECTIVE_TYPE,
        ending_chs=b"\xff\xff\xff",
        starting_lba=1,
        size_in_lba=min(disk_size // sector - 1, 0xFFFFFFFF),
    )
    return MasterBootRecord.of(partition_records=entry.encode(), signature=SIGNATURE).encode()


def resized_protective(data: bytes, disk_size: int, sector: int) -> bytes:
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
            rows[index] = entry.but(size_in_lba=min(disk_size // sector - 1, 0xFFFFFFFF))
    return record.but(partition_records=b"".join(entry.encode() for entry in rows)).encode() + data[SIZE:]


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

    def most(self, sector: int) -> int:
        """Return what 32 bits of sectors hold."""
        return sector << 32

    def known_as(self, uuid: UUID) -> str:
        """Return the disk's signature."""
        return f"{uuid.int >> 96 or 1:08x}"

    def part_known_as(self, table: str, uuid: UUID, number: int) -> str:
        """Return signature and number: partitions have no ids of their own."""
        del uuid
        return f"{table}-{number:02x}"

    def numbers(self, count: int) -> tuple[int, ...]:
        """Return 1 to 4; with more than four the fourth is the extended one, and logical ones start with 5."""
        if count <= _PRIMARIES:
            return tuple(range(1, count + 1))
        return (*range(1, _PRIMARIES), *range(_PRIMARIES + 1, count + 2))

    def ahead(self, index: int, count: int, sector: int) -> int:
        """Return a sector for the record of a logical partition."""
        return sector if count > _PRIMARIES and index >= _PRIMARIES - 1 else 0

    def bounds(self, disk_size: int, sector: int) -> Bounds:
        """Return what lies behind the first sector, as far as 32 bits of sectors reach."""
        return Bounds(sector, max(min(disk_size // sector * sector, self.most(sector)), sector))

    def reserved(self, disk_size: int, sector: int) -> tuple[Reserved, ...]:
        """Return the first sector."""
        del disk_size
        return (Reserved(0, sector, "MBR"),)

    def partition_type(self, filesystem: str | None, system: str) -> str:
        """Return the type code of a partition."""
        return f"{TYPES.get(filesystem or '', LINUX_TYPE if system == 'linux' else TYPES['ntfs']):02x}"

    def suits(self, type: str, filesystem: str) -> bool:  # noqa: A002 (the specification's own word)
        """Return whether a partition of this type code is one that such a filesystem is found on."""
        return int(type, 16) in _SUITABLE.get(filesystem, (LINUX_TYPE,))

    def label_length(self, label: str) -> int:
        """Return the length, though no label is stored."""
        return len(label)

    def write(self, device: BlockDevice, table: Table) -> None:
        """Write the records of logical partitions, the last one first, then the one that leads to them."""
        sector = device.sector
        primary = [part for part in table.partitions if part.number <= _PRIMARIES]
        logical = [part for part in table.partitions if part.number > _PRIMARIES]
        entries = [_entry(int(part.type, 16), part.start, part.size, sector) for part in primary]
        if logical:
            first = logical[0].start - sector
            entries.append(_entry(EXTENDED, first, logical[-1].end - first, sector))
            for part, later in reversed([*zip(logical, [*logical[1:], None], strict=True)]):
                place = part.start - sector
                chain = [_entry(int(part.type, 16), sector, part.size, sector)]
                if later is not None:
                    start = later.start - sector
                    chain.append(_entry(EXTENDED, start - first, later.end - start, sector))
                device.write(place, _record(chain, 0))
        device.write(0, _record(entries, int(table.id, 16)))

    def follow_end(self, device: BlockDevice, old_size: int) -> tuple[Extent, ...]:
        """Change nothing: nothing of the table depends on the disk's end."""
        del device, old_size
        return ()

    def read(self, device: BlockDevice, where: str) -> tuple[Table | None, tuple[Finding, ...]]:
        """Return the table of a device that is not trusted; only one whose every entry makes sense is one."""
        if device.size < 2 * device.sector:
            return None, ()
        data = device.read(0, SIZE)
        record = MasterBootRecord.decode(data)
        entries = _entries(record)
        used = [entry for _, entry in entries if entry.os_type]
        plain = all(entry.boot_indicator in (0, 0x80) and entry.starting_lba and entry.size_in_lba for entry in used)
        if record.signature != SIGNATURE or is_protective(data) or not used or not plain:
            return None, ()
        known_as, sector = f"{record.unique_mbr_disk_signature:08x}", device.sector
        parts, faults = list[Partition](), list[Finding]()
        for number, entry in entries:
            start = entry.starting_lba * sector
            if entry.os_type in _EXTENDED_TYPES:
                parts += _logical(device, start, entry.size_in_lba * sector, known_as, where, faults)
            elif entry.os_type:
                parts.append(_partition(number, start, entry, known_as, sector))
        table = Table("mbr", known_as, tuple(sorted(parts, key=lambda part: part.number)))
        return table, (*faults, *check_partitions(table, Bounds(sector, device.size), where))


FORMAT = Mbr()


def _entry(os_type: int, start: int, size: int, sector: int) -> bytes:
    return MbrEntry.of(
        starting_chs=_BY_SECTOR,
        os_type=os_type,
        ending_chs=_BY_SECTOR,
        starting_lba=start // sector,
        size_in_lba=size // sector,
    ).encode()


def _record(entries: list[bytes], disk_signature: int) -> bytes:
    return MasterBootRecord.of(
        unique_mbr_disk_signature=disk_signature,
        partition_records=b"".join(entries).ljust(64, b"\0"),
        signature=SIGNATURE,
    ).encode()


def _entries(record: MasterBootRecord) -> list[tuple[int, MbrEntry]]:
    return [(at // 16 + 1, MbrEntry.decode(record.partition_records[at : at + 16])) for at in range(0, 64, 16)]


def _partition(number: int, start: int, entry: MbrEntry, table: str, sector: int) -> Partition:
    known_as = f"{table}-{number:02x}"
    return Partition(number, start, entry.size_in_lba * sector, f"{entry.os_type:02x}", known_as)


def _logical(
    device: BlockDevice, first: int, size: int, table: str, where: str, faults: list[Finding]
) -> Iterator[Partition]:
    """Yield the logical partitions of an extended one; the chain must go on towards its end."""
    place, number = first, _PRIMARIES + 1
    while number <= MOST + 1:
        record = None
        if place + SIZE <= device.size:
            record = MasterBootRecord.decode(device.read(place, SIZE))
        if record is None or record.signature != SIGNATURE:
            faults.append(_broken(where, number, place))
            return
        (_, own), (_, later) = _entries(record)[:2]
        if own.os_type:
            yield _partition(number, place + own.starting_lba * device.sector, own, table, device.sector)
            number += 1
        if not later.os_type:
            return
        following = first + later.starting_lba * device.sector
        if not place < following < first + size:
            faults.append(_broken(where, number, following))
            return
        place = following


def _broken(where: str, number: int, place: int) -> Finding:
    return Finding(
        "table-damaged", "error", where,
        f"the chain of logical partitions breaks off ahead of partition {number}, at {place}",
        "copy the data off before anything writes to this disk",
    )  # fmt: skip
