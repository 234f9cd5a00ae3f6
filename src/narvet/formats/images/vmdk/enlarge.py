"""A VMDK made larger, in files that are staged: so the order of writes does not matter.

A longer grain directory moves behind the grains, with the tables that are new; those that exist stay where they are.
"""

from __future__ import annotations

import re

import numpy as np

from narvet.block.files import File, Files
from narvet.formats.images.mapped import allocate_all
from narvet.formats.images.vmdk.descriptor import LARGEST, Descriptor, ExtentLine, geometry_of
from narvet.formats.images.vmdk.grains import Grains, sparse_header, write_sparse
from narvet.formats.images.vmdk.pieces import held_by, own_names, usable
from narvet.formats.images.vmdk.records import COMPRESSED, REDUNDANT, SECTOR, SparseHeader
from narvet.ground.errors import ImageError, UnsupportedError
from narvet.ground.units import align_up
from narvet.ground.values import replace


def enlarge_sparse(file: File, size: int, *, full: bool) -> None:
    """Make the disk of an image in one file `size` bytes large, with the descriptor in it."""
    header = _enlarge_extent(file, size, full=full)
    start, room = header.descriptor_offset * SECTOR, min(header.descriptor_size * SECTOR, LARGEST)
    lines = _lines(file.read(start, room))
    text = _with_size([_resized(line, size) for line in lines], size)
    if len(text) > room:
        raise UnsupportedError("the VMDK's descriptor has no room for a larger size; recast it")
    file.write(start, text.ljust(room, b"\0"))


def enlarge_pieces(files: Files, name: str, text: Descriptor, size: int, *, full: bool, piece: int | None) -> None:
    """Make the disk of an image in pieces `size` bytes large: the last piece first, then further ones.

    `piece` is the most bytes that a piece's file may have, None for what its largest one holds.
    """
    lines = list(usable(text))
    own_names(files, name, text)
    if any(line.kind != lines[0].kind or line.kind == "ZERO" or line.offset for line in lines):
        raise UnsupportedError("the pieces of the VMDK are of several kinds; recast it to make it larger")
    kind = lines[0].kind
    grain = _grain(files, lines[0]) if kind == "SPARSE" else SECTOR
    held = max(line.sectors for line in lines) * SECTOR
    if piece is not None:
        held = max(held_by(piece, kind, grain), grain)
    elif len(lines) == 1:
        held = size
    left = size - sum(line.sectors for line in lines) * SECTOR
    added = min(max(held - lines[-1].sectors * SECTOR, 0), left)
    if added:
        lines[-1] = _longer(files, lines[-1], lines[-1].sectors * SECTOR + added, full=full)
        left -= added
    while left:
        part = min(held, left)
        lines.append(_new(files, lines[-1], part, grain, full=full))
        left -= part
    file = files.open(name, writable=True)
    content = _with_extents(_lines(file.read(0, file.size)), lines, size)
    if len(content) > LARGEST:
        raise UnsupportedError("the VMDK would have more pieces than its descriptor can name; recast it")
    file.resize(len(content))
    file.write(0, content)


def _enlarge_extent(file: File, size: int, *, full: bool) -> SparseHeader:
    """Make a sparse file hold `size` bytes of the disk; return its header."""
    header = sparse_header(file)
    if header is None or header.flags & COMPRESSED:
        raise UnsupportedError("a packed VMDK is made for transport; recast it to make it larger")
    old_grains, per_table = -(-header.capacity // header.grain_size), header.num_gtes_per_gt
    grain = header.grain_size * SECTOR
    old_tables, tables = -(-old_grains // per_table), -(-size // (grain * per_table))
    table_sectors = -(-4 * per_table // SECTOR)
    if tables > old_tables:
        directories = []
        for offset in (header.rgd_offset if header.flags & REDUNDANT else 0, header.gd_offset):
            if not offset:
                directories.append(0)
                continue
            old = np.frombuffer(file.read(offset * SECTOR, 4 * old_tables), dtype="<u4")
            place = align_up(file.size, SECTOR) // SECTOR
            first = place + align_up(4 * tables, SECTOR) // SECTOR
            new = first + np.arange(tables - old_tables, dtype=np.int64) * table_sectors
            if int(first + len(new) * table_sectors) >= 1 << 32:
                raise UnsupportedError("the VMDK's file would be larger than its tables can address")
            file.resize((first + len(new) * table_sectors) * SECTOR)
            file.write(place * SECTOR, np.concatenate([old, new.astype("<u4")]).tobytes())
            directories.append(place)
        header = replace(header, rgd_offset=directories[0], gd_offset=directories[1])
        file.resize(align_up(file.size, grain))
    header = replace(header, capacity=size // SECTOR)
    file.write(0, header.encode())
    if full:
        grains = Grains(file, header, lambda: None)
        allocate_all(grains, file, size, old_grains)
    return header


def _grain(files: Files, line: ExtentLine) -> int:
    header = sparse_header(files.open(str(line.file)))
    if header is None:
        raise ImageError(f"{line.file}: it is not the sparse piece that its descriptor says")
    return header.grain_size * SECTOR


def _longer(files: Files, line: ExtentLine, size: int, *, full: bool) -> ExtentLine:
    file = files.open(str(line.file), writable=True)
    if line.kind == "SPARSE":
        _enlarge_extent(file, size, full=full)
    else:
        _lengthen(file, size, full=full)
    return replace(line, sectors=size // SECTOR)


def _new(files: Files, last: ExtentLine, size: int, grain: int, *, full: bool) -> ExtentLine:
    """Return a piece that follows the last one, made."""
    name = re.sub(r"-([sf]?)(\d+|flat)(?=\.vmdk$)", _next_number, str(last.file), flags=re.IGNORECASE)
    if name == last.file:
        raise UnsupportedError(f"{last.file}: the name of the piece that follows it is not known; recast the image")
    file = files.create(name)
    if last.kind == "SPARSE":
        header = write_sparse(file, size, grain)
        if full:
            allocate_all(Grains(file, header, lambda: None), file, size)
    else:
        _lengthen(file, size, full=full)
    return ExtentLine(size // SECTOR, last.kind, name, 0)


def _lengthen(file: File, size: int, *, full: bool) -> None:
    if full:
        file.allocate(size)
    else:
        file.resize(size)


def _next_number(found: re.Match[str]) -> str:
    kind, number = found[1], found[2]
    if not number.isdigit():
        return "-2"
    return f"-{kind}{int(number) + 1:0{len(number)}}"


def _lines(data: bytes) -> list[str]:
    return data.split(b"\0")[0].decode("utf-8", "surrogateescape").splitlines()


def _resized(line: str, size: int) -> str:
    """Return a descriptor's line, with another size if it is that of the one extent."""
    return re.sub(r"^(\s*(?:RW|RDONLY|NOACCESS)\s+)\d+(\s)", rf"\g<1>{size // SECTOR}\g<2>", line)


def _with_extents(lines: list[str], extents: list[ExtentLine], size: int) -> bytes:
    """Return a descriptor with these extents in the place of those it has."""
    is_extent = [re.match(r"\s*(?:RW|RDONLY|NOACCESS)\s+\d", line) is not None for line in lines]
    first = is_extent.index(True)
    named = [
        f'RW {one.sectors} {one.kind} "{one.file}"' + (f" {one.offset}" if one.kind == "FLAT" else "")
        for one in extents
    ]
    kept = [line for line, gone in zip(lines, is_extent, strict=True) if not gone]
    kept[first:first] = named
    if len(extents) > 1:
        kept = [line.replace("monolithicFlat", "twoGbMaxExtentFlat") for line in kept]
    return _with_size(kept, size)


def _with_size(lines: list[str], size: int) -> bytes:
    """Return a descriptor whose geometry, where it is there, is that of a disk of `size` bytes."""
    for key, value in geometry_of(size).items():
        lines = [
            re.sub(rf"^(\s*ddb\.geometry\.{key}\s*=\s*\"?)\d+", rf"\g<1>{value}", line, flags=re.IGNORECASE)
            for line in lines
        ]
    return ("\n".join(lines) + "\n").encode("utf-8", "surrogateescape")
