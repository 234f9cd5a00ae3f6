"""Reading NTFS from a device that is not trusted, whoever made it: its facts, and what `check` finds wrong with it."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from narvet.block.contract import BlockDevice, Extent
from narvet.errors import ImageError
from narvet.filesystems.contract import FilesystemFacts
from narvet.filesystems.ntfs import records as r
from narvet.filesystems.ntfs.links import links, records_of, root_rights
from narvet.filesystems.ntfs.parse import Found, Volume, attributes, content, one_of, unprotected, volume_of
from narvet.findings import Finding

_LARGEST_MAP = 1 << 29  # bytes, for the most clusters there can be
_CHUNK = 1 << 20


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
            said = _past_end(where, size, device.size)
            return FilesystemFacts("ntfs", known_as, "", size, 0, 0, volume.cluster, findings=(said,))
        label, flags, version = _volume(volume)
        records = records_of(volume, system_file(volume, r.MFT))
        rights, mounted = root_rights(volume, records), tuple(links(volume, records))
        used = sum(int(bits.sum()) for _, bits in map_pieces(volume))
        if flags & r.VOLUME_DIRTY:
            found.append(_in_use(where))
        elif deep:
            from narvet.filesystems.ntfs.check import faults

            found += [_damage(where, fault) for fault in faults(volume)]
    except ImageError as error:
        return FilesystemFacts("ntfs", known_as, label, 0, 0, 0, 0, findings=(_damage(where, str(error)),))
    total = volume.clusters * volume.cluster
    return FilesystemFacts(
        "ntfs", known_as, label, size, total, total - used * volume.cluster, volume.cluster,
        features=(f"version {version}",), rights=rights, links=mounted, findings=tuple(found),
    )  # fmt: skip


def system_file(volume: Volume, number: int) -> list[Found]:
    """Return the attributes of one of the first files, which lie at the start of the master file table."""
    where = f"record {number}"
    data = volume.device.read(volume.boot.mft_lcn * volume.cluster + number * volume.record, volume.record)
    data = unprotected(data, b"FILE", where)
    if not r.FileRecord.decode(data).flags & r.IN_USE:
        raise ImageError(f"{where} is not in use")
    return list(attributes(volume, data, where))


def map_pieces(volume: Volume) -> Iterator[tuple[int, NDArray[np.uint8]]]:
    """Yield first cluster and bits of the parts of the map of clusters that may have any set."""
    attribute = one_of(system_file(volume, r.MAP), r.DATA, "", "$Bitmap")
    length = -(-volume.clusters // 8)
    if attribute.size < length:
        raise ImageError(f"$Bitmap has {attribute.size} bytes, {length} expected")
    there = content(volume, attribute, _LARGEST_MAP)
    for start, run in there.extents(0, length):
        for offset in range(start, start + run, _CHUNK):
            data = there.read(offset, min(_CHUNK, start + run - offset))
            bits = np.unpackbits(np.frombuffer(data, dtype=np.uint8), bitorder="little")
            yield 8 * offset, bits[: volume.clusters - 8 * offset]


def used_runs(volume: Volume) -> NDArray[np.int64]:
    """Return first and end of the runs of clusters that the map says are used, shape (n, 2), joined."""
    found = []
    for first, bits in map_pieces(volume):
        edges = np.flatnonzero(np.diff(np.concatenate(([0], bits, [0])).astype(np.int8)))
        found.append(edges.reshape(-1, 2).astype(np.int64) + first)
    return joined(np.concatenate(found) if found else np.zeros((0, 2), dtype=np.int64))


def joined(runs: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return ascending runs with those that touch made one."""
    if not len(runs):
        return runs
    apart = np.flatnonzero(runs[1:, 0] > runs[:-1, 1])
    starts = runs[np.concatenate(([0], apart + 1)), 0]
    ends = runs[np.concatenate((apart, [len(runs) - 1])), 1]
    return np.stack((starts, ends), axis=1)


def unused(device: BlockDevice) -> Iterator[Extent]:
    """Yield the runs of free clusters of a filesystem that was read without a finding."""
    volume = volume_of(device)
    if volume is None:
        return
    reach = 0
    for start, end in [*used_runs(volume).tolist(), [volume.clusters, volume.clusters]]:
        if start > reach:
            yield Extent(reach * volume.cluster, (start - reach) * volume.cluster)
        reach = end


def _volume(volume: Volume) -> tuple[str, int, str]:
    """Return label, flags and version."""
    found = system_file(volume, r.VOLUME)
    about = one_of(found, r.VOLUME_INFORMATION, "", "$Volume").value or b""
    information = r.VolumeInformation.decode(about, "$Volume")
    label = next((one.value or b"" for one in found if one.type == r.VOLUME_NAME), b"")
    version = f"{information.major_version}.{information.minor_version}"
    return label.decode("utf-16-le", "replace"), information.flags, version


def _past_end(where: str, size: int, there: int) -> Finding:
    told = f"the filesystem says it has {size} bytes, but it lies on {there}"
    remedy = "do not mount it; the partition or the image was made smaller, or was cut short in a copy"
    return Finding("filesystem-past-end", "error", where, told, remedy)


def _in_use(where: str) -> Finding:
    told = "the filesystem is in use or was not unmounted cleanly"
    return Finding("filesystem-needs-recovery", "warning", where, told, "shut the guest down cleanly")


def _damage(where: str, what: str) -> Finding:
    remedy = "copy the data off, or have the guest repair it, before relying on it"
    return Finding("filesystem-damaged", "error", where, what, remedy)
