"""A VMDK in pieces: a descriptor of its own, and sparse or flat files beside it, none larger than asked."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from narvet.block.contract import BlockDevice
from narvet.block.files import File, Files
from narvet.block.linear import Linear
from narvet.block.window import Window
from narvet.block.zeros import Zeros
from narvet.formats.images.contract import ImageSpec
from narvet.formats.images.mapped import Layered, MappedDevice
from narvet.formats.images.vmdk.descriptor import LARGEST, Descriptor, ExtentLine, text_of
from narvet.formats.images.vmdk.grains import GRAIN, Grains, layout, sparse_header, write_sparse
from narvet.formats.images.vmdk.records import SECTOR
from narvet.ground.errors import ImageError, UnsupportedError
from narvet.ground.extents import Extent
from narvet.ground.offers import offers
from narvet.ground.units import MIB, align_down, align_up

MOST = 1024  # pieces that are made; each is an open file, and a line of the descriptor
_MOST_READ = 4096


class Pieces(Linear):
    """The pieces of a disk in a row; `touch` is called before every change."""

    def __init__(self, parts: list[BlockDevice], touch: Callable[[], None]) -> None:
        super().__init__(parts, SECTOR)
        self._touch = touch

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Write all of `data` at `offset`."""
        self._touch()
        super().write(offset, data)

    def zero(self, offset: int, length: int) -> None:
        """Make a range read as zeros."""
        self._touch()
        super().zero(offset, length)

    def own_extents(self) -> Iterator[tuple[Extent, bool]]:
        """Yield the runs that the image itself decides, and whether they read as zeros."""
        start = 0
        for part in self._parts:
            own = part.own_extents() if offers(part, Layered) else ((Extent(0, part.size), False),)
            for extent, zeros in own:
                yield Extent(start + extent.start, extent.length), zeros
            start += part.size


def least(size: int) -> int:
    """Return the smallest piece for a disk of `size` bytes: they are not to be too many."""
    return max(align_up(size // MOST + size // (MOST * 4096), MIB) + MIB, 2 * MIB)


def held_by(piece: int, kind: str, grain: int) -> int:
    """Return the most bytes of the disk that fit in a piece of `piece` bytes; a sparse one has its tables as well."""
    if kind == "FLAT":
        return align_down(piece, GRAIN)
    held = align_down(piece, grain)
    while held > 0 and layout(held, grain, apart=True).over_head * SECTOR + held > piece:
        held -= align_up(layout(held, grain, apart=True).over_head * SECTOR + held - piece, grain)
    if held <= 0:
        raise UnsupportedError(f"pieces of {piece} bytes cannot hold grains of {grain}; ask for larger pieces")
    return held


@contextmanager
def create(files: Files, name: str, image_spec: ImageSpec) -> Iterator[BlockDevice]:
    """Make an image in pieces, side by side; the descriptor that names them is written first."""
    stem, kind = _stem(name), "FLAT" if image_spec.space == "full" else "SPARSE"
    held = held_by(image_spec.pieces or 0, kind, image_spec.block_size or GRAIN)
    sizes = [min(held, image_spec.size - start) for start in range(0, image_spec.size, held)]
    lines = [
        ExtentLine(size // SECTOR, kind, f"{stem}-{number:0{len(str(len(sizes)))}}.vmdk", 0)
        for number, size in enumerate(sizes, 1)
    ]
    form = "monolithicFlat" if kind == "FLAT" and len(lines) == 1 else f"twoGbMaxExtent{kind.capitalize()}"
    text = text_of(image_spec, form, lines)
    if len(text) > LARGEST:
        raise UnsupportedError("the names of the pieces are too long for a VMDK's descriptor; ask for larger pieces")
    file = files.create(name)
    file.resize(len(text))
    file.write(0, text)
    file.flush()
    device = Pieces([_new_piece(files.create(str(line.file)), line, image_spec) for line in lines], lambda: None)
    yield device
    device.flush()


def _stem(name: str) -> str:
    return name.rpartition(".")[0] or name


def _new_piece(file: File, line: ExtentLine, image_spec: ImageSpec) -> BlockDevice:
    size = line.sectors * SECTOR
    if line.kind == "FLAT":
        file.allocate(size)
        return file
    grains = Grains(file, write_sparse(file, size, image_spec.block_size or GRAIN), lambda: None)
    return MappedDevice(file, grains, size, SECTOR)


def usable(text: Descriptor) -> tuple[ExtentLine, ...]:
    """Return the extents of a descriptor that is not trusted, once each of them is known to be usable."""
    if not text.extents or len(text.extents) > _MOST_READ:
        raise ImageError(f"the VMDK's descriptor names {len(text.extents)} extents, 1 to {_MOST_READ} expected")
    for line in text.extents:
        if line.kind not in ("SPARSE", "FLAT", "ZERO") or (line.kind != "ZERO" and not line.file):
            raise UnsupportedError(f"the VMDK has an extent of kind {line.kind}, which cannot be read yet")
        if line.file and ("/" in line.file or "\\" in line.file or "\0" in line.file):
            raise ImageError(f"the VMDK's extent {line.file} does not lie beside its descriptor")
    return text.extents


def names_of(text: Descriptor) -> tuple[str, ...]:
    """Return the names of the files that a descriptor names."""
    return tuple(line.file for line in usable(text) if line.file)


def own_names(files: Files, name: str, text: Descriptor) -> tuple[str, ...]:
    """Return the names that a descriptor names, once it is certain that each is this image's and nothing else's.

    Its name must be made from the image's, its content must be what the descriptor says, and no other descriptor in the
    folder may name it: a descriptor from elsewhere could name any file.

    Raises:
        ImageError: it is not certain.
    """
    pattern = re.compile(re.escape(_stem(name)) + r"-(?:flat|[sf]?\d{1,6})\.vmdk", re.IGNORECASE)
    for line in usable(text):
        if not line.file:
            continue
        part, image = files.shown(line.file), files.shown(name)
        if not pattern.fullmatch(line.file):
            raise ImageError(
                f"{part}: {image} names it as a piece, but it may be another disk's; move one of them away"
            )
        kind = files.kind(line.file)
        if kind not in ("file", "missing") or (kind == "file" and not _is_piece(files.open(line.file), line)):
            raise ImageError(f"{part}: {image} names it as a piece, but it is something else; move one of them away")
    _refuse_shared(files, name, set(names_of(text)))
    return names_of(text)


def _is_piece(file: File, line: ExtentLine) -> bool:
    header = sparse_header(file)
    if line.kind == "FLAT":
        return header is None and file.size >= line.offset * SECTOR + line.sectors * SECTOR
    return header is not None and not header.descriptor_offset and header.capacity >= line.sectors


def _refuse_shared(files: Files, name: str, names: set[str]) -> None:
    """Raise ImageError if another descriptor in the folder names one of the pieces."""
    for other in files.names():
        if other in names or other == name or not other.endswith(".vmdk") or files.kind(other) != "file":
            continue
        file = files.open(other)
        if file.size > LARGEST:
            continue
        text = file.read(0, file.size).decode("utf-8", "surrogateescape")
        shared = next((one for one in sorted(names) if f'"{one}"' in text), None)
        if shared is not None:
            both = f"both {files.shown(name)} and {files.shown(other)}"
            raise ImageError(f"{files.shown(shared)}: {both} name it as a piece; move one of them away")


def opened(
    files: Files, name: str, text: Descriptor, renew: Callable[[], None] | None, base: BlockDevice | None
) -> BlockDevice:
    """Return the disk of an image in pieces over its base; `renew` is called before the first change.

    It is None for an image that is only read.
    """
    parts: list[BlockDevice] = []
    start = 0
    for line in usable(text):
        size = line.sectors * SECTOR
        below = Window(base, start, min(size, base.size - start)) if base and start < base.size else None
        parts.append(_piece(files, name, line, below, writable=renew is not None))
        start += size
    return Pieces(parts, _once(renew))


def _once(call: Callable[[], None] | None) -> Callable[[], None]:
    left = [call] if call else []
    return lambda: left.pop()() if left else None


def _piece(files: Files, name: str, line: ExtentLine, base: BlockDevice | None, *, writable: bool) -> BlockDevice:
    size, image = line.sectors * SECTOR, files.shown(name)
    if line.file is None or line.kind == "ZERO":
        if writable:
            raise UnsupportedError(f"{image}: a piece of nothing but zeros cannot be written to; recast the image")
        return Zeros(size)
    part = files.shown(line.file)
    if files.kind(line.file) in ("missing", "folder", "other"):
        raise ImageError(f"{image}: its piece {part} is missing; put it back there")
    file = files.open(line.file, writable=writable)
    if line.kind == "FLAT":
        return Window(file, line.offset * SECTOR, size)
    header = sparse_header(file)
    if header is None or header.capacity < line.sectors:
        raise ImageError(f"{part}: it is not the sparse piece of {line.sectors} sectors that {image} describes")
    return MappedDevice(file, Grains(file, header, lambda: None), size, SECTOR, base)
