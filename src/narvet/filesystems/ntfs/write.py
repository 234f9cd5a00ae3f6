"""Writing a fresh NTFS: the files that describe it, each with its record, then the boot sectors, the first one last."""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np

from narvet.block.contract import BlockDevice
from narvet.filesystems.ntfs import records as r
from narvet.filesystems.ntfs.attributes import Attribute, entry, file_record, index_block, index_root, view_entry
from narvet.filesystems.ntfs.geometry import SECURITY_MIRROR, TABLE_RECORDS, Geometry
from narvet.filesystems.ntfs.security import ADMINISTRATORS, ROOT_FOLDER, SYSTEM_FILES, fresh, sid_bytes
from narvet.units import MIB
from narvet.upcase import capitals

_SINCE_1601 = 11_644_473_600  # seconds to 1970
_BOTH_NAMES = 3
_NO_INDEX = 0x0  # type of an index whose keys are no attributes
_MOST_LOG_AT_ONCE = MIB

_DEFINITIONS = (
    ("$STANDARD_INFORMATION", 0x10, 0x40, 0x30, 0x48),
    ("$ATTRIBUTE_LIST", 0x20, 0x80, 0, -1),
    ("$FILE_NAME", 0x30, 0x42, 0x44, 0x242),
    ("$OBJECT_ID", 0x40, 0x40, 0, 0x100),
    ("$SECURITY_DESCRIPTOR", 0x50, 0x80, 0, -1),
    ("$VOLUME_NAME", 0x60, 0x40, 2, 0x100),
    ("$VOLUME_INFORMATION", 0x70, 0x40, 0xC, 0xC),
    ("$DATA", 0x80, 0, 0, -1),
    ("$INDEX_ROOT", 0x90, 0x40, 0, -1),
    ("$INDEX_ALLOCATION", 0xA0, 0x80, 0, -1),
    ("$BITMAP", 0xB0, 0x80, 0, -1),
    ("$REPARSE_POINT", 0xC0, 0x80, 0, 0x4000),
    ("$EA_INFORMATION", 0xD0, 0x40, 8, 8),
    ("$EA", 0xE0, 0, 0, 0x10000),
    ("$LOGGED_UTILITY_STREAM", 0x100, 0x80, 0, 0x10000),
)


@dataclass(frozen=True)
class _File:
    """One of the filesystem's own files; `size` and `allocated` are what its name says of its data."""

    number: int
    name: str
    attributes: tuple[Attribute, ...]
    flags: int = r.IN_USE
    size: int = 0
    allocated: int = 0
    parent: int = r.ROOT
    extra: int = 0

    @property
    def sequence(self) -> int:
        """The records up to 15 count from their own number, but for the first."""
        return self.number if 0 < self.number < 16 else 1

    @property
    def reference(self) -> int:
        """Number and sequence number, as others refer to it."""
        return self.number | self.sequence << 48


def write(device: BlockDevice, geometry: Geometry) -> None:
    """Write the filesystem to a device that reads as zeros."""
    files = _files(geometry)
    _write_contents(device, geometry, files)
    table = b"".join(_record(geometry, files, number) for number in range(TABLE_RECORDS))
    cluster = geometry.cluster
    mirror, size = geometry.places["mirror"]
    device.write(mirror * cluster, table[:size])
    device.write(geometry.places["table"][0] * cluster, table)
    boot = _boot(geometry).encode()
    device.write(geometry.sectors * geometry.options.sector, boot)
    device.write(0, boot)


def _write_contents(device: BlockDevice, geometry: Geometry, files: dict[int, _File]) -> None:
    def put(name: str, data: bytes, offset: int = 0) -> None:
        device.write(geometry.places[name][0] * geometry.cluster + offset, data)

    put("attrdef", b"".join(
        r.AttributeDefinition.of(name=name, type=kind, flags=flags, min_size=least, max_size=most).encode()
        for name, kind, flags, least, most in _DEFINITIONS
    ))  # fmt: skip
    put("upcase", np.array(capitals(), dtype="<u2").tobytes())
    put("root", index_block([entry(file.reference, _name(geometry, file)) for file in _in_folder(files, r.ROOT)]))
    stream, _, _ = fresh()
    put("secure", stream)
    put("secure", stream, SECURITY_MIRROR)
    # A log of nothing but ones is one that has never been used: whoever mounts the volume starts it.
    blank = b"\xff" * _MOST_LOG_AT_ONCE
    for offset in range(0, geometry.log_size, len(blank)):
        put("log", blank[: geometry.log_size - offset], offset)
    used = np.zeros(TABLE_RECORDS, dtype=np.uint8)
    used[[*range(16), *(number for number in files if number > 16)]] = 1
    put("records", np.packbits(used, bitorder="little").tobytes())
    for place, data in _map_pieces(geometry):
        put("map", data, place)


def _map_pieces(geometry: Geometry) -> list[tuple[int, bytes]]:
    """Return the bytes of the map of clusters that are not zero: what is used, and the bits behind the last cluster."""
    mirror, _ = geometry.places["mirror"]
    head = geometry.used - geometry.taken("mirror")
    tail = 8 * geometry.bitmap_size - geometry.clusters
    runs = [(0, head), (mirror, geometry.taken("mirror")), (geometry.clusters, tail)]
    pieces: dict[int, bytes] = {}
    for start, count in runs:
        first, last = start // 8, -(-(start + count) // 8)
        bits = np.zeros(8 * (last - first), dtype=np.uint8)
        bits[start - 8 * first : start - 8 * first + count] = 1
        data = bytearray(np.packbits(bits, bitorder="little").tobytes())
        for place, other in pieces.items():  # runs may meet in one byte
            if data and place + len(other) - 1 == first:
                data[0] |= other[-1]
        pieces[first] = bytes(data)
    return list(pieces.items())


def _in_folder(files: dict[int, _File], folder: int) -> list[_File]:
    """Return the files of a folder in the order of their names."""
    return sorted((file for file in files.values() if file.parent == folder), key=lambda file: file.name.upper())


def _files(geometry: Geometry) -> dict[int, _File]:
    cluster, options = geometry.cluster, geometry.options

    def runs(name: str, kind: int = r.DATA, stream: str = "") -> Attribute:
        start, size = geometry.places[name]
        return Attribute(kind, stream, start=start, size=size, cluster=cluster)

    def plain(number: int, name: str, *places: Attribute) -> _File:
        data = next((one for one in places if one.type == r.DATA and one.value is None), None)
        size = data.size if data else 0
        return _File(number, name, places, size=size, allocated=-(-size // cluster) * cluster)

    _, hashes, numbers = fresh()
    whole = geometry.clusters * cluster
    empty = Attribute(r.DATA, value=b"")
    volume = (
        Attribute(r.VOLUME_NAME, value=options.label.encode("utf-16-le")),
        Attribute(r.VOLUME_INFORMATION, value=r.VolumeInformation.of(major_version=3, minor_version=1).encode()),
        empty,
    )
    made = [
        plain(r.MFT, "$MFT", runs("table"), runs("records", r.BITMAP)),
        plain(r.MIRROR, "$MFTMirr", runs("mirror")),
        plain(r.LOG, "$LogFile", runs("log")),
        plain(r.VOLUME, "$Volume", *volume),
        plain(r.ATTRDEF, "$AttrDef", runs("attrdef")),
        plain(r.MAP, "$Bitmap", runs("map")),
        plain(r.BOOT, "$Boot", runs("boot")),
        plain(r.BAD, "$BadClus", empty, Attribute(r.DATA, "$Bad", size=whole, initialized=0, cluster=cluster)),
        plain(r.UPCASE, "$UpCase", runs("upcase")),
    ]
    secure = (
        runs("secure", stream="$SDS"),
        _view("$SDH", r.BY_HASH, hashes, cluster),
        _view("$SII", r.BY_NUMBER, numbers, cluster),
    )
    made.append(_File(r.SECURE, "$Secure", secure, r.IN_USE | r.IS_VIEW, extra=r.VIEW_INDEX))
    made += _in_extend(geometry)
    by_number = {file.number: file for file in made}
    names = [entry(file.reference, _name(geometry, file)) for file in _in_folder(by_number, r.EXTEND)]
    inside = Attribute(r.INDEX_ROOT, "$I30", index_root(r.FILE_NAME, r.BY_NAME, names, cluster))
    folder = r.IN_USE | r.IS_FOLDER
    by_number[r.EXTEND] = _File(r.EXTEND, "$Extend", (inside,), folder, extra=r.FOLDER_NAMES)
    root = (
        Attribute(r.INDEX_ROOT, "$I30", index_root(r.FILE_NAME, r.BY_NAME, [], cluster, below=True)),
        runs("root", r.INDEX_ALLOCATION, "$I30"),
        Attribute(r.BITMAP, "$I30", b"\x01" + bytes(7)),
    )
    by_number[r.ROOT] = _File(r.ROOT, ".", root, folder, extra=r.FOLDER_NAMES)
    return by_number


def _view(name: str, collation: int, entries: list[bytes], cluster: int) -> Attribute:
    return Attribute(r.INDEX_ROOT, name, index_root(_NO_INDEX, collation, entries, cluster))


def _in_extend(geometry: Geometry) -> list[_File]:
    """Return the files of folder $Extend."""
    cluster, flags = geometry.cluster, r.IN_USE | r.IN_EXTEND | r.IS_VIEW
    administrators = sid_bytes(ADMINISTRATORS)
    limits = r.QuotaEntry.of(version=2, flags=1, threshold=-1, limit=-1)
    quotas = [
        view_entry(struct.pack("<I", 1), limits.encode()),
        view_entry(struct.pack("<I", 0x100), limits.encode() + administrators),
    ]
    owners = [view_entry(administrators, struct.pack("<I", 0x100))]
    quota = (_view("$O", r.BY_SID, owners, cluster), _view("$Q", r.BY_NUMBER, quotas, cluster))
    ids = (_view("$O", r.BY_NUMBERS, [], cluster),)
    reparse = (_view("$R", r.BY_NUMBERS, [], cluster),)
    named = ((r.QUOTA, "$Quota", quota), (r.OBJECT_IDS, "$ObjId", ids), (r.REPARSE, "$Reparse", reparse))
    return [_File(number, name, views, flags, parent=r.EXTEND, extra=r.VIEW_INDEX) for number, name, views in named]


def _moment(geometry: Geometry) -> int:
    return (geometry.options.made + _SINCE_1601) * 10**7


def _name(geometry: Geometry, file: _File) -> bytes:
    """Return the value of a file's name."""
    moment, number = _moment(geometry), file.parent
    sequence = number if number else 1
    return r.FileName.of(
        parent_directory=number | sequence << 48,
        creation_time=moment,
        last_data_change_time=moment,
        last_mft_change_time=moment,
        last_access_time=moment,
        allocated_size=file.allocated,
        data_size=file.size,
        file_attributes=r.HIDDEN_SYSTEM | file.extra,
        file_name_length=len(file.name),
        file_name_type=_BOTH_NAMES,
    ).encode() + file.name.encode("utf-16-le")


def _record(geometry: Geometry, files: dict[int, _File], number: int) -> bytes:
    """Return a record: one of the files, one kept for later versions (12 to 15), or an unused one."""
    size = geometry.record
    file = files.get(number)
    if file is None and number >= 16:
        return file_record(number, number if number < 24 else 1, 0, [], size)
    moment = _moment(geometry)
    about = r.StandardInformation.of(
        creation_time=moment,
        last_data_change_time=moment,
        last_mft_change_time=moment,
        last_access_time=moment,
        file_attributes=r.HIDDEN_SYSTEM | (file.extra if file and file.extra == r.VIEW_INDEX else 0),
        security_id=ROOT_FOLDER if number == r.ROOT else SYSTEM_FILES,
    )
    attributes = [Attribute(r.STANDARD_INFORMATION, value=about.encode())]
    if file is None:
        return file_record(number, number, r.IN_USE, [*attributes, Attribute(r.DATA, value=b"")], size)
    attributes += [Attribute(r.FILE_NAME, value=_name(geometry, file), indexed=True), *file.attributes]
    return file_record(number, file.sequence, file.flags, attributes, size)


def _boot(geometry: Geometry) -> r.BootSector:
    options, cluster = geometry.options, geometry.cluster
    per_cluster = cluster // options.sector
    return r.BootSector.of(
        jump=b"\xeb\x52\x90",
        oem_id=b"NTFS    ",
        bytes_per_sector=options.sector,
        sectors_per_cluster=per_cluster if per_cluster <= 128 else 257 - per_cluster.bit_length(),
        media=0xF8,
        sectors_per_track=63,
        heads=255,
        hidden_sectors=min(options.start // options.sector, (1 << 32) - 1),
        drive=0x00800080,
        number_of_sectors=geometry.sectors,
        mft_lcn=geometry.places["table"][0],
        mftmirr_lcn=geometry.places["mirror"][0],
        clusters_per_mft_record=_in_clusters(geometry.record, cluster),
        clusters_per_index_record=_in_clusters(r.INDEX_BLOCK, cluster),
        volume_serial_number=options.uuid.int >> 64,
        bootstrap=b"\xcd\x18",  # tells the firmware that there is nothing to start
        end_of_sector=0xAA55,
    )


def _in_clusters(size: int, cluster: int) -> int:
    return size // cluster if cluster <= size else -(size.bit_length() - 1)
