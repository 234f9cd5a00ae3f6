"""The label of an NTFS, changed where it stands."""

from __future__ import annotations

from dataclasses import replace

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import FilesystemState
from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.attributes import Attribute
from narvet.formats.filesystems.ntfs.edit import FirstRecords, find
from narvet.formats.filesystems.ntfs.parse import system_file, volume_of
from narvet.ground.errors import ImageError


def correct(device: BlockDevice, wanted: FilesystemState) -> None:
    """Write the label where it differs; a volume that never had one gets the attribute that holds it."""
    volume = volume_of(device)
    if volume is None:
        raise ImageError("this is not ntfs")
    label = wanted.label.encode("utf-16-le")
    there = next((one for one in system_file(volume, r.VOLUME) if one.type == r.VOLUME_NAME), None)
    if label == (there.value or b"" if there else b""):
        return
    records = FirstRecords(volume)
    data = records.get(r.VOLUME)
    if there is not None:
        place, length = find(data, r.VOLUME_NAME, "", r.VOLUME)
        instance = r.AttributeHead.decode(bytes(data[place:])).instance
    else:
        place, length = find(data, r.VOLUME_INFORMATION, "", r.VOLUME)[0], 0
        head = r.FileRecord.decode(bytes(data))
        instance = head.next_attr_instance
        records.put(r.VOLUME, replace(head, next_attr_instance=instance + 1).encode() + data[r.FileRecord.size :])
    records.replace(r.VOLUME, place, length, Attribute(r.VOLUME_NAME, value=label).encode(instance))
