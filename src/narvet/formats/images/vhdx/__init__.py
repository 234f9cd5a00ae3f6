"""VHDX, by [MS-VHDX], version 8.0: thin, full and child images, 512- and 4096-byte sectors, up to 64 TiB.

Blocks of 1 MiB to 256 MiB. Children are written with whole blocks; partly present ones are read. The log is replayed
when an image is opened, and used for every change of the table of an image that exists.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from uuid import UUID

from narvet.block.contract import BlockDevice
from narvet.block.files import File, Files
from narvet.formats.images.contract import Base, ImageFacts, ImageSpec, Opened
from narvet.formats.images.mapped import MappedDevice, all_stored, allocate_all
from narvet.formats.images.vhdx import records as r
from narvet.formats.images.vhdx.blocks import Blocks, signed
from narvet.formats.images.vhdx.log import pending
from narvet.formats.images.vhdx.overlay import Replayed
from narvet.ground.checksums import crc32c
from narvet.ground.errors import ImageError, UnsupportedError
from narvet.ground.ids import derive
from narvet.ground.units import KIB, MIB, TIB, align_up
from narvet.ground.values import Frozen, replace

MOST = 64 * TIB
PHYSICAL_SECTOR = 4096
_LOG = (MIB, MIB)
_METADATA = (2 * MIB, MIB)
_BAT = 3 * MIB
_ITEMS = 64 * KIB  # where the items of the metadata region start
_MOST_ENTRIES = 2047
_LONGEST_ITEM = MIB
_KEYS = ("relative_path", "absolute_win32_path", "volume_path")


class _Image(Frozen):
    """What the head of an image says, every value checked."""

    header: r.Header
    bat: int
    block: int
    size: int
    sector_size: int
    locator: dict[str, str] | None
    id: UUID


class Vhdx:
    """The format behind `format = "vhdx"`."""

    name = "vhdx"
    most = MOST
    sectors = (512, 4096)
    makes_children = True
    records_sector = True
    renews_link = True

    def fit(self, size: int, block: int | None = None) -> int:  # noqa: ARG002 (blocks need not be whole)
        """Return the size in sectors that both sizes divide."""
        return align_up(size, 4096)

    def blocks(self) -> tuple[int, ...]:
        """Return the powers of two a block can be."""
        return tuple(MIB << shift for shift in range(9))

    def footprint(self, image_spec: ImageSpec, data: int) -> int:
        """Return head, metadata, table and data."""
        block = image_spec.block_size or _usual_block(image_spec.size)
        head = _BAT + _bat_length(image_spec.size, block, image_spec.sector_size, has_base=image_spec.base is not None)
        return head + (align_up(image_spec.size, block) if image_spec.space == "full" else data)

    @contextmanager
    def create(self, files: Files, name: str, image_spec: ImageSpec) -> Iterator[BlockDevice]:
        """Make an image; full gives every block its place, and the file all of its bytes."""
        block, file = image_spec.block_size or _usual_block(image_spec.size), files.create(name)
        header = _write_head(file, image_spec, block)
        blocks = Blocks(file, header, _BAT, block, image_spec.sector_size, fresh=True)
        if image_spec.space == "full" and image_spec.base is None:
            allocate_all(blocks, file, image_spec.size)
        yield MappedDevice(file, blocks, image_spec.size, image_spec.sector_size)
        blocks.flush()

    def probe(self, files: Files, name: str, *, writable: bool = False) -> Opened | None:
        """Open an image, its log replayed: into the file if it is to be written to, else in memory."""
        file = files.open(name, writable=writable)
        header = _current_header(file)
        if header is None:
            return None
        changes, length = pending(file, header)
        if changes and writable:
            file.resize(max(file.size, length))
            for offset, content in changes:
                file.write(offset, content)
            file.flush()
        source: File = Replayed(file, changes, length) if changes and not writable else file
        image = _image(source, header)
        blocks = Blocks(source, header, image.bat, image.block, image.sector_size)
        full = all_stored(blocks, image.size)
        if changes and writable:
            blocks.clear_log()

        def device(sector_size: int, base: BlockDevice | None) -> BlockDevice:  # noqa: ARG001 (it is recorded)
            return MappedDevice(source, blocks, image.size, image.sector_size, base)

        return Opened(_facts(files, file, image, full=full), device, blocks.flush)

    def enlarge(self, files: Files, name: str, size: int, *, full: bool = False, piece: int | None = None) -> None:
        """Make the disk larger: another size in the metadata, and a longer table of blocks if need be."""
        del piece
        opened = self.probe(files, name, writable=True)
        file = files.open(name, writable=True)
        header = _current_header(file)
        if opened is None or header is None:
            raise ImageError("this is not a VHDX")
        if opened.facts.base is not None:
            raise UnsupportedError("a VHDX child is as large as its base; fold it, or recast it, to make it larger")
        from narvet.formats.images.vhdx.enlarge import enlarge

        image = _image(file, header)
        length = _bat_length(size, image.block, image.sector_size, has_base=False)
        blocks = Blocks(file, header, enlarge(file, size, length), image.block, image.sector_size)
        blocks.touch()
        if full:
            allocate_all(blocks, file, size, -(-image.size // image.block))
        blocks.flush()


FORMAT = Vhdx()


def _facts(files: Files, file: File, image: _Image, *, full: bool) -> ImageFacts:
    base = _base_path(image.locator, files) if image.locator is not None else None
    return ImageFacts(
        format="vhdx",
        space="full" if full and base is None else "thin",
        size=image.size,
        sector_size=image.sector_size,
        allocated=file.stored,
        block_size=image.block,
        id=image.id,
        link=str(image.header.data_write_guid),
        base=base,
        base_link=(image.locator or {}).get("parent_linkage", "").strip("{}").lower(),
        base_format="vhdx" if base else "",
    )


def _usual_block(size: int) -> int:
    """Return a block size that keeps the table of a disk below 4 MiB or so, and thin images thin."""
    return 2 * MIB if size <= TIB else 8 * MIB if size <= 4 * TIB else 32 * MIB


def _bat_length(size: int, block: int, sector_size: int, *, has_base: bool) -> int:
    ratio, payload = (sector_size << 23) // block, -(-size // block)
    entries = -(-payload // ratio) * (ratio + 1) if has_base else payload + (payload - 1) // ratio
    return align_up(8 * entries, MIB)


def _write_head(file: File, image_spec: ImageSpec, block: int) -> r.Header:
    """Write everything before the blocks; return the current header."""
    length = _bat_length(image_spec.size, block, image_spec.sector_size, has_base=image_spec.base is not None)
    file.resize(_BAT + length)
    file.write(0, r.FileIdentifier(signature=r.FILE_SIGNATURE, creator="Narvet").encode())
    header = r.Header(
        signature=b"head",
        file_write_guid=derive(image_spec.id, "file"),
        data_write_guid=derive(image_spec.id, "data"),
        version=1,
        log_length=_LOG[1],
        log_offset=_LOG[0],
    )
    for number in (0, 1):
        header = replace(header, sequence_number=number + 2)
        file.write(r.HEADER_OFFSETS[header.sequence_number % 2], signed(header))
    regions = (
        r.RegionEntry(guid=r.BAT_REGION, file_offset=_BAT, length=length, required=1),
        r.RegionEntry(guid=r.METADATA_REGION, file_offset=_METADATA[0], length=_METADATA[1], required=1),
    )
    table = r.RegionTable(signature=b"regi", entry_count=len(regions))
    body = b"".join(region.encode() for region in regions)
    checksum = crc32c((table.encode() + body).ljust(r.REGION_SIZE, b"\0"))
    for offset in r.REGION_OFFSETS:
        file.write(offset, replace(table, checksum=checksum).encode() + body)
    _write_metadata(file, image_spec, block)
    return header


def _write_metadata(file: File, image_spec: ImageSpec, block: int) -> None:
    flags = r.HAS_PARENT if image_spec.base else r.LEAVE_ALLOCATED if image_spec.space == "full" else 0
    items = [
        (r.FILE_PARAMETERS, r.IS_REQUIRED, r.FileParameters(block_size=block, flags=flags).encode()),
        (r.VIRTUAL_DISK_SIZE, r.IS_REQUIRED | r.IS_VIRTUAL_DISK, image_spec.size.to_bytes(8, "little")),
        (r.LOGICAL_SECTOR_SIZE, r.IS_REQUIRED | r.IS_VIRTUAL_DISK, image_spec.sector_size.to_bytes(4, "little")),
        (r.PHYSICAL_SECTOR_SIZE, r.IS_REQUIRED | r.IS_VIRTUAL_DISK, PHYSICAL_SECTOR.to_bytes(4, "little")),
        (r.VIRTUAL_DISK_ID, r.IS_REQUIRED | r.IS_VIRTUAL_DISK, image_spec.id.bytes_le),
    ]
    if image_spec.base:
        items.append((r.PARENT_LOCATOR, r.IS_REQUIRED, _locator(image_spec.base)))
    entries, content = b"", b""
    for guid, kind, data in items:
        entry = r.MetadataEntry(item_id=guid, offset=_ITEMS + len(content), length=len(data), flags=kind, reserved=0)
        entries += entry.encode()
        content += data.ljust(align_up(len(data), 8), b"\0")
    table = r.MetadataTable(signature=b"metadata", entry_count=len(items))
    file.write(_METADATA[0], table.encode() + entries)
    file.write(_METADATA[0] + _ITEMS, content)


def _locator(base: Base) -> bytes:
    pairs = {
        "parent_linkage": "{" + base.link + "}",
        "relative_path": base.relative.replace("/", "\\"),
        "absolute_win32_path": base.absolute,
    }
    texts = [(key.encode("utf-16-le"), value.encode("utf-16-le")) for key, value in pairs.items()]
    offset = r.LocatorHeader.size + r.LocatorEntry.size * len(texts)
    entries, content = b"", b""
    for key, value in texts:
        entries += r.LocatorEntry(
            key_offset=offset + len(content), value_offset=offset + len(content) + len(key),
            key_length=len(key), value_length=len(value),
        ).encode()  # fmt: skip
        content += key + value
    return r.LocatorHeader(locator_type=r.LOCATOR_TYPE, key_value_count=len(texts)).encode() + entries + content


def _current_header(file: File) -> r.Header | None:
    """Return the sound header with the larger number; None without the file's signature."""
    if file.size < r.HEAD_SIZE or file.read(0, 8) != r.FILE_SIGNATURE:
        return None
    found = []
    for offset in r.HEADER_OFFSETS:
        data = file.read(offset, r.HEADER_SIZE)
        header = r.Header.decode(data)
        if header.signature == b"head" and crc32c(data[:4] + bytes(4) + data[8:]) == header.checksum:
            found.append(header)
    if not found:
        raise ImageError("neither header of the VHDX is sound")
    header = max(found, key=lambda one: one.sequence_number)
    if header.version != 1 or header.log_version:
        raise UnsupportedError(
            f"the VHDX is of version {header.version}, its log of {header.log_version}; 1 and 0 are known"
        )
    return header


def _regions(file: File) -> dict[UUID, r.RegionEntry]:
    """Return the regions by the first sound table, each of them inside the file."""
    for offset in r.REGION_OFFSETS:
        data = file.read(offset, r.REGION_SIZE)
        table = r.RegionTable.decode(data)
        if table.signature == b"regi" and crc32c(data[:4] + bytes(4) + data[8:]) == table.checksum:
            break
    else:
        raise ImageError("neither region table of the VHDX is sound")
    if table.entry_count > _MOST_ENTRIES:
        raise ImageError(f"the VHDX's region table has {table.entry_count} entries, at most {_MOST_ENTRIES} expected")
    found = {}
    for number in range(table.entry_count):
        entry = r.RegionEntry.decode(data[r.RegionTable.size + number * r.RegionEntry.size :])
        if entry.guid in (r.BAT_REGION, r.METADATA_REGION):
            if entry.file_offset < r.HEAD_SIZE or entry.file_offset + entry.length > file.size:
                raise ImageError(f"a region of the VHDX at {entry.file_offset} does not lie in the file")
            found[entry.guid] = entry
        elif entry.required & 1:
            raise UnsupportedError(f"the VHDX needs its region {entry.guid} to be known")
    if len(found) != 2:
        raise ImageError("the VHDX lacks its table of blocks or its metadata")
    return found


def _items(file: File, region: r.RegionEntry) -> dict[UUID, bytes]:
    data = file.read(region.file_offset, min(region.length, r.REGION_SIZE))
    table = r.MetadataTable.decode(data)
    if table.signature != b"metadata" or table.entry_count > _MOST_ENTRIES:
        raise ImageError(f"the VHDX's metadata at {region.file_offset} are not sound")
    found: dict[UUID, bytes] = {}
    for number in range(table.entry_count):
        entry = r.MetadataEntry.decode(data[r.MetadataTable.size + number * r.MetadataEntry.size :])
        if entry.item_id not in r.KNOWN_ITEMS:
            if entry.flags & r.IS_REQUIRED:
                raise UnsupportedError(f"the VHDX needs its metadata item {entry.item_id} to be known")
            continue
        if entry.length > _LONGEST_ITEM or entry.offset + entry.length > region.length:
            raise ImageError(f"a metadata item of the VHDX at {entry.offset} does not lie in its region")
        found[entry.item_id] = file.read(region.file_offset + entry.offset, entry.length)
    return found


def _image(file: File, header: r.Header) -> _Image:
    regions = _regions(file)
    items = _items(file, regions[r.METADATA_REGION])
    parameters = r.FileParameters.decode(items.get(r.FILE_PARAMETERS, b""))
    size = int.from_bytes(items.get(r.VIRTUAL_DISK_SIZE, b"")[:8], "little")
    sector_size = int.from_bytes(items.get(r.LOGICAL_SECTOR_SIZE, b"")[:4], "little")
    block = parameters.block_size
    if not MIB <= block <= 256 * MIB or block & (block - 1):
        raise ImageError(f"the VHDX's blocks are {block} bytes, a power of two from 1 MiB to 256 MiB expected")
    if sector_size not in (512, 4096) or not 0 < size <= MOST or size % sector_size:
        raise ImageError(f"the VHDX has {size} bytes in sectors of {sector_size}")
    has_base = bool(parameters.flags & r.HAS_PARENT)
    bat = regions[r.BAT_REGION]
    payload, ratio = -(-size // block), (sector_size << 23) // block
    if 8 * (payload + (payload - 1) // ratio) > bat.length:
        raise ImageError(f"the VHDX's table of {bat.length} bytes is too short for its {payload} blocks")
    locator = _pairs(items.get(r.PARENT_LOCATOR, b"")) if has_base else None
    native_id = UUID(bytes_le=items.get(r.VIRTUAL_DISK_ID, b"")[:16].ljust(16, b"\0"))
    return _Image(header, bat.file_offset, block, size, sector_size, locator, native_id)


def _pairs(data: bytes) -> dict[str, str]:
    header = r.LocatorHeader.decode(data)
    found = {}
    for number in range(min(header.key_value_count, _MOST_ENTRIES)):
        entry = r.LocatorEntry.decode(data[r.LocatorHeader.size + number * r.LocatorEntry.size :])
        key = data[entry.key_offset : entry.key_offset + entry.key_length].decode("utf-16-le", "replace")
        value = data[entry.value_offset : entry.value_offset + entry.value_length].decode("utf-16-le", "replace")
        found[key] = value
    return found


def _base_path(locator: dict[str, str], files: Files) -> str:
    """Return the base's path by the first key that names an existing file, else by the first one there is."""
    paths = [
        locator[key].replace("\\", "/") if key == "relative_path" else locator[key] for key in _KEYS if key in locator
    ]
    found = [text for text in paths if "\0" not in text]
    if not found:
        raise ImageError("the VHDX is a child, but names no base")
    return files.shown(next((text for text in found if files.kind(text) != "missing"), found[0]))
