"""VHD, by the Virtual Hard Disk Image Format Specification, version 1.0: fixed, dynamic and child images.

Big-endian. Sectors are 512 bytes and disks at most 2040 GiB. Readers differ over whether the geometry or the byte size
counts, so sizes are chosen for which both agree. Blocks are placed so that their data, behind the sector bitmap, lie on
4096-byte boundaries of the file. Not made here: blocks of other sizes than powers of two.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import PurePosixPath
from uuid import UUID

from narvet.block.contract import BlockDevice
from narvet.block.files import File, Files
from narvet.block.window import Window
from narvet.formats.images.contract import ImageFacts, ImageSpec, Opened, Space
from narvet.formats.images.mapped import MappedDevice
from narvet.formats.images.vhd.blocks import Blocks
from narvet.formats.images.vhd.records import (
    CHILD,
    COOKIE,
    DYNAMIC,
    FIXED,
    HEADER_COOKIE,
    SECTOR,
    DynamicHeader,
    Footer,
    Locator,
    agreed_size,
    geometry,
    summed,
)
from narvet.ground.errors import ImageError
from narvet.ground.units import GIB, KIB, MIB, align_up
from narvet.ground.values import replace

MOST = 2040 * GIB
BLOCK = 2 * MIB

_VERSION = 0x00010000
_NOWHERE = 0xFFFFFFFFFFFFFFFF
_EPOCH = 946684800  # 2000-01-01, where its seconds start
_RELATIVE, _ABSOLUTE = b"W2ru", b"W2ku"
_TABLE = 1536
_LONGEST_LOCATOR = 64 * KIB  # a path of thirty thousand characters; more is damage


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
        blocks = Blocks(file, footer, header, has_base=image_spec.base is not None)
        yield MappedDevice(file, blocks, image_spec.size, SECTOR)
        blocks.flush()

    def probe(self, files: Files, name: str, *, writable: bool = False) -> Opened | None:
        """Open an image; None without a sound footer at its end or its start."""
        file = files.open(name, writable=writable)
        footer = read_footer(file)
        if footer is None:
            return None
        if footer.disk_type == FIXED:
            return Opened(_fixed_facts(file, footer), lambda _, __: Window(file, 0, footer.current_size))
        header, finishing = read_header(file, footer), list[Blocks]()

        def device(sector_size: int, base: BlockDevice | None) -> BlockDevice:  # noqa: ARG001 (it is recorded)
            blocks = Blocks(file, footer, header, has_base=base is not None)
            finishing.append(blocks)
            return MappedDevice(file, blocks, footer.current_size, SECTOR, base)

        def finish() -> None:
            for blocks in finishing:
                blocks.flush()

        return Opened(_facts(files, file, footer, header), device, finish)

    def enlarge(self, files: Files, name: str, size: int, *, full: bool = False, piece: int | None = None) -> None:
        """Make the disk larger; its files are staged."""
        del piece
        from narvet.formats.images.vhd.enlarge import enlarge

        enlarge(files.open(name, writable=True), size, full=full)


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
        cookie=COOKIE,
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
    return replace(footer, checksum=summed(footer))


def _header(image_spec: ImageSpec, block: int) -> tuple[DynamicHeader, list[tuple[int, bytes]]]:
    """Return the dynamic header, and where which content of its parent locators goes."""
    entries = -(-image_spec.size // block)
    header = DynamicHeader(
        cookie=HEADER_COOKIE,
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
    return replace(header, checksum=summed(header)), content


def _windows(path: str) -> str:
    """Return a relative path as the locator's platform writes it."""
    text = path.replace("/", "\\")
    return text if text.startswith("..\\") else ".\\" + text


def read_footer(file: File) -> Footer | None:
    """Return the footer at the end, or its copy at the start where the end was lost, if either is sound."""
    for offset in (file.size - SECTOR, 0):
        if offset < 0 or file.size < SECTOR:
            continue
        footer = Footer.decode(file.read(offset, SECTOR))
        if footer.cookie != COOKIE or summed(footer) != footer.checksum:
            continue
        if footer.disk_type == FIXED:
            if offset and footer.current_size <= offset:
                return footer
        elif footer.disk_type in (DYNAMIC, CHILD) and footer.current_size <= MOST:
            return footer
    return None


def read_header(file: File, footer: Footer) -> DynamicHeader:
    """Return the header that a dynamic image's footer names, every value checked that others follow."""
    header = DynamicHeader.decode(file.read(footer.data_offset, DynamicHeader.size))
    if header.cookie != HEADER_COOKIE or summed(header) != header.checksum:
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
