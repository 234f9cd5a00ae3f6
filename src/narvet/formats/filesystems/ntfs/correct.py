"""The label of an NTFS, changed where it stands, and the volumes mounted in its folders."""

from __future__ import annotations

import re
from collections.abc import Mapping
from uuid import UUID

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import FilesystemState, left_links
from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.attributes import Attribute
from narvet.formats.filesystems.ntfs.edit import FirstRecords, find
from narvet.formats.filesystems.ntfs.parse import system_file, volume_of
from narvet.formats.filesystems.ntfs.read import read
from narvet.formats.filesystems.ntfs.tree import files_of
from narvet.formats.filesystems.trees import mount_at, walked
from narvet.ground.errors import ImageError
from narvet.ground.findings import image_place
from narvet.ground.values import replace

_VOLUME = re.compile(r"\\\?\?\\Volume\{([0-9a-f-]{36})\}\\", re.IGNORECASE)


def correct(device: BlockDevice, wanted: FilesystemState) -> None:
    """Write the label where it differs, and mount volumes in folders, or take them out, as the state has them."""
    _relabel(device, wanted.label.encode("utf-16-le"))
    state = read(device, image_place(""), deep=False)
    if state is None:
        raise ImageError("this is not ntfs")
    there, left = dict(state.links), dict(left_links(wanted, state))
    missing = {path: target for path, target in wanted.links if target and there.get(path) != target}
    if missing or left:
        _relink(device, missing, left)


def _relink(device: BlockDevice, missing: Mapping[str, str], left: Mapping[str, str]) -> None:
    """Mount volumes in folders that are made for it, and remove the folders of those that are `left`."""
    from narvet.formats.filesystems.ntfs.change import edited

    tree = edited(device, files_of(device).root.modified or 0)
    for path in left:
        place = walked(tree, path.rpartition("\\")[0].replace("\\", "/"), path)
        if not place.missing:
            tree.remove_folder(place.folder, path.rpartition("\\")[2])
    for path, target in missing.items():
        match = _VOLUME.fullmatch(target)
        if match is None:
            raise ImageError(f"{target} is no name of a volume")
        mount_at(tree, path.replace("\\", "/"), UUID(match[1]))


def _relabel(device: BlockDevice, label: bytes) -> None:
    """Write the label; a volume that never had one gets the attribute that holds it."""
    volume = volume_of(device)
    if volume is None:
        raise ImageError("this is not ntfs")
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
