"""VMDK, by the Virtual Disk Format 5.0 specification: one sparse file, pieces sparse and flat, packed; children by CID.

Full images in one file have every grain in its place. Sectors are 512 bytes, disks at most 2047 GiB, as grain tables
count sectors of the file with 32 bits.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial

from narvet.block.contract import BlockDevice
from narvet.block.files import File, Files, in_order
from narvet.formats.images.contract import ImageFacts, ImageSpec, Opened
from narvet.formats.images.mapped import MappedDevice, all_stored, allocate_all
from narvet.formats.images.vmdk import packed, pieces
from narvet.formats.images.vmdk.descriptor import LARGEST, Descriptor, embedded, parse
from narvet.formats.images.vmdk.grains import GRAIN, Grains, layout, sparse_header, write_sparse
from narvet.formats.images.vmdk.records import COMPRESSED, ENTRIES, MAGIC, SECTOR, SparseHeader
from narvet.ground.checksums import crc32
from narvet.ground.errors import ImageError, UnsupportedError
from narvet.ground.units import GIB, KIB, align_up
from narvet.ground.values import replace

MOST = 2047 * GIB


class Vmdk:
    """The format behind `format = "vmdk"`."""

    name = "vmdk"
    most = MOST
    sectors = (SECTOR,)
    makes_children = True
    records_sector = True
    renews_link = True

    def fit(self, size: int, block: int | None = None) -> int:
        """Return the size in whole grains, as a capacity is one (Virtual Disk Format 5.0, "capacity")."""
        return align_up(size, block or GRAIN)

    def blocks(self) -> tuple[int, ...]:
        """Return the powers of two a grain can be."""
        return tuple(8 * KIB << shift for shift in range(8))

    def least_piece(self, size: int) -> int:
        """Return the smallest piece that keeps their number in bounds."""
        return pieces.least(size)

    def parts(self, files: Files, name: str) -> tuple[str, ...]:
        """Return the pieces that a descriptor names."""
        text = _pieces_text(files.open(name))
        return () if text is None else pieces.names_of(text)

    def own_parts(self, files: Files, name: str) -> tuple[str, ...]:
        """Return the same, once it is certain that each belongs to this image and to no other."""
        text = _pieces_text(files.open(name))
        return () if text is None else pieces.own_names(files, name, text)

    def footprint(self, image_spec: ImageSpec, data: int) -> int:
        """Return header, directories, the tables in use and the data; to pack, it is kept unpacked meanwhile."""
        if image_spec.packed:
            return 64 * KIB + data + data // 16
        grain = image_spec.block_size or GRAIN
        if image_spec.space == "full":
            return align_up(image_spec.size, grain) + (
                64 * KIB if image_spec.pieces else layout(image_spec.size, grain).over_head * SECTOR
            )
        tables = -(-image_spec.size // (grain * ENTRIES))
        apart = min(-(-image_spec.size // image_spec.pieces) + 1, pieces.MOST) * 64 * KIB if image_spec.pieces else 0
        return 64 * KIB + apart + 8 * tables + min(2 * tables, data // 256) * 4 * KIB + data

    @contextmanager
    def create(self, files: Files, name: str, image_spec: ImageSpec) -> Iterator[BlockDevice]:
        """Make an image; full gives every grain its place, and the file all of its bytes."""
        if image_spec.packed:
            with packed.packing(files, name, image_spec) as device:
                yield device
            return
        if image_spec.pieces is not None:
            with pieces.create(files, name, image_spec) as device:
                yield device
            return
        file = files.create(name)
        header = write_sparse(file, image_spec.size, image_spec.block_size or GRAIN, embedded(image_spec, name))
        grains = Grains(file, header, lambda: None)
        if image_spec.space == "full" and image_spec.base is None:
            allocate_all(grains, file, image_spec.size)
        yield MappedDevice(file, grains, image_spec.size, SECTOR)
        grains.flush()

    def probe(self, files: Files, name: str, *, writable: bool = False) -> Opened | None:
        """Open an image, one sparse file or a descriptor with its extents; None without either."""
        file = files.open(name, writable=writable)
        text = _descriptor(file)
        if text is None:
            return None
        header = sparse_header(file)
        if header is None:
            return _in_pieces(files, name, file, text, writable=writable)
        if writable and header.flags & COMPRESSED:
            where = files.shown(name)
            raise UnsupportedError(f"{where}: a packed VMDK is made for transport; recast it to write to it")
        renew = partial(_renew, file, *_place_of(file), text) if writable else None
        grains, size = Grains(file, header, renew), header.capacity * SECTOR
        facts = replace(
            _facts(files, text, size, full=all_stored(grains, size)),
            allocated=file.stored,
            block_size=grains.block,
            whole=not header.flags & COMPRESSED,
        )

        def device(sector_size: int, base: BlockDevice | None) -> BlockDevice:  # noqa: ARG001 (it is 512)
            return MappedDevice(file, grains, size, SECTOR, base)

        return Opened(facts, device, grains.flush)

    def enlarge(self, files: Files, name: str, size: int, *, full: bool = False, piece: int | None = None) -> None:
        """Make the disk larger: longer tables of grains, a larger last piece, or more pieces."""
        from narvet.formats.images.vmdk import enlarge

        file = files.open(name, writable=True)
        text = _descriptor(file)
        if text is None:
            raise ImageError("this is not a VMDK")
        if text.base is not None:
            raise UnsupportedError("a VMDK child is as large as its base; fold it, or recast it, to make it larger")
        _renew(file, *_place_of(file), text)
        if sparse_header(file) is None:
            enlarge.enlarge_pieces(files, name, text, size, full=full, piece=piece)
        else:
            enlarge.enlarge_sparse(file, size, full=full)


FORMAT = Vmdk()


def _place_of(file: File) -> tuple[int, int]:
    """Return where the descriptor lies in a file, and its room."""
    header = sparse_header(file)
    if header is None:
        return 0, file.size
    return header.descriptor_offset * SECTOR, min(header.descriptor_size * SECTOR, LARGEST)


def _in_pieces(files: Files, name: str, file: File, text: Descriptor, *, writable: bool) -> Opened:
    """Return an image that is kept in several files."""
    lines = pieces.usable(text)
    if writable:
        pieces.own_names(files, name, text)
    renew = partial(_renew, file, *_place_of(file), text) if writable else None
    size, full = sum(line.sectors for line in lines) * SECTOR, all(line.kind == "FLAT" for line in lines)
    stored = file.stored + sum(piece.stored for piece in in_order(files, pieces.names_of(text)))
    facts = replace(_facts(files, text, size, full=full), allocated=stored, whole=False)
    opened: list[BlockDevice] = []

    def device(sector_size: int, base: BlockDevice | None) -> BlockDevice:  # noqa: ARG001 (it is 512)
        opened.append(pieces.opened(files, name, text, renew, base))
        return opened[-1]

    def finish() -> None:
        for one in opened:
            one.flush()

    return Opened(facts, device, finish)


def _facts(files: Files, text: Descriptor, size: int, *, full: bool) -> ImageFacts:
    base = text.base
    if base == "" or (base and "\0" in base):
        raise ImageError("the VMDK is a child, but names no base")
    return ImageFacts(
        format="vmdk",
        space="full" if full and base is None else "thin",
        size=size,
        sector_size=SECTOR,
        allocated=0,
        link=text.cid,
        base=files.shown(base.replace("\\", "/")) if base else None,
        base_link=text.parent_cid if base else "",
        base_format="vmdk" if base else "",
    )


def _descriptor(file: File) -> Descriptor | None:
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


def _pieces_text(file: File) -> Descriptor | None:
    """Return the descriptor of an image in pieces, None for any other file."""
    text = _descriptor(file)
    return None if text is None or sparse_header(file) is not None else text


def _renew(file: File, start: int, room: int, text: Descriptor) -> None:
    """Give the image another CID before its content changes, so that its children notice."""
    data = file.read(start, room)
    old = f"CID={text.values.get('cid', '')}".encode()
    new = f"CID={crc32(text.cid.encode()):08x}".encode()
    place = data.find(b"\n" + old)
    if place >= 0 and len(old) == len(new):
        file.write(start + place + 1, new)
        file.flush()
