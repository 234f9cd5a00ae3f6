"""Reading NTFS from a device that is not trusted: its facts, and what `check` finds wrong with it."""

from __future__ import annotations

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import FilesystemState
from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.links import links, records_of, root_rights
from narvet.formats.filesystems.ntfs.log import open_still
from narvet.formats.filesystems.ntfs.maps import map_pieces
from narvet.formats.filesystems.ntfs.parse import Volume, one_of, system_file, volume_of
from narvet.formats.filesystems.ntfs.shape import Account
from narvet.ground.errors import ImageError
from narvet.ground.findings import Finding, Place
from narvet.ground.rules import filesystems as rules


def read(device: BlockDevice, where: Place, *, deep: bool = True) -> FilesystemState | None:
    """Return what is found, or None where no boot sector of NTFS lies."""
    found: list[Finding] = []
    serial = label = ""
    try:
        volume = volume_of(device)
        if volume is None:
            return None
        serial = f"{volume.boot.volume_serial_number:016x}"
        shape = volume.shape
        if shape.size > device.size:
            said = rules.filesystem_past_end.error(where, shape.size, device.size)
            return FilesystemState("ntfs", serial, "", shape, findings=(said,))
        label, flags, version = _volume(volume)
        records = records_of(volume, system_file(volume, r.MFT))
        map_runs = one_of(system_file(volume, r.MAP), r.DATA, "", "$Bitmap").runs
        unclean = "its guest did not unmount it" if flags & r.VOLUME_DIRTY else open_still(volume)
        rights, mounted = root_rights(volume, records), tuple(links(volume, records))
        used = sum(int(bits.sum()) for _, bits in map_pieces(volume))
        if flags & r.VOLUME_DIRTY:
            found.append(rules.filesystem_needs_recovery.warning(where))
        elif deep:
            from narvet.formats.filesystems.ntfs.check import faults

            found += [rules.filesystem_damaged.error(where, fault) for fault in faults(volume)]
    except ImageError as error:
        said = rules.filesystem_damaged.error(where, str(error))
        return FilesystemState("ntfs", serial, label, findings=(said,))
    return FilesystemState(
        "ntfs", serial, label, shape, (shape.clusters - used) * shape.unit,
        features=(f"version {version}",), rights=rights, links=mounted, findings=tuple(found), unclean=unclean,
        account=Account(sum(count for _, count in map_runs)),
    )  # fmt: skip


def _volume(volume: Volume) -> tuple[str, int, str]:
    """Return label, flags and version."""
    found = system_file(volume, r.VOLUME)
    about = one_of(found, r.VOLUME_INFORMATION, "", "$Volume").value or b""
    information = r.VolumeInformation.decode(about, "$Volume")
    label = next((one.value or b"" for one in found if one.type == r.VOLUME_NAME), b"")
    version = f"{information.major_version}.{information.minor_version}"
    return label.decode("utf-16-le", "replace"), information.flags, version
