"""VMDK, by the Virtual Disk Format 5.0 specification: sparse images in one file, written and read; children by CID.

Read besides: descriptors apart from their extents, flat extents, pieces sparse and flat, the packed form for transport.
Full images have every grain in its place. Sectors are 512 bytes, disks at most 2047 GiB, as grain tables count sectors
of the file with 32 bits.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

import numpy as np

from narvet.block.contract import BlockDevice
from narvet.block.file import FileDevice
from narvet.block.linear import Linear
from narvet.block.window import Window
from narvet.block.zeros import Zeros
from narvet.checksums import crc32
from narvet.errors import ImageError, UnsupportedError
from narvet.images.contract import ImageFacts, Making
from narvet.images.files import existing, new_file, stored
from narvet.images.mapped import MappedDevice, all_stored, allocate_all
from narvet.images.vmdk.descriptor import LARGEST, ExtentLine, parse, text_of
from narvet.images.vmdk.descriptor import Descriptor as Text
from narvet.images.vmdk.grains import Grains, sparse_header
from narvet.images.vmdk.records import COMPRESSED, ENTRIES, MAGIC, NEWLINE_TEST, REDUNDANT, SECTOR, SparseHeader
from narvet.units import GIB, KIB, align_up

MOST = 2047 * GIB
GRAIN = 64 * KIB
_DESCRIPTOR = (1, 20)  # sectors: where an embedded descriptor lies, and its room
_TABLE_SECTORS = ENTRIES * 4 // SECTOR
_MOST_EXTENTS = 4096  # pieces of 512 MiB of the largest disk


class Vmdk:
    """The format behind `format = "vmdk"`."""

    name = "vmdk"
    suffix = ".vmdk"
    most = MOST
    sectors = (SECTOR,)
    makes_children = True

    def fit(self, size: int) -> int:
        """Return the size in whole sectors."""
        return align_up(size, SECTOR)

    def blocks(self) -> tuple[int, ...]:
        """Return the powers of two a grain can be."""
        return tuple(8 * KIB << shift for shift in range(8))

    def footprint(self, making: Making, data: int) -> int:
        """Return header, directories, the tables in use and the data."""
        grain = making.block or GRAIN
        first = _layout(making.size, grain).over_head * SECTOR
        if making.space == "full":
            return first + align_up(making.size, grain)
        tables = -(-making.size // (grain * ENTRIES))
        return 64 * KIB + 8 * tables + min(2 * tables, data // 256) * 4 * KIB + data

    @contextmanager
    def create(self, path: Path, making: Making) -> Iterator[BlockDevice]:
        """Make an image; full gives every grain its place, and the file all of its bytes."""
        with new_file(path) as file:
            header = _write_head(file, making, path)
            grains = Grains(file, header, lambda: None)
            if making.space == "full" and making.base is None:
                allocate_all(grains, file, making.size)
            yield MappedDevice(file, grains, making.size, SECTOR)
            grains.flush()

    @contextmanager
    def open(
        self, path: Path, sector: int, *, writable: bool = False, base: BlockDevice | None = None
    ) -> Iterator[BlockDevice]:
        """Open an image: one sparse file, or a descriptor with its extents."""
        del sector
        with existing(path, writable=writable) as file, ExitStack() as stack:
            text = _descriptor(file)
            if text is None:
                raise ImageError(f"{path}: this is no VMDK image")
            header = sparse_header(file)
            if header is not None:
                if writable and header.flags & COMPRESSED:
                    raise UnsupportedError(f"{path}: a packed VMDK is made for transport; recast it to write to it")
                grains = Grains(file, header, (lambda: _renew(file, header, text)) if writable else None)
                yield MappedDevice(file, grains, header.capacity * SECTOR, SECTOR, base)
            else:
                if writable:
                    raise UnsupportedError(f"{path}: a VMDK in pieces is only read; recast it to write to it")
                yield Linear([_extent(stack, path, line, base) for line in _usable(text)], SECTOR)
            if writable and header is not None:
                grains.flush()

    def facts(self, path: Path) -> ImageFacts | None:
        """Return the facts of an image, or None without a sparse header or a descriptor."""
        with existing(path) as file:
            text = _descriptor(file)
            if text is None:
                return None
            header = sparse_header(file)
            size = header.capacity * SECTOR if header else sum(line.sectors for line in _usable(text)) * SECTOR
            grains = Grains(file, header) if header else None
            full = all_stored(grains, size) if grains else all(line.kind == "FLAT" for line in text.extents)
        names = [] if header else [path.parent / line.file for line in text.extents if line.file]
        base = text.base
        if base == "" or (base and "\0" in base):
            raise ImageError("the VMDK is a child, but names no base")
        return ImageFacts(
            format="vmdk",
            space="full" if full and base is None else "thin",
            size=size,
            sector=SECTOR,
            allocated=stored(path) + sum(stored(name) for name in names if name.exists()),
            block=grains.block if grains else 0,
            link=text.cid,
            base=str(path.parent / base.replace("\\", "/")) if base else None,
            base_link=text.parent_cid if base else "",
            base_format="vmdk" if base else "",
        )


FORMAT = Vmdk()


def _layout(size: int, grain: int) -> SparseHeader:
    """Return the header of a sparse image: descriptor, redundant directory and tables, directory and tables, grains."""
    tables = -(-size // (grain * ENTRIES))
    directory = align_up(4 * tables, SECTOR) // SECTOR
    redundant = sum(_DESCRIPTOR)
    second = redundant + directory + tables * _TABLE_SECTORS
    end = second + directory + tables * _TABLE_SECTORS
    return SparseHeader.of(
        magic=MAGIC,
        version=1,
        flags=NEWLINE_TEST | REDUNDANT,
        capacity=size // SECTOR,
        grain_size=grain // SECTOR,
        descriptor_offset=_DESCRIPTOR[0],
        descriptor_size=_DESCRIPTOR[1],
        num_gtes_per_gt=ENTRIES,
        rgd_offset=redundant,
        gd_offset=second,
        over_head=align_up(end, grain // SECTOR),
        line_ends=b"\n \r\n",
    )


def _write_head(file: FileDevice, making: Making, path: Path) -> SparseHeader:
    grain = making.block or GRAIN
    header = _layout(making.size, grain)
    base = (making.base.link, making.base.relative) if making.base else None
    line = ExtentLine(making.size // SECTOR, "SPARSE", path.name.removeprefix(".").removesuffix(".narvet-partial"), 0)
    text = text_of(f"{crc32(making.id.bytes) or 1:08x}", "monolithicSparse", [line], making.size, base)
    if len(text) > _DESCRIPTOR[1] * SECTOR:
        raise UnsupportedError("the names of image and base are too long for a VMDK's descriptor")
    file.resize(header.over_head * SECTOR)
    file.write(0, header.encode())
    file.write(_DESCRIPTOR[0] * SECTOR, text)
    tables = -(-making.size // (grain * ENTRIES))
    for directory in (header.rgd_offset, header.gd_offset):
        first = directory + align_up(4 * tables, SECTOR) // SECTOR
        places = np.arange(first, first + tables * _TABLE_SECTORS, _TABLE_SECTORS, dtype="<u4")
        file.write(directory * SECTOR, places.tobytes())
    return header


def _descriptor(file: FileDevice) -> Text | None:
    """Return an image's descriptor: embedded in a sparse extent, or the file itself."""
    start = file.read(0, min(file.size, SECTOR))
    if len(start) == SECTOR and int.from_bytes(start[:4], "little") == MAGIC:
        header = SparseHeader.decode(start)
        if not header.descriptor_offset:
            raise UnsupportedError("this is one piece of a VMDK; name the file that describes them all")
        size = min(header.descriptor_size * SECTOR, LARGEST)
        return parse(file.read(header.descriptor_offset * SECTOR, size))
    if start.lstrip().startswith(b"# Disk DescriptorFile") and file.size <= LARGEST:
        return parse(file.read(0, file.size))
    return None


def _usable(text: Text) -> tuple[ExtentLine, ...]:
    if not text.extents or len(text.extents) > _MOST_EXTENTS:
        raise ImageError(f"the VMDK's descriptor names {len(text.extents)} extents, 1 to {_MOST_EXTENTS} expected")
    for line in text.extents:
        if line.kind not in ("SPARSE", "FLAT", "ZERO") or (line.kind != "ZERO" and not line.file):
            raise UnsupportedError(f"the VMDK has an extent of kind {line.kind}, which cannot be read yet")
        if line.file and ("/" in line.file or "\\" in line.file or "\0" in line.file):
            raise ImageError(f"the VMDK's extent {line.file} does not lie beside its descriptor")
    return text.extents


def _extent(stack: ExitStack, path: Path, line: ExtentLine, base: BlockDevice | None) -> BlockDevice:
    size = line.sectors * SECTOR
    if line.file is None or line.kind == "ZERO":
        return Zeros(size)
    place = path.parent / line.file
    if not place.is_file():
        raise ImageError(f"{path}: its piece {place} is missing; put it back there")
    file = stack.enter_context(existing(place))
    if line.kind == "FLAT":
        return Window(file, line.offset * SECTOR, size)
    header = sparse_header(file)
    if header is None or header.capacity < line.sectors:
        raise ImageError(f"{place}: it is not the sparse piece of {line.sectors} sectors that {path} describes")
    if base is not None:
        raise UnsupportedError(f"{path}: a child in pieces cannot be read yet")
    return Window(MappedDevice(file, Grains(file, header), header.capacity * SECTOR, SECTOR), 0, size)


def _renew(file: FileDevice, header: SparseHeader, text: Text) -> None:
    """Give the image another CID before its content changes, so that its children notice."""
    if not header.descriptor_offset:
        return
    start = header.descriptor_offset * SECTOR
    data = file.read(start, min(header.descriptor_size * SECTOR, LARGEST))
    old = f"CID={text.values.get('cid', '')}".encode()
    new = f"CID={crc32(text.cid.encode()):08x}".encode()
    place = data.find(b"\n" + old)
    if place >= 0 and len(old) == len(new):
        file.write(start + place + 1, new)
        file.flush()
