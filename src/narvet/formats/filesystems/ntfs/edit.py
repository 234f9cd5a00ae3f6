"""The first records of an NTFS changed in place: an attribute gets another content, all else stays as it is."""

from __future__ import annotations

from narvet.formats.filesystems.contract import CannotChangeError
from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.attributes import protected
from narvet.formats.filesystems.ntfs.parse import Volume, one_of, system_file, unprotected
from narvet.ground.errors import ImageError
from narvet.ground.extents import Extent
from narvet.ground.units import align_up
from narvet.ground.values import replace

BY_GUEST = "let its guest do it"


class FirstRecords:
    """The records at the start of the master file table, which lie in a row, and their copies in the mirror."""

    def __init__(self, volume: Volume) -> None:
        self._volume = volume
        self._mirror = one_of(system_file(volume, r.MIRROR), r.DATA, "", "$MFTMirr").size

    def get(self, number: int) -> bytearray:
        """Return a record with its update sequence undone."""
        size = self._volume.shape.record_size
        place = self._volume.shape.start_of(self._volume.boot.mft_lcn) + number * size
        return bytearray(unprotected(self._volume.device.read(place, size), b"FILE", f"record {number}"))

    def put(self, number: int, data: bytes | bytearray) -> None:
        """Write a record, and its copy if the mirror has one."""
        shape, boot = self._volume.shape, self._volume.boot
        whole = protected(bytes(data), r.FileRecord.decode(bytes(data)).usa_ofs)
        self._volume.device.write(shape.start_of(boot.mft_lcn) + number * shape.record_size, whole)
        if (number + 1) * shape.record_size <= self._mirror:
            self._volume.device.write(shape.start_of(boot.mftmirr_lcn) + number * shape.record_size, whole)

    def replace(self, number: int, place: int, length: int, attribute: bytes) -> None:
        """Put other bytes in the place of an attribute; their length is padded and entered.

        Raises:
            CannotChangeError: the record has no room for it.
        """
        self.put(number, with_attribute(bytes(self.get(number)), number, Extent(place, length), attribute))


def with_attribute(data: bytes, number: int, there: Extent, attribute: bytes) -> bytes:
    """Return a record with other bytes in the place of an attribute; their length is padded and entered.

    Raises:
        CannotChangeError: the record has no room for it.
    """
    head = r.FileRecord.decode(data)
    whole = attribute.ljust(align_up(len(attribute), 8), b"\0")
    whole = whole[:4] + len(whole).to_bytes(4, "little") + whole[8:]
    changed = data[: there.start] + whole + data[there.end : head.bytes_in_use]
    if len(changed) > len(data):
        raise CannotChangeError(f"the ntfs has no room in the record of its file {number}", BY_GUEST)
    changed = replace(head, bytes_in_use=len(changed)).encode() + changed[r.FileRecord.size :]
    return changed.ljust(len(data), b"\0")


def find(data: bytes | bytearray, kind: int, name: str, number: int) -> tuple[int, int]:
    """Return where an attribute of a record lies, and its bytes; ImageError if there is none."""
    place = r.FileRecord.decode(bytes(data)).attrs_offset
    while place + r.AttributeHead.size <= len(data):
        head = r.AttributeHead.decode(bytes(data[place:]))
        if head.type == r.END or head.length < r.AttributeHead.size:
            break
        text = data[place + head.name_offset : place + head.name_offset + 2 * head.name_length]
        if head.type == kind and text.decode("utf-16-le", "replace") == name:
            return place, head.length
        place += head.length
    raise ImageError(f"record {number} lacks its attribute 0x{kind:x} {name}".rstrip())


def value_at(data: bytes | bytearray, place: int) -> int:
    """Return where the value of a resident attribute at `place` starts."""
    return place + r.ResidentHead.decode(bytes(data[place + r.AttributeHead.size :])).value_offset
