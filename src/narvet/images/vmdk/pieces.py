"""A VMDK in pieces: a descriptor of its own, and sparse or flat files beside it, none larger than asked."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

from narvet.block.contract import BlockDevice, Extent
from narvet.block.file import FileDevice
from narvet.block.linear import Linear
from narvet.block.window import Window
from narvet.block.zeros import Zeros
from narvet.errors import ImageError, UnsupportedError
from narvet.images.contract import Making
from narvet.images.files import allocated, existing, many_files, new_file
from narvet.images.mapped import Layered, MappedDevice
from narvet.images.vmdk.descriptor import LARGEST, Descriptor, ExtentLine, text_of
from narvet.images.vmdk.grains import GRAIN, Grains, layout, sparse_header, write_sparse
from narvet.images.vmdk.records import SECTOR
from narvet.units import MIB, align_down, align_up

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
            own = part.own_extents() if isinstance(part, Layered) else ((Extent(0, part.size), False),)
            for extent, zeros in own:
                yield Extent(start + extent.start, extent.length), zeros
            start += part.size


def least(size: int) -> int:
    """Return the smallest piece for a disk of `size` bytes: they are not to be too many."""
    return max(align_up(size // MOST + size // (MOST * 4096), MIB) + MIB, 2 * MIB)


def _held(making: Making) -> int:
    """Return the most bytes of the disk that fit in a piece; a sparse one has its tables as well."""
    piece, grain = making.pieces or 0, making.block or GRAIN
    if making.space == "full":
        return align_down(piece, GRAIN)
    held = align_down(piece, grain)
    while held > 0 and layout(held, grain, apart=True).over_head * SECTOR + held > piece:
        held -= align_up(layout(held, grain, apart=True).over_head * SECTOR + held - piece, grain)
    if held <= 0:
        raise UnsupportedError(f"pieces of {piece} bytes cannot hold grains of {grain}; ask for larger pieces")
    return held


@contextmanager
def create(path: Path, making: Making) -> Iterator[BlockDevice]:
    """Make an image in pieces, side by side; the descriptor that names them is written first."""
    held = _held(making)
    sizes = [min(held, making.size - start) for start in range(0, making.size, held)]
    stem, kind = path.stem, "FLAT" if making.space == "full" else "SPARSE"
    lines = [
        ExtentLine(size // SECTOR, kind, f"{stem}-{number:0{len(str(len(sizes)))}}.vmdk", 0)
        for number, size in enumerate(sizes, 1)
    ]
    name = "monolithicFlat" if kind == "FLAT" and len(lines) == 1 else f"twoGbMaxExtent{kind.capitalize()}"
    text = text_of(making, name, lines)
    if len(text) > LARGEST:
        raise UnsupportedError("the names of so many pieces are too long for a VMDK's descriptor; ask for larger ones")
    many_files(len(lines))
    with new_file(path) as file, ExitStack() as stack:
        file.resize(len(text))
        file.write(0, text)
        file.flush()
        parts = [_new_piece(stack, path.parent / str(line.file), line, making) for line in lines]
        device = Pieces(parts, lambda: None)
        yield device
        device.flush()


def _new_piece(stack: ExitStack, place: Path, line: ExtentLine, making: Making) -> BlockDevice:
    file = stack.enter_context(new_file(place))
    size = line.sectors * SECTOR
    if line.kind == "FLAT":
        allocated(file, size)
        return file
    return MappedDevice(file, Grains(file, write_sparse(file, size, making.block or GRAIN), lambda: None), size, SECTOR)


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


def files(path: Path, text: Descriptor) -> tuple[Path, ...]:
    """Return the files that a descriptor names."""
    return tuple(path.parent / line.file for line in usable(text) if line.file)


def own_files(path: Path, text: Descriptor) -> tuple[Path, ...]:
    """Return the files that a descriptor names, once it is certain that each is this image's and nothing else's.

    Its name must be made from the image's, its content must be what the descriptor says, and no other descriptor in the
    folder may name it: a descriptor from elsewhere could name any file.

    Raises:
        ImageError: it is not certain.
    """
    pattern = re.compile(re.escape(path.stem) + r"-(?:flat|[sf]?\d{1,6})\.vmdk", re.IGNORECASE)
    for line in usable(text):
        if not line.file:
            continue
        part = path.parent / line.file
        if not pattern.fullmatch(line.file):
            raise ImageError(f"{part}: {path} names it as a piece, but it may be another disk's; move one of them away")
        if part.is_symlink() or (part.exists() and not _is_piece(part, line)):
            raise ImageError(f"{part}: {path} names it as a piece, but it is something else; move one of them away")
    _refuse_shared(path, {line.file for line in text.extents if line.file})
    return files(path, text)


def _is_piece(part: Path, line: ExtentLine) -> bool:
    with existing(part) as file:
        header = sparse_header(file)
        if line.kind == "FLAT":
            return header is None and file.size >= line.offset * SECTOR + line.sectors * SECTOR
        return header is not None and not header.descriptor_offset and header.capacity >= line.sectors


def _refuse_shared(path: Path, names: set[str]) -> None:
    """Raise ImageError if another descriptor in the folder names one of the pieces."""
    for other in sorted(path.parent.glob("*.vmdk")):
        if other.name in names or other.name == path.name or not other.is_file() or other.stat().st_size > LARGEST:
            continue
        text = other.read_bytes().decode("utf-8", "surrogateescape")
        shared = next((name for name in sorted(names) if f'"{name}"' in text), None)
        if shared is not None:
            raise ImageError(
                f"{path.parent / shared}: both {path} and {other} name it as a piece; move one of them away"
            )


@contextmanager
def opened(
    path: Path, text: Descriptor, renew: Callable[[], None] | None, base: BlockDevice | None
) -> Iterator[BlockDevice]:
    """Open an image in pieces over its base; `renew` is called before the first change, None if it is only read."""
    lines, parts, start = usable(text), [], 0
    many_files(len(lines))
    with ExitStack() as stack:
        for line in lines:
            size = line.sectors * SECTOR
            below = Window(base, start, min(size, base.size - start)) if base and start < base.size else None
            parts.append(_piece(stack, path, line, below, writable=renew is not None))
            start += size
        device = Pieces(parts, _once(renew))
        yield device
        if renew is not None:
            device.flush()


def _once(call: Callable[[], None] | None) -> Callable[[], None]:
    left = [call] if call else []
    return lambda: left.pop()() if left else None


def _piece(stack: ExitStack, path: Path, line: ExtentLine, base: BlockDevice | None, *, writable: bool) -> BlockDevice:
    size = line.sectors * SECTOR
    if line.file is None or line.kind == "ZERO":
        if writable:
            raise UnsupportedError(f"{path}: a piece of nothing but zeros cannot be written to; recast the image")
        return Zeros(size)
    place = path.parent / line.file
    if not place.is_file():
        raise ImageError(f"{path}: its piece {place} is missing; put it back there")
    file = stack.enter_context(existing(place, writable=writable))
    return Window(file, line.offset * SECTOR, size) if line.kind == "FLAT" else _sparse(file, path, place, line, base)


def _sparse(file: FileDevice, path: Path, place: Path, line: ExtentLine, base: BlockDevice | None) -> BlockDevice:
    header = sparse_header(file)
    if header is None or header.capacity < line.sectors:
        raise ImageError(f"{place}: it is not the sparse piece of {line.sectors} sectors that {path} describes")
    return MappedDevice(file, Grains(file, header, lambda: None), line.sectors * SECTOR, SECTOR, base)
