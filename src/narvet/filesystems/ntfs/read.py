"""Reading NTFS from a device that is not trusted, whoever made it: its facts, and what `check` finds wrong with it."""

from __future__ import annotations

from narvet.block.contract import BlockDevice
from narvet.errors import ImageError
from narvet.filesystems import told
from narvet.filesystems.contract import FilesystemFacts
from narvet.filesystems.ntfs import records as r
from narvet.filesystems.ntfs.links import links, records_of, root_rights
from narvet.filesystems.ntfs.maps import map_pieces
from narvet.filesystems.ntfs.parse import Volume, one_of, system_file, volume_of
from narvet.findings import Finding


def read(device: BlockDevice, where: str, *, deep: bool = True) -> FilesystemFacts | None:
    """Return what is found, or None where no boot sector of NTFS lies."""
    found: list[Finding] = []
    known_as = label = ""
    try:
        volume = volume_of(device)
        if volume is None:
            return None
        known_as = f"{volume.boot.volume_serial_number:016x}"
        size = (volume.boot.number_of_sectors + 1) * volume.boot.bytes_per_sector
        if size > device.size:
            said = told.past_end(where, size, device.size)
            return FilesystemFacts("ntfs", known_as, "", size, 0, 0, volume.cluster, findings=(said,))
        label, flags, version = _volume(volume)
        records = records_of(volume, system_file(volume, r.MFT))
        rights, mounted = root_rights(volume, records), tuple(links(volume, records))
        used = sum(int(bits.sum()) for _, bits in map_pieces(volume))
        if flags & r.VOLUME_DIRTY:
            found.append(told.in_use(where))
        elif deep:
            from narvet.filesystems.ntfs.check import faults

            found += [told.damaged(where, fault) for fault in faults(volume)]
    except ImageError as error:
        return FilesystemFacts("ntfs", known_as, label, 0, 0, 0, 0, findings=(told.damaged(where, str(error)),))
    total = volume.clusters * volume.cluster
    return FilesystemFacts(
        "ntfs", known_as, label, size, total, total - used * volume.cluster, volume.cluster,
        features=(f"version {version}",), rights=rights, links=mounted, findings=tuple(found),
    )  # fmt: skip


def _volume(volume: Volume) -> tuple[str, int, str]:
    """Return label, flags and version."""
    found = system_file(volume, r.VOLUME)
    about = one_of(found, r.VOLUME_INFORMATION, "", "$Volume").value or b""
    information = r.VolumeInformation.decode(about, "$Volume")
    label = next((one.value or b"" for one in found if one.type == r.VOLUME_NAME), b"")
    version = f"{information.major_version}.{information.minor_version}"
    return label.decode("utf-16-le", "replace"), information.flags, version
