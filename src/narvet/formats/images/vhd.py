"""VHD, by the Virtual Hard Disk Image Format Specification, version 1.0: fixed, dynamic and child images.

Big-endian. Sectors are 512 bytes and disks at most 2040 GiB. Readers differ over whether the geometry or the byte size
counts, so sizes are chosen for which both agree. Blocks are placed so that their data, behind the sector bitmap, lie on
4096-byte boundaries of the file. Not made here: blocks of other sizes than powers of two.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import PurePosixPath
from uuid import UUID

import numpy as np

from narvet.block.contract import BlockDevice
from narvet.block.files import File, Files
from narvet.block.window import Window
from narvet.formats.images.contract import ImageFacts, ImageSpec, Opened, Space
from narvet.formats.images.mapped import Kind, MappedDevice, Run, same_run
from narvet.formats.images.pages import Pages
from narvet.ground.errors import ImageError
from narvet.ground.records import Record, raw, u8, u16, u32, u64, uuid
from narvet.ground.units import GIB, KIB, MIB, align_up

SECTOR = 512
FIXED, DYNAMIC, CHILD = 2, 3, 4
UNUSED = 0xFFFFFFFF
MOST = 2040 * GIB
BLOCK = 2 * MIB

_COOKIE, _HEADER_COOKIE = b"conectix", b"cxsparse"
_VERSION = 0x00010000
_NOWHERE = 0xFFFFFFFFFFFFFFFF
_EPOCH = 946684800  # 2000-01-01, where its seconds start
_MOST_CYLINDERS, _MOST_HEADS, _MOST_SPT = 65535, 16, 255
_RELATIVE, _ABSOLUTE = b"W2ru", b"W2ku"
_TABLE = 1536
_LONGEST_LOCATOR = 64 * KIB  # a path of thirty thousand characters; more is damage


class Footer(Record, title="vhd footer", size=512, endian=">"):
    """Section "Hard Disk Footer Format"."""

    cookie: bytes = raw(0, 8, "", "'conectix'")
    features: int = u32(8, "", "2, always set")
    file_format_version: int = u32(12, "", "1.0")
    data_offset: int = u64(16, "bytes", "where the dynamic header lies")
    time_stamp: int = u32(24, "seconds", "since 2000")
    creator_application: bytes = raw(28, 4, "", "who made it")
    creator_version: int = u32(32, "", "which version of that")
    creator_host_os: bytes = raw(36, 4, "", "on which system")
    original_size: int = u64(40, "bytes", "disk size when made")
    current_size: int = u64(48, "bytes", "disk size")
    cylinders: int = u16(56, "", "disk geometry")
    heads: int = u8(58, "", "disk geometry")
    sectors_per_track: int = u8(59, "", "disk geometry")
    disk_type: int = u32(60, "", "2 fixed, 3 dynamic, 4 differencing")
    checksum: int = u32(64, "", "one's complement of the sum of all other bytes")
    unique_id: UUID = uuid(68, "", "id of the image")
    saved_state: int = u8(84, "", "zero")
    reserved: bytes = raw(85, 427, "", "zero")


class DynamicHeader(Record, title="vhd dynamic header", size=1024, endian=">"):
    """Section "Dynamic Disk Header Format"."""

    cookie: bytes = raw(0, 8, "", "'cxsparse'")
    data_offset: int = u64(8, "", "all ones")
    table_offset: int = u64(16, "bytes", "where the block allocation table lies")
    header_version: int = u32(24, "", "1.0")
    max_table_entries: int = u32(28, "blocks", "entries of the table")
    block_size: int = u32(32, "bytes", "data of a block")
    checksum: int = u32(36, "", "as the footer's")
    parent_unique_id: UUID = uuid(40, "", "id of the base")
    parent_time_stamp: int = u32(56, "seconds", "when the base was changed")
    reserved: int = u32(60, "", "zero")
    parent_unicode_name: bytes = raw(64, 512, "", "name of the base, UTF-16, big-endian")
    parent_locators: bytes = raw(576, 192, "", "eight locators")
    reserved_end: bytes = raw(768, 256, "", "zero")


class Locator(Record, title="vhd parent locator", size=24, endian=">"):
    """Section "Dynamic Disk Header Format", parent locator entry."""

    platform_code: bytes = raw(0, 4, "", "W2ru relative, W2ku absolute path in UTF-16, little-endian")
    platform_data_space: int = u32(4, "bytes", "kept for it")
    platform_data_length: int = u32(8, "bytes", "used of them")
    reserved: int = u32(12, "", "zero")
    platform_data_offset: int = u64(16, "bytes", "where it lies")


def geometry(sectors: int) -> tuple[int, int, int]:
    """Return cylinders, heads and sectors per track for a disk (appendix "CHS Calculation")."""
    sectors = min(sectors, _MOST_CYLINDERS * _MOST_HEADS * _MOST_SPT)
    if sectors >= _MOST_CYLINDERS * _MOST_HEADS * 63:
        return sectors // _MOST_SPT // _MOST_HEADS, _MOST_HEADS, _MOST_SPT
    per_track, tracks = 17, sectors // 17
    heads = max((tracks + 1023) // 1024, 4)
    if tracks >= heads * 1024 or heads > _MOST_HEADS:
        per_track, heads, tracks = 31, 16, sectors // 31
    if tracks >= heads * 1024:
        per_track, heads, tracks = 63, 16, sectors // 63
    return tracks // heads, heads, per_track


def agreed_size(size: int) -> int:
    """Return the smallest size from `size` on whose geometry names every sector, or is at its limit."""
    sectors = -(-size // SECTOR)
    while sectors < _MOST_CYLINDERS * _MOST_HEADS * _MOST_SPT:
        cylinders, heads, per_track = geometry(sectors)
        named = cylinders * heads * per_track
        if named == sectors:
            break
        sectors = (cylinders + 1) * heads * per_track
    return sectors * SECTOR


def _summed(record: Footer | DynamicHeader) -> int:
    return ~sum(replace(record, checksum=0).encode()) & 0xFFFFFFFF


class Vhd:
    """The format behind `format = "vhd"`."""

    name = "vhd"
    most = MOST
    sectors = (SECTOR,)
    makes_children = True
    records_sector = True
    renews_link = False

    def fit(self, size: int, block: int | None = None) -> int:  # noqa: ARG002 (blocks need not be whole)
        """Return the smallest size all readers agree on."""
        return agreed_size(size)

    def blocks(self) -> tuple[int, ...]:
        """Return the two block sizes in use."""
        return (512 * KIB, BLOCK)

    def footprint(self, image_spec: ImageSpec, data: int) -> int:
        """Return footer, header, table, bitmaps and data."""
        if image_spec.space == "full":
            return image_spec.size + SECTOR
        blocks = -(-image_spec.size // (image_spec.block_size or BLOCK))
        return _TABLE + 4 * blocks + min(blocks, data // SECTOR) * 4 * KIB + data + 8 * KIB

    @contextmanager
    def create(self, files: Files, name: str, image_spec: ImageSpec) -> Iterator[BlockDevice]:
        """Make a fixed image (full), or a dynamic one (thin), or a child."""
        footer, file = _footer(image_spec), files.create(name)
        if image_spec.space == "full" and image_spec.base is None:
            file.allocate(image_spec.size + SECTOR)
            file.write(image_spec.size, footer.encode())
            yield Window(file, 0, image_spec.size)
            return
        header, locators = _header(image_spec, image_spec.block_size or BLOCK)
        file.resize(align_up(_TABLE + 4 * header.max_table_entries, SECTOR))
        file.write(0, footer.encode())
        file.write(SECTOR, header.encode())
        file.write(_TABLE, b"\xff" * (file.size - _TABLE))
        for offset, content in locators:
            file.resize(max(file.size, align_up(offset + len(content), SECTOR)))
            file.write(offset, content)
        blocks = _Blocks(file, footer, header, has_base=image_spec.base is not None)
        yield MappedDevice(file, blocks, image_spec.size, SECTOR)
        blocks.flush()

    def probe(self, files: Files, name: str, *, writable: bool = False) -> Opened | None:
        """Open an image; None without a sound footer at its end or its start."""
        file = files.open(name, writable=writable)
        footer = _read_footer(file)
        if footer is None:
            return None
        if footer.disk_type == FIXED:
            return Opened(_fixed_facts(file, footer), lambda _, __: Window(file, 0, footer.current_size))
        header, finishing = _read_header(file, footer), list[_Blocks]()

        def device(sector_size: int, base: BlockDevice | None) -> BlockDevice:  # noqa: ARG001 (it is recorded)
            blocks = _Blocks(file, footer, header, has_base=base is not None)
            finishing.append(blocks)
            return MappedDevice(file, blocks, footer.current_size, SECTOR, base)

        def finish() -> None:
            for blocks in finishing:
                blocks.flush()

        return Opened(_facts(files, file, footer, header), device, finish)


FORMAT = Vhd()


def _fixed_facts(file: File, footer: Footer) -> ImageFacts:
    space: Space = "full" if file.stored >= footer.current_size else "thin"
    native_id = footer.unique_id
    return ImageFacts("vhd", space, footer.current_size, SECTOR, file.stored, id=native_id, link=str(native_id))


def _facts(files: Files, file: File, footer: Footer, header: DynamicHeader) -> ImageFacts:
    base = _base_path(file, header, files) if footer.disk_type == CHILD else None
    return ImageFacts(
        format="vhd",
        space="thin",
        size=footer.current_size,
        sector_size=SECTOR,
        allocated=file.stored,
        block_size=header.block_size,
        id=footer.unique_id,
        link=str(footer.unique_id),
        base=base,
        base_link=str(header.parent_unique_id) if base else "",
        base_format="vhd" if base else "",
    )


def _footer(image_spec: ImageSpec) -> Footer:
    cylinders, heads, per_track = geometry(image_spec.size // SECTOR)
    fixed = image_spec.space == "full" and image_spec.base is None
    footer = Footer(
        cookie=_COOKIE,
        features=2,
        file_format_version=_VERSION,
        data_offset=_NOWHERE if fixed else SECTOR,
        time_stamp=max(image_spec.made - _EPOCH, 0) & 0xFFFFFFFF,
        creator_application=b"nrvt",
        creator_version=_VERSION,
        creator_host_os=b"Wi2k",
        original_size=image_spec.size,
        current_size=image_spec.size,
        cylinders=cylinders,
        heads=heads,
        sectors_per_track=per_track,
        disk_type=FIXED if fixed else CHILD if image_spec.base else DYNAMIC,
        unique_id=image_spec.id,
    )
    return replace(footer, checksum=_summed(footer))


def _header(image_spec: ImageSpec, block: int) -> tuple[DynamicHeader, list[tuple[int, bytes]]]:
    """Return the dynamic header, and where which content of its parent locators goes."""
    entries = -(-image_spec.size // block)
    header = DynamicHeader(
        cookie=_HEADER_COOKIE,
        data_offset=_NOWHERE,
        table_offset=_TABLE,
        header_version=_VERSION,
        max_table_entries=entries,
        block_size=block,
    )
    content: list[tuple[int, bytes]] = []
    if image_spec.base:
        rows, offset = b"", align_up(_TABLE + 4 * entries, SECTOR)
        for code, path in ((_RELATIVE, _windows(image_spec.base.relative)), (_ABSOLUTE, image_spec.base.absolute)):
            text = path.encode("utf-16-le")
            space = align_up(len(text), SECTOR)
            rows += Locator(
                platform_code=code, platform_data_space=space, platform_data_length=len(text), reserved=0,
                platform_data_offset=offset,
            ).encode()  # fmt: skip
            content.append((offset, text.ljust(space, b"\0")))
            offset += space
        header = replace(
            header,
            parent_unique_id=UUID(image_spec.base.link),
            parent_time_stamp=max(image_spec.base.made - _EPOCH, 0) & 0xFFFFFFFF,
            parent_unicode_name=PurePosixPath(image_spec.base.relative).name.encode("utf-16-be")[:510],
            parent_locators=rows,
        )
    return replace(header, checksum=_summed(header)), content


def _windows(path: str) -> str:
    """Return a relative path as the locator's platform writes it."""
    text = path.replace("/", "\\")
    return text if text.startswith("..\\") else ".\\" + text


def _read_footer(file: File) -> Footer | None:
    """Return the footer at the end, or its copy at the start where the end was lost, if either is sound."""
    for offset in (file.size - SECTOR, 0):
        if offset < 0 or file.size < SECTOR:
            continue
        footer = Footer.decode(file.read(offset, SECTOR))
        if footer.cookie != _COOKIE or _summed(footer) != footer.checksum:
            continue
        if footer.disk_type == FIXED:
            if offset and footer.current_size <= offset:
                return footer
        elif footer.disk_type in (DYNAMIC, CHILD) and footer.current_size <= MOST:
            return footer
    return None


def _read_header(file: File, footer: Footer) -> DynamicHeader:
    header = DynamicHeader.decode(file.read(footer.data_offset, DynamicHeader.size))
    if header.cookie != _HEADER_COOKIE or _summed(header) != header.checksum:
        raise ImageError(f"the VHD's dynamic header at {footer.data_offset} is not sound")
    block = header.block_size
    if not 4 * KIB <= block <= 256 * MIB or block & (block - 1):
        raise ImageError(f"the VHD's blocks are {block} bytes, a power of two from 4096 to {256 * MIB} expected")
    if header.max_table_entries * block < footer.current_size:
        raise ImageError(f"the VHD's table of {header.max_table_entries} blocks is too short for its disk")
    if header.table_offset % SECTOR or header.table_offset + 4 * header.max_table_entries > file.size:
        raise ImageError(f"the VHD's table at {header.table_offset} does not lie in the file")
    return header


def _base_path(file: File, header: DynamicHeader, files: Files) -> str:
    """Return the base's path by the first locator that names an existing file, else by the first readable one."""
    paths = []
    for start in range(0, len(header.parent_locators), Locator.size):
        locator = Locator.decode(header.parent_locators[start : start + Locator.size])
        if locator.platform_code in (_RELATIVE, _ABSOLUTE) and locator.platform_data_length <= _LONGEST_LOCATOR:
            text = file.read(locator.platform_data_offset, locator.platform_data_length).decode("utf-16-le", "replace")
            paths.append(text.replace("\\", "/") if locator.platform_code == _RELATIVE else text)
    if not paths:
        paths = [header.parent_unicode_name.decode("utf-16-be", "replace").split("\0")[0]]
    found = [text for text in paths if "\0" not in text]
    if not found:
        raise ImageError("the VHD is a child, but names no base")
    return files.shown(next((text for text in found if files.kind(text) != "missing"), found[0]))


def _bitmap_size(block: int) -> int:
    return align_up(block // SECTOR // 8, SECTOR)


class _Blocks:
    """Where the blocks of a dynamic image or a child lie: the table of blocks, and the bitmap before each."""

    def __init__(self, file: File, footer: Footer, header: DynamicHeader, *, has_base: bool) -> None:
        self._file = file
        self._footer = footer
        self._table = header.table_offset
        self._entries = header.max_table_entries
        self._pages = Pages(file, ">u4", SECTOR)
        self._has_base = has_base
        self._end = file.size  # a footer that lies there is overwritten, its copy at the start serves until `flush`
        if file.size >= SECTOR and file.read(file.size - SECTOR, 8) == _COOKIE:
            self._end -= SECTOR
        self._changed = file.size == self._end
        self._made_whole: dict[int, int] = {}  # blocks that were partial, and where their bitmaps lie
        self.block = header.block_size
        self._bitmap = _bitmap_size(self.block)
        self._all = b"\xff" * (self.block // SECTOR // 8)

    def run(self, index: int, most: int) -> Run:
        """Return unused blocks in a row, or one that is stored."""
        entries = self._pages.run(self._table + 4 * index, min(most, self._entries - index))
        if entries[0] == UNUSED:
            return Run(Kind.HOLE, 0, same_run(entries == UNUSED))
        place = int(entries[0]) * SECTOR
        if place + self._bitmap + self.block > self._file.size:
            raise ImageError(f"block {index} of the VHD lies at {place}, behind the end of the file")
        whole = not self._has_base or index in self._made_whole or self._bits(place) == self._all
        return Run(Kind.DATA if whole else Kind.PARTIAL, place + self._bitmap, 1)

    def most(self, index: int, count: int) -> int:
        """Return 1: every block has its bitmap before it."""
        del index, count
        return 1

    def allocate(self, index: int, count: int) -> int:
        """Append a block, all of whose sectors count; a PARTIAL one stays where it is and becomes whole."""
        del count
        entry = self._pages.get(self._table + 4 * index)
        self._changed = True
        if entry != UNUSED:  # until its data are safe, its bitmap says what it said
            self._made_whole[index] = entry * SECTOR
            return entry * SECTOR + self._bitmap
        place = align_up(self._end + self._bitmap, 4 * KIB)
        self._file.resize(self._end)
        self._file.resize(place + self.block)
        self._end = place + self.block
        self._pages.put(self._table + 4 * index, np.array([(place - self._bitmap) // SECTOR], dtype=np.uint32))
        self._file.write(place - self._bitmap, self._all.ljust(self._bitmap, b"\0"))
        if self._pages.crowded:
            self.flush()
        return place

    def zero(self, index: int, count: int) -> None:
        """There is no way to say so: zeros are written."""

    def present(self, index: int) -> bytes:
        """Return the sector bitmap of a block."""
        return self._bits(self._pages.get(self._table + 4 * index) * SECTOR)

    def _bits(self, place: int) -> bytes:
        return self._file.read(place, self.block // SECTOR // 8)

    def unpack(self, index: int) -> bytes:
        """Blocks are never compressed."""
        raise ImageError(f"block {index} of a VHD cannot be compressed")

    def touch(self) -> None:
        """Children know the image by what changes anyway."""

    def flush(self) -> None:
        """Write the data, then the footer behind them and the table, each on stable storage before the next."""
        self._file.flush()
        if not self._changed:
            return
        self._file.resize(self._end + SECTOR)
        self._file.write(self._end, self._footer.encode())
        self._pages.flush()
        for place in self._made_whole.values():
            self._file.write(place, self._all)
        self._file.flush()
        self._made_whole.clear()
        self._changed = False
