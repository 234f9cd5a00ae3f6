"""The files of a fresh NTFS as values: the volume's own, folders asked for, and what each one's index holds."""

from __future__ import annotations

import re
import struct
from collections.abc import Mapping, Sequence

from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs import security
from narvet.formats.filesystems.ntfs.attributes import Attribute, entry, file_record, view_entry
from narvet.formats.filesystems.ntfs.folders import FIRST, MOUNT_POINT, Planned, mount_value
from narvet.formats.filesystems.ntfs.geometry import PlannedNtfs, index_name
from narvet.formats.filesystems.ntfs.indexes import attributes as index
from narvet.formats.filesystems.upcase import upcased
from narvet.ground.sids import WELL_KNOWN, sid_bytes
from narvet.ground.values import Frozen, replace

_SINCE_1601 = 11_644_473_600  # seconds to 1970
_NO_ATTRIBUTE = 0x0  # what an index whose keys are no attributes is of
_BOTH_NAMES, _ANY_NAME = 3, 0
_SHORT = re.compile(r"[A-Za-z0-9_-]{1,8}(\.[A-Za-z0-9_-]{1,3})?")
_LAST_KEPT, _LAST_FIXED = 15, 23  # records that stand for later versions, and those that only the table itself gets


class File(Frozen):
    """One of the files; `size` and `allocated` are bytes that its name tells of its data.

    `about` are its own attributes as flags, `kind` those that its name has besides, `rights` the number of its security
    descriptor, `tag` that of its reparse point.
    """

    number: int
    name: str
    attributes: tuple[Attribute, ...] = ()
    flags: int = r.IN_USE
    size: int = 0
    allocated: int = 0
    parent: int = r.ROOT
    about: int = r.HIDDEN_SYSTEM
    kind: int = 0
    rights: int = security.SYSTEM_FILES
    tag: int = 0

    @property
    def sequence(self) -> int:
        """The records up to 15 count from their own number, but for the first."""
        return self.number if 0 < self.number <= _LAST_KEPT else 1

    @property
    def reference(self) -> int:
        """Number and sequence number, as others refer to it."""
        return self.number | self.sequence << 48


class Files(Frozen):
    """All files by number, and by the name of their place the entries of indexes that have blocks."""

    by_number: Mapping[int, File]
    indexes: Mapping[str, Sequence[bytes]]


def files_of(new: PlannedNtfs) -> Files:
    """Return the files of a fresh volume."""
    found = {file.number: file for file in (*_own(new), *_in_extend(new), *map(_folder, new.folders))}
    indexes: dict[str, Sequence[bytes]] = {}
    inside: dict[int, list[File]] = {}
    for file in found.values():
        inside.setdefault(file.parent, []).append(file)

    def with_index(file: File, place: str, entries: Sequence[bytes], views: bool = False) -> File:
        name, kind, rule = ("$R", _NO_ATTRIBUTE, r.BY_NUMBERS) if views else ("$I30", r.FILE_NAME, r.BY_NAME)
        if place in new.places:
            indexes[place] = entries
        made = index(name, kind, rule, entries, new.shape.cluster_size, new.places.get(place))
        return _with(file, *made)

    def names_in(number: int) -> list[bytes]:
        ordered = sorted(inside.get(number, ()), key=lambda file: upcased(file.name))
        return [entry(file.reference, name_of(new, file)) for file in ordered]

    places = {r.ROOT: "root", r.EXTEND: "", **{folder.record: index_name(folder) for folder in new.folders}}
    for number, place in places.items():
        found[number] = with_index(found[number], place, names_in(number))
    mounts = sorted(file.reference for file in found.values() if file.tag)
    keys = [view_entry(struct.pack("<IQ", MOUNT_POINT, reference), b"") for reference in mounts]
    found[r.REPARSE] = with_index(found[r.REPARSE], "reparse", keys, views=True)
    return Files(found, indexes)


def _with(file: File, *more: Attribute) -> File:
    return replace(file, attributes=(*file.attributes, *more))


def _own(new: PlannedNtfs) -> list[File]:
    """Return the files in the root that describe the volume, and the root."""
    cluster, options = new.shape.cluster_size, new.options

    def runs(name: str, kind: int = r.DATA, stream: str = "") -> Attribute:
        start, size = new.places[name]
        return Attribute(kind, stream, start=start, size=size, cluster=cluster)

    def plain(number: int, name: str, *places: Attribute) -> File:
        data = next((one for one in places if one.type == r.DATA and one.value is None), None)
        size = data.size if data else 0
        return File(number, name, places, size=size, allocated=-(-size // cluster) * cluster)

    _, hashes, numbers = security.fresh(options)
    whole, empty = new.shape.clusters * cluster, Attribute(r.DATA, value=b"")
    volume = (
        Attribute(r.VOLUME_NAME, value=options.label.encode("utf-16-le")),
        Attribute(r.VOLUME_INFORMATION, value=r.VolumeInformation(major_version=3, minor_version=1).encode()),
        empty,
    )
    secure = (
        runs("secure", stream="$SDS"),
        *index("$SDH", _NO_ATTRIBUTE, r.BY_HASH, hashes, cluster),
        *index("$SII", _NO_ATTRIBUTE, r.BY_NUMBER, numbers, cluster),
    )
    folder, view = r.IN_USE | r.IS_FOLDER, r.HIDDEN_SYSTEM | r.VIEW_INDEX
    return [
        plain(r.MFT, "$MFT", runs("table"), runs("records", r.BITMAP)),
        plain(r.MIRROR, "$MFTMirr", runs("mirror")),
        plain(r.LOG, "$LogFile", runs("log")),
        plain(r.VOLUME, "$Volume", *volume),
        plain(r.ATTRDEF, "$AttrDef", runs("attrdef")),
        plain(r.MAP, "$Bitmap", runs("map")),
        plain(r.BOOT, "$Boot", runs("boot")),
        plain(r.BAD, "$BadClus", empty, Attribute(r.DATA, "$Bad", size=whole, initialized=0, cluster=cluster)),
        plain(r.UPCASE, "$UpCase", runs("upcase")),
        File(r.SECURE, "$Secure", secure, r.IN_USE | r.IS_VIEW, about=view),
        File(r.EXTEND, "$Extend", (), folder, kind=r.FOLDER_NAMES),
        File(r.ROOT, ".", (), folder, kind=r.FOLDER_NAMES, rights=security.ROOT_FOLDER),
    ]


def _in_extend(new: PlannedNtfs) -> list[File]:
    """Return the files of folder $Extend; the list of reparse points is still without its index."""
    cluster, flags = new.shape.cluster_size, r.IN_USE | r.IN_EXTEND | r.IS_VIEW
    administrators = sid_bytes(WELL_KNOWN["Administrators"])
    limits = r.QuotaEntry(version=2, flags=1, threshold=-1, limit=-1)
    quotas = [
        view_entry(struct.pack("<I", 1), limits.encode()),
        view_entry(struct.pack("<I", 0x100), limits.encode() + administrators),
    ]
    owners = [view_entry(administrators, struct.pack("<I", 0x100))]
    quota = (
        *index("$O", _NO_ATTRIBUTE, r.BY_SID, owners, cluster),
        *index("$Q", _NO_ATTRIBUTE, r.BY_NUMBER, quotas, cluster),
    )
    ids = index("$O", _NO_ATTRIBUTE, r.BY_NUMBERS, [], cluster)
    named = ((r.QUOTA, "$Quota", quota), (r.OBJECT_IDS, "$ObjId", ids), (r.REPARSE, "$Reparse", ()))
    about = r.HIDDEN_SYSTEM | r.VIEW_INDEX
    return [File(number, name, views, flags, parent=r.EXTEND, about=about) for number, name, views in named]


def _folder(planned: Planned) -> File:
    """Return a folder asked for, still without its index."""
    point = () if planned.volume is None else (Attribute(r.REPARSE_POINT, value=mount_value(planned.volume)),)
    return File(
        planned.record,
        planned.name,
        point,
        r.IN_USE | r.IS_FOLDER,
        parent=planned.parent,
        about=r.IS_REPARSE_POINT if point else 0,
        kind=r.FOLDER_NAMES,
        rights=security.FOLDERS,
        tag=MOUNT_POINT if point else 0,
    )


def _moment(new: PlannedNtfs) -> int:
    return (new.options.made + _SINCE_1601) * 10**7


def name_of(new: PlannedNtfs, file: File) -> bytes:
    """Return the value of a file's name."""
    moment = _moment(new)
    above = File(file.parent, "")
    return r.FileName(
        parent_directory=above.reference,
        creation_time=moment,
        last_data_change_time=moment,
        last_mft_change_time=moment,
        last_access_time=moment,
        allocated_size=file.allocated,
        data_size=file.size,
        file_attributes=file.about | file.kind,
        reparse_value=file.tag,
        file_name_length=len(file.name.encode("utf-16-le")) // 2,
        file_name_type=_BOTH_NAMES if file.number < FIRST or _SHORT.fullmatch(file.name) else _ANY_NAME,
    ).encode() + file.name.encode("utf-16-le")


def record_of(new: PlannedNtfs, files: Mapping[int, File], number: int) -> bytes:
    """Return a record: one of the files, one kept for later versions (12 to 15), or an unused one."""
    size = new.shape.record_size
    file = files.get(number)
    if file is None and number > _LAST_KEPT:
        return file_record(number, number if number <= _LAST_FIXED else 1, 0, [], size)
    moment = _moment(new)
    about = r.StandardInformation(
        creation_time=moment,
        last_data_change_time=moment,
        last_mft_change_time=moment,
        last_access_time=moment,
        file_attributes=file.about if file else r.HIDDEN_SYSTEM,
        security_id=file.rights if file else security.SYSTEM_FILES,
    )
    attributes = [Attribute(r.STANDARD_INFORMATION, value=about.encode())]
    if file is None:
        return file_record(number, number, r.IN_USE, [*attributes, Attribute(r.DATA, value=b"")], size)
    attributes += [Attribute(r.FILE_NAME, value=name_of(new, file), indexed=True), *file.attributes]
    return file_record(number, file.sequence, file.flags, attributes, size)
