"""The files of an NTFS, read from a device that is not trusted: any folder, any content but encrypted one."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from itertools import groupby
from typing import cast

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.compressed import unpacked
from narvet.formats.filesystems.ntfs.folders import MOUNT_POINT
from narvet.formats.filesystems.ntfs.links import RECORD_BITS, Records, records_of
from narvet.formats.filesystems.ntfs.parse import Found, Volume, content, index_entries, one_of, system_file, volume_of
from narvet.formats.filesystems.trees import Kind, Node, TreeReader, is_name, stored_runs
from narvet.formats.filesystems.upcase import upcased
from narvet.ground.budget import spend
from narvet.ground.errors import ImageError, UnsupportedError
from narvet.ground.extents import Extent
from narvet.ground.units import Cluster
from narvet.ground.values import Frozen, replace

_SINCE_1601 = 11_644_473_600  # seconds to 1970
_SYMBOLIC_LINK = 0xA000000C
_SHORT_NAME = 2
_FIRST_OF_USERS = 16  # records below are the volume's own
_LARGEST_LIST = 1 << 20
_MOST_RECORDS = 1 << 12  # of one file
_LINK_HEAD = {MOUNT_POINT: 16, _SYMBOLIC_LINK: 20}


class Held(Frozen):
    """A file's attributes, with the parts of each put together."""

    number: int
    attributes: tuple[Found, ...]

    def get(self, kind: int, name: str = "") -> Found | None:
        """Return an attribute by type and name, None where there is none."""
        return next((one for one in self.attributes if (one.type, one.name) == (kind, name)), None)


class NtfsFiles(TreeReader):
    """The files of an NTFS on a device."""

    ignores_case = True

    def __init__(self, volume: Volume) -> None:
        self.volume = volume
        first = records_of(volume, system_file(volume, r.MFT))
        self._records = first
        table = self._whole(first, r.MFT, first(r.MFT))
        self._records = records_of(volume, list(table))

    @property
    def root(self) -> Node:
        """The root."""
        return self.node(r.ROOT)

    def node(self, reference: object) -> Node:
        """Return the file with a reference: its record, and in the upper bits that record's sequence number."""
        number, sequence = cast(int, reference) & RECORD_BITS, cast(int, reference) >> 48
        head, found = self._records.with_head(number)
        if head.base_mft_record or (sequence and sequence != head.sequence_number):
            raise ImageError(f"record {number} is of another file")
        held = Held(number, self._whole(self._records, number, found))
        about = self._about(held)
        data, point = held.get(r.DATA), held.get(r.REPARSE_POINT)
        kind = Kind.FOLDER if head.flags & r.IS_FOLDER else Kind.FILE
        tag = int.from_bytes((point.value or b"")[:4], "little") if point else 0
        note = "encrypted" if data and data.flags & r.ENCRYPTED else ""
        if tag:
            kind, note = (
                (Kind.LINK, "") if tag in _LINK_HEAD else (kind, f"kept by a driver of the guest (0x{tag:08x})")
            )
        return Node(
            number=number,
            kind=kind,
            size=data.size if data and kind == Kind.FILE else 0,
            modified=about.last_data_change_time // 10**7 - _SINCE_1601,
            names=head.link_count,
            note=note,
            held=held,
        )

    def _about(self, held: Held) -> r.StandardInformation:
        found = held.get(r.STANDARD_INFORMATION)
        value = (found.value or b"") if found else b""
        return r.StandardInformation.decode(value.ljust(r.StandardInformation.size, b"\0"), f"record {held.number}")

    def _whole(self, records: Records, number: int, found: list[Found]) -> tuple[Found, ...]:
        """Return the attributes of a file, those that its list says lie in other records too, parts put together."""
        listed = next((one for one in found if one.type == r.ATTRIBUTE_LIST), None)
        if listed is None:
            return tuple(found)
        where = f"record {number}"
        data = listed.value
        if data is None:
            data = content(self.volume, listed, _LARGEST_LIST).read(0, min(listed.size, _LARGEST_LIST))
        parts = [one for one in found if one.type != r.ATTRIBUTE_LIST]
        for other in dict.fromkeys(_listed(data, where)):
            if other != number:
                if len(parts) > _MOST_RECORDS:
                    raise ImageError(f"{where} has parts in too many records")
                parts += records(other)
        parts.sort(key=lambda one: (one.type, one.name, one.lowest))
        return tuple(_joined(list(group)) for _, group in groupby(parts, key=_identity))

    def names(self, folder: Node) -> Iterator[tuple[str, object]]:
        """Yield the long names in a folder and the references of their files; the volume's own files are left out."""
        held = self.held_of(folder)
        for entries, where in index_entries(self.volume, list(held.attributes), "$I30", f"record {held.number}"):
            for one, key in entries:
                spend()
                name = r.FileName.decode(key[: one.key_length], where)
                text = key[r.FileName.size : r.FileName.size + 2 * name.file_name_length]
                own = held.number == r.ROOT and one.reference & RECORD_BITS < _FIRST_OF_USERS
                decoded = text.decode("utf-16-le", "replace")
                if name.file_name_type != _SHORT_NAME and not own and is_name(decoded):
                    yield decoded, one.reference

    def look_up(self, folder: Node, name: str) -> Node | None:
        """Return what lies under a name, whatever the case of its letters."""
        wanted = upcased(name)
        found = (reference for one, reference in self.names(folder) if upcased(one) == wanted)
        reference = next(found, None)
        return None if reference is None else self.node(reference)

    def held_of(self, node: Node) -> Held:
        """Return the attributes of a node."""
        return cast(Held, node.held)

    def read(self, file: Node, offset: int, length: int) -> bytes:
        """Return the bytes of a file from `offset` on, at most `length`.

        Raises:
            UnsupportedError: they are encrypted, or only the guest's own driver knows them.
        """
        data = self.held_of(file).get(r.DATA)
        if data is None:
            return b""
        if file.note:
            raise UnsupportedError(f"record {file.number}: its content is {file.note}, and is not read here")
        length = max(min(length, data.size - offset), 0)
        if data.value is not None:
            return data.value[offset : offset + length]
        written = max(min(length, data.initialized - offset), 0)
        if data.flags & r.COMPRESSED and data.unit:
            stored = self._unpacked(data, offset, written)
        else:
            stored = content(self.volume, data, data.size).read(offset, written)
        return stored.ljust(length, b"\0")

    def _unpacked(self, data: Found, offset: int, length: int) -> bytes:
        """Return bytes of compressed content, unit by unit."""
        cluster = self.volume.shape.cluster_size
        unit = data.unit * cluster
        first, end = offset // unit, -(-(offset + length) // unit)
        parts = []
        for clusters in _units(data, first, end):
            spend()
            stored = [one for one in clusters if one is not None]
            if len(stored) == data.unit:
                part = b"".join(self.volume.device.read(self.volume.shape.start_of(one), cluster) for one in stored)
            elif stored:
                packed = b"".join(self.volume.device.read(self.volume.shape.start_of(one), cluster) for one in stored)
                part = unpacked(packed, unit).ljust(unit, b"\0")
            else:
                part = bytes(unit)
            parts.append(part)
        whole = b"".join(parts)
        return whole[offset - first * unit :][:length]

    def stored(self, file: Node) -> Iterator[Extent]:
        """Yield the runs of bytes of a file that may be other than zero: of a compressed one, whole units."""
        data = self.held_of(file).get(r.DATA)
        if data is None or data.value is not None:
            return super().stored(file)
        unit = (data.unit or 1) if data.flags & r.COMPRESSED else 1
        return stored_runs(_stored(data, unit), unit * self.volume.shape.cluster_size, data.size)

    def target(self, link: Node) -> str:
        """Return where a link leads, as the guest has it; relative ones with `/` between their names."""
        point = one_of(list(self.held_of(link).attributes), r.REPARSE_POINT, "", f"record {link.number}").value or b""
        start = _LINK_HEAD[int.from_bytes(point[:4], "little")]
        if len(point) < start:
            raise ImageError(f"record {link.number}: its link is cut short")
        offset, size = struct.unpack_from("<HH", point, 8)
        text = point[start + offset : start + offset + size].decode("utf-16-le", "replace")
        relative = start == _LINK_HEAD[_SYMBOLIC_LINK] and point[16] & 1
        return text.replace("\\", "/") if relative else text


def files_of(device: BlockDevice) -> NtfsFiles:
    """Return the files on a device; ImageError where there is no NTFS that is sound."""
    volume = volume_of(device)
    if volume is None:
        raise ImageError("there is no boot sector of an NTFS")
    return NtfsFiles(volume)


def _identity(found: Found) -> tuple[int, str, int]:
    """Return what parts of one attribute share: type and name; each resident one stands by itself."""
    return found.type, found.name, id(found) if found.value is not None else 0


def _joined(parts: list[Found]) -> Found:
    """Return the parts of an attribute as one."""
    reach = 0
    for part in parts:
        if part.value is None and part.lowest != reach:
            raise ImageError("the parts of an attribute do not follow one another")
        reach += sum(count for _, count in part.runs)
    return replace(parts[0], runs=tuple(run for part in parts for run in part.runs))


def _listed(data: bytes, where: str) -> Iterator[int]:
    """Yield the records that a list of attributes names."""
    place = 0
    while place + r.ListEntry.size <= len(data):
        spend()
        one = r.ListEntry.decode(data[place:])
        if one.length < r.ListEntry.size:
            raise ImageError(f"{where}: its list of attributes is not sound")
        yield one.reference & RECORD_BITS
        place += one.length


def _stored(data: Found, unit: int) -> Iterator[tuple[int, int]]:
    """Yield first and number of the units that have clusters, ascending."""
    position = reach = 0
    for start, count in data.runs:
        first, end = max(position // unit, reach), -(-(position + count) // unit)
        if start is not None and first < end:
            yield first, end - first
            reach = end
        position += count


def _units(data: Found, first: int, end: int) -> Iterator[list[Cluster | None]]:
    """Yield the clusters of the units from `first` to `end`; None for what is not stored."""
    wanted = range(first * data.unit, end * data.unit)
    clusters: list[Cluster | None] = [None] * len(wanted)
    position = 0
    for start, count in data.runs:
        low, high = max(position, wanted.start), min(position + count, wanted.stop)
        for index in range(low, high):
            clusters[index - wanted.start] = None if start is None else Cluster(start + index - position)
        position += count
    for place in range(0, len(clusters), data.unit):
        yield clusters[place : place + data.unit]
