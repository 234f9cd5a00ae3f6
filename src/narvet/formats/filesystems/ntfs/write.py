"""Writing a fresh NTFS: the files that describe it, each with its record, then the boot sectors, the first one last."""

from __future__ import annotations

import numpy as np

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs import security
from narvet.formats.filesystems.ntfs.files import Files, files_of, record_of
from narvet.formats.filesystems.ntfs.geometry import PlannedNtfs
from narvet.formats.filesystems.ntfs.indexes import blocks
from narvet.formats.filesystems.upcase import capitals
from narvet.ground.units import MIB

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


def write(device: BlockDevice, new: PlannedNtfs) -> None:
    """Write the filesystem to a device that reads as zeros."""
    files = files_of(new)
    _write_contents(device, new, files)
    table = b"".join(record_of(new, files.by_number, number) for number in range(new.records))
    cluster = new.shape.cluster_size
    mirror, size = new.places["mirror"]
    device.write(mirror * cluster, table[:size])
    device.write(new.places["table"][0] * cluster, table)
    boot = _boot(new).encode()
    device.write(new.shape.sectors * new.options.sector_size, boot)
    device.write(0, boot)


def _write_contents(device: BlockDevice, new: PlannedNtfs, files: Files) -> None:
    def put(name: str, data: bytes, offset: int = 0) -> None:
        device.write(new.shape.start_of(new.places[name][0]) + offset, data)

    put("attrdef", b"".join(
        r.AttributeDefinition(name=name, type=kind, flags=flags, min_size=least, max_size=most).encode()
        for name, kind, flags, least, most in _DEFINITIONS
    ))  # fmt: skip
    put("upcase", np.array(capitals(), dtype="<u2").tobytes())
    for name, entries in files.indexes.items():
        put(name, b"".join(blocks(entries, new.shape.cluster_size)))
    stream, _, _ = security.fresh(new.options)
    put("secure", stream)
    put("secure", stream, security.MIRROR)
    # A log of nothing but ones is one that has never been used: the first mount starts it.
    blank = b"\xff" * _MOST_LOG_AT_ONCE
    for offset in range(0, new.log_size, len(blank)):
        put("log", blank[: new.log_size - offset], offset)
    used = np.zeros(new.records, dtype=np.uint8)
    used[[*range(16), *(number for number in files.by_number if number > 16)]] = 1
    put("records", np.packbits(used, bitorder="little").tobytes())
    for place, data in _map_pieces(new):
        put("map", data, place)


def _map_pieces(new: PlannedNtfs) -> list[tuple[int, bytes]]:
    """Return the bytes of the map of clusters that are not zero: what is used, and the bits behind the last cluster."""
    mirror, _ = new.places["mirror"]
    head = new.used - new.taken("mirror")
    tail = 8 * new.bitmap_size - new.shape.clusters
    runs = [(0, head), (mirror, new.taken("mirror")), (new.shape.clusters, tail)]
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


def _boot(new: PlannedNtfs) -> r.BootSector:
    options, cluster = new.options, new.shape.cluster_size
    per_cluster = cluster // options.sector_size
    return r.BootSector(
        jump=b"\xeb\x52\x90",
        oem_id=b"NTFS    ",
        bytes_per_sector=options.sector_size,
        sectors_per_cluster=per_cluster if per_cluster <= 128 else 257 - per_cluster.bit_length(),
        media=0xF8,
        sectors_per_track=63,
        heads=255,
        hidden_sectors=min(options.start // options.sector_size, (1 << 32) - 1),
        drive=0x00800080,
        number_of_sectors=new.shape.sectors,
        mft_lcn=new.places["table"][0],
        mftmirr_lcn=new.places["mirror"][0],
        clusters_per_mft_record=_in_clusters(new.shape.record_size, cluster),
        clusters_per_index_record=_in_clusters(r.INDEX_BLOCK, cluster),
        volume_serial_number=options.uuid.int >> 64,
        bootstrap=b"\xcd\x18",  # tells the firmware that there is nothing to start
        end_of_sector=0xAA55,
    )


def _in_clusters(size: int, cluster: int) -> int:
    return size // cluster if cluster <= size else -(size.bit_length() - 1)
