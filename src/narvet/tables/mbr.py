"""The master boot record: only its protective form, which keeps a GPT disk from looking empty.

UEFI Specification 2.10, sections 5.2.1 (legacy MBR) and 5.2.3 (protective MBR).
"""

from __future__ import annotations

from narvet.records import Record, at

PROTECTIVE_TYPE = 0xEE
SIGNATURE = 0xAA55
SIZE = 512


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


def is_protective(data: bytes) -> bool:
    """Return whether the first 512 bytes of a disk, not trusted, are a protective MBR."""
    record = MasterBootRecord.decode(data)
    if record.signature != SIGNATURE:
        return False
    entries = (MbrEntry.decode(record.partition_records[at : at + 16]) for at in range(0, 64, 16))
    return any(entry.os_type == PROTECTIVE_TYPE for entry in entries)
