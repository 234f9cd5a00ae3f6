"""What an NTFS, not trusted, says of its root's access rights and of folders that lead to other volumes."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.folders import MOUNT_POINT, target_of
from narvet.formats.filesystems.ntfs.parse import Found, Volume, attributes, content, index_entries, one_of, unprotected
from narvet.formats.filesystems.ntfs.security import rights_text
from narvet.ground.budget import spend
from narvet.ground.errors import ImageError

RECORD_BITS = (1 << 48) - 1
_MOST_LINKS = 4096
_MOST_DEPTH = 128  # folders above one another
_LARGEST_DESCRIPTOR = 1 << 16
_SHORT_NAME = 2  # of a file that has a long one as well
_KEY_SIZE = 12  # of the list of reparse points: tag and reference


class Records:
    """The records of a volume by number, as far as its table's own record tells where they lie."""

    def __init__(self, volume: Volume, table: BlockDevice) -> None:
        self._volume = volume
        self._table = table

    @property
    def table(self) -> BlockDevice:
        """The table itself."""
        return self._table

    def __call__(self, number: int) -> list[Found]:
        """Return the attributes of a record in use; ImageError if it is none."""
        return self.with_head(number)[1]

    def with_head(self, number: int) -> tuple[r.FileRecord, list[Found]]:
        """Return the head and the attributes of a record in use; ImageError if it is none."""
        spend()
        where, size = f"record {number}", self._volume.shape.record_size
        if (number + 1) * size > self._table.size:
            raise ImageError(f"{where} is not in the master file table")
        data = unprotected(self._table.read(number * size, size), b"FILE", where)
        head = r.FileRecord.decode(data)
        if not head.flags & r.IN_USE:
            raise ImageError(f"{where} is not in use")
        return head, list(attributes(self._volume, data, where))


def records_of(volume: Volume, mft: list[Found]) -> Records:
    """Return access to all records, by the attributes of the table's own."""
    return Records(
        volume, content(volume, one_of(mft, r.DATA, "", "$MFT"), volume.shape.clusters * volume.shape.cluster_size)
    )


def root_rights(volume: Volume, records: Records) -> str:
    """Return the root's security descriptor as text, empty where it has none that is known."""
    about = one_of(records(r.ROOT), r.STANDARD_INFORMATION, "", "the root").value or b""
    if len(about) < r.StandardInformation.size:
        return ""
    number = r.StandardInformation.decode(about).security_id
    secure = records(r.SECURE)
    stream = one_of(secure, r.DATA, "$SDS", "$Secure")
    there = content(volume, stream, stream.size)
    for entries, where in index_entries(volume, secure, "$SII", "$Secure"):
        for one, rest in entries:
            row = r.SecurityEntry.decode(rest[max((one.reference & 0xFFFF) - r.IndexEntry.size, 0) :], where)
            if row.security_id != number:
                continue
            if not r.SecurityEntry.size <= row.length <= _LARGEST_DESCRIPTOR or row.offset + row.length > there.size:
                raise ImageError(f"$Secure has access rights {number} at {row.offset}, {row.length} bytes")
            return rights_text(there.read(row.offset, row.length)[r.SecurityEntry.size :]) or ""
    return ""


def links(volume: Volume, records: Records) -> Iterator[tuple[str, str]]:
    """Yield path and target of each folder that another volume is mounted in, by the volume's own list of them."""
    mounts = (number for number, tag in listed_points(volume, records) if tag == MOUNT_POINT)
    for number in islice(mounts, _MOST_LINKS):
        point = one_of(records(number), r.REPARSE_POINT, "", f"record {number}")
        target = target_of(point.value or b"")
        if target is not None:
            yield _path(records, number), target


def listed_points(volume: Volume, records: Records) -> Iterator[tuple[int, int]]:
    """Yield record and tag of every reparse point that index $R of file $Reparse lists."""
    wanted = "$Reparse".encode("utf-16-le")
    for entries, where in index_entries(volume, records(r.EXTEND), "$I30", "$Extend"):
        for one, key in entries:
            if key[r.FileName.size : r.FileName.size + len(wanted)] == wanted:
                yield from _points(volume, records(one.reference & RECORD_BITS), where)


def _points(volume: Volume, reparse: list[Found], where: str) -> Iterator[tuple[int, int]]:
    for entries, _ in index_entries(volume, reparse, "$R", where):
        for one, key in entries:
            if one.key_length >= _KEY_SIZE:
                yield int.from_bytes(key[4:_KEY_SIZE], "little") & RECORD_BITS, int.from_bytes(key[:4], "little")


def _path(records: Records, number: int) -> str:
    names: list[str] = []
    while number != r.ROOT:
        if len(names) == _MOST_DEPTH:
            raise ImageError(f"record {number} lies in folders without end")
        name, number = _name(records(number), f"record {number}")
        names.append(name)
    return "\\".join(["", *reversed(names)])


def _name(found: list[Found], where: str) -> tuple[str, int]:
    """Return a file's long name, and the record of the folder it lies in."""
    for one in found:
        if one.type == r.FILE_NAME and one.value is not None:
            name = r.FileName.decode(one.value, where)
            if name.file_name_type != _SHORT_NAME:
                text = one.value[r.FileName.size : r.FileName.size + 2 * name.file_name_length]
                return text.decode("utf-16-le", "replace"), name.parent_directory & RECORD_BITS
    raise ImageError(f"{where} has no name")
