"""VMDK, by the Virtual Disk Format 5.0 specification: one sparse file, pieces sparse and flat, packed; children by CID.

Full images in one file have every grain in its place. Sectors are 512 bytes, disks at most 2047 GiB, as grain tables
count sectors of the file with 32 bits.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path

from narvet.block.contract import BlockDevice
from narvet.block.file import FileDevice
from narvet.checksums import crc32
from narvet.errors import ImageError, UnsupportedError
from narvet.images.contract import ImageFacts, Making
from narvet.images.files import existing, new_file, stored
from narvet.images.mapped import MappedDevice, all_stored, allocate_all
from narvet.images.vmdk import packed, pieces
from narvet.images.vmdk.descriptor import LARGEST, Descriptor, embedded, parse
from narvet.images.vmdk.grains import GRAIN, Grains, layout, sparse_header, write_sparse
from narvet.images.vmdk.records import COMPRESSED, ENTRIES, MAGIC, SECTOR, SparseHeader
from narvet.units import GIB, KIB, align_up

MOST = 2047 * GIB


class Vmdk:
    """The format behind `format = "vmdk"`."""

    name = "vmdk"
    suffix = ".vmdk"
    most = MOST
    sectors = (SECTOR,)
    makes_children = True
    records_sector = True
    renews_link = True
    divides = True

    def fit(self, size: int, block: int | None = None) -> int:
        """Return the size in whole grains, as a capacity is one (Virtual Disk Format 5.0, "capacity")."""
        return align_up(size, block or GRAIN)

    def blocks(self) -> tuple[int, ...]:
        """Return the powers of two a grain can be."""
        return tuple(8 * KIB << shift for shift in range(8))

    def least_piece(self, size: int) -> int:
        """Return the smallest piece that keeps their number in bounds."""
        return pieces.least(size)

    def parts(self, path: Path) -> tuple[Path, ...]:
        """Return the pieces that a descriptor names."""
        text = _pieces_text(path)
        return () if text is None else pieces.files(path, text)

    def own_parts(self, path: Path) -> tuple[Path, ...]:
        """Return the same, once it is certain that each belongs to this image and to no other."""
        text = _pieces_text(path)
        return () if text is None else pieces.own_files(path, text)

    def footprint(self, making: Making, data: int) -> int:
        """Return header, directories, the tables in use and the data; to pack, it is kept unpacked meanwhile."""
        if making.packed:
            return 64 * KIB + data + data // 16
        grain = making.block or GRAIN
        if making.space == "full":
            return align_up(making.size, grain) + (
                64 * KIB if making.pieces else layout(making.size, grain).over_head * SECTOR
            )
        tables = -(-making.size // (grain * ENTRIES))
        apart = min(-(-making.size // making.pieces) + 1, pieces.MOST) * 64 * KIB if making.pieces else 0
        return 64 * KIB + apart + 8 * tables + min(2 * tables, data // 256) * 4 * KIB + data

    @contextmanager
    def create(self, path: Path, making: Making) -> Iterator[BlockDevice]:
        """Make an image; full gives every grain its place, and the file all of its bytes."""
        if making.packed:
            with packed.packing(path, making) as device:
                yield device
            return
        if making.pieces is not None:
            with pieces.create(path, making) as device:
                yield device
            return
        with new_file(path) as file:
            header = write_sparse(file, making.size, making.block or GRAIN, embedded(making, path))
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
        with existing(path, writable=writable) as file:
            text = _descriptor(file)
            if text is None:
                raise ImageError(f"{path}: this is no VMDK image")
            header = sparse_header(file)
            if header is None:
                if writable:
                    pieces.own_files(path, text)
                renew = partial(_renew, file, 0, file.size, text) if writable else None
                with pieces.opened(path, text, renew, base) as device:
                    yield device
                return
            if writable and header.flags & COMPRESSED:
                raise UnsupportedError(f"{path}: a packed VMDK is made for transport; recast it to write to it")
            start, room = header.descriptor_offset * SECTOR, header.descriptor_size * SECTOR
            renew = partial(_renew, file, start, min(room, LARGEST), text) if writable else None
            grains = Grains(file, header, renew)
            yield MappedDevice(file, grains, header.capacity * SECTOR, SECTOR, base)
            if writable:
                grains.flush()

    def facts(self, path: Path) -> ImageFacts | None:
        """Return the facts of an image, or None without a sparse header or a descriptor."""
        with existing(path) as file:
            text = _descriptor(file)
            if text is None:
                return None
            header = sparse_header(file)
            extents = () if header else pieces.usable(text)
            size = header.capacity * SECTOR if header else sum(line.sectors for line in extents) * SECTOR
            grains = Grains(file, header) if header else None
            full = all_stored(grains, size) if grains else all(line.kind == "FLAT" for line in extents)
        names = () if header else list(pieces.files(path, text))
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
            whole=header is not None and not header.flags & COMPRESSED,
            link=text.cid,
            base=str(path.parent / base.replace("\\", "/")) if base else None,
            base_link=text.parent_cid if base else "",
            base_format="vmdk" if base else "",
        )


FORMAT = Vmdk()


def _descriptor(file: FileDevice) -> Descriptor | None:
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


def _pieces_text(path: Path) -> Descriptor | None:
    """Return the descriptor of an image in pieces, None for any other file."""
    with existing(path) as file:
        text = _descriptor(file)
        return None if text is None or sparse_header(file) is not None else text


def _renew(file: FileDevice, start: int, room: int, text: Descriptor) -> None:
    """Give the image another CID before its content changes, so that its children notice."""
    data = file.read(start, room)
    old = f"CID={text.values.get('cid', '')}".encode()
    new = f"CID={crc32(text.cid.encode()):08x}".encode()
    place = data.find(b"\n" + old)
    if place >= 0 and len(old) == len(new):
        file.write(start + place + 1, new)
        file.flush()
