"""The packed VMDK for transport: grains deflated one after another, tables and a footer behind them, written once.

Virtual Disk Format 5.0, section "Stream-Optimized Compressed Sparse Extents". What is packed is first put together in a
file without a name, since a disk is not written from its first byte to its last.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager

from narvet.block.contract import BlockDevice
from narvet.block.files import File, Files
from narvet.formats.images.contract import ImageSpec
from narvet.formats.images.vmdk.descriptor import embedded
from narvet.formats.images.vmdk.grains import GRAIN
from narvet.formats.images.vmdk.records import (
    AT_END,
    COMPRESSED,
    DEFLATE,
    DESCRIPTOR_SECTORS,
    ENTRIES,
    LINE_ENDS,
    MAGIC,
    MARKERS,
    NEWLINE_TEST,
    SECTOR,
    CompressedGrain,
    Marker,
    SparseHeader,
)
from narvet.ground.units import align_up
from narvet.ground.values import replace

_FIRST = 128  # sectors before the first grain
_TABLE, _DIRECTORY, _FOOTER = 1, 2, 3


@contextmanager
def packing(files: Files, name: str, image_spec: ImageSpec) -> Iterator[BlockDevice]:
    """Yield a device to write the disk to; once the context is left it is packed into a new file."""
    file, disk = files.create(name), files.scratch(image_spec.size)
    file.resize(_FIRST * SECTOR)
    file.write(SECTOR, embedded(image_spec, name))
    yield disk
    _pack(disk, file)


def _pack(disk: File, file: File) -> None:
    header = SparseHeader(
        magic=MAGIC,
        version=3,
        flags=NEWLINE_TEST | COMPRESSED | MARKERS,
        capacity=disk.size // SECTOR,
        grain_size=GRAIN // SECTOR,
        descriptor_offset=1,
        descriptor_size=DESCRIPTOR_SECTORS,
        num_gtes_per_gt=ENTRIES,
        gd_offset=AT_END,
        over_head=_FIRST,
        line_ends=LINE_ENDS,
        compress_algorithm=DEFLATE,
    )
    file.write(0, header.encode())
    reach = GRAIN * ENTRIES
    directory = [0] * -(-disk.size // reach)
    with ThreadPoolExecutor() as workers:
        for number in range(len(directory)):
            table = _pack_table(disk, file, number * reach, workers)
            if any(table):
                directory[number] = _append(file, _TABLE, _entries(table))
    place = _append(file, _DIRECTORY, _entries(directory))
    _append(file, _FOOTER, replace(header, gd_offset=place).encode())
    _append(file, 0, b"")


def _pack_table(disk: File, file: File, start: int, workers: ThreadPoolExecutor) -> list[int]:
    """Append the grains of one table that hold anything; return where each lies, in sectors."""
    table = [0] * ENTRIES
    touched: dict[int, bytes] = {}
    for first, length in disk.extents(start, start + GRAIN * ENTRIES):
        for place in range(first // GRAIN * GRAIN, first + length, GRAIN):
            if place not in touched:
                data = disk.read(place, min(GRAIN, disk.size - place))
                if data.count(0) != len(data):
                    touched[place] = data.ljust(GRAIN, b"\0")
    for place, small in zip(touched, workers.map(zlib.compress, touched.values()), strict=True):
        grain = CompressedGrain(lba=place // SECTOR, packed_size=len(small)).encode() + small
        table[(place - start) // GRAIN] = _put(file, grain)
    return table


def _entries(places: list[int]) -> bytes:
    return b"".join(place.to_bytes(4, "little") for place in places)


def _append(file: File, kind: int, content: bytes) -> int:
    """Append a marker and what follows it; return the sector of the latter."""
    length = align_up(len(content), SECTOR) // SECTOR
    return _put(file, Marker(val=length, kind=kind).encode() + content) + 1


def _put(file: File, data: bytes) -> int:
    place = file.size
    file.resize(place + align_up(len(data), SECTOR))
    file.write(place, data)
    return place // SECTOR
