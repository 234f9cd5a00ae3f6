"""A VHDX made larger, in a file that is staged: so the order of writes does not matter ([MS-VHDX] 2.2.3, 2.6).

What is not understood of regions and metadata stays as it is, byte for byte.
"""

from __future__ import annotations

from narvet.block.files import File
from narvet.formats.images.vhdx import records as r
from narvet.ground.checksums import crc32c
from narvet.ground.errors import ImageError
from narvet.ground.units import MIB, align_up
from narvet.ground.values import replace


def enlarge(file: File, size: int, bat_length: int) -> int:
    """Make the disk of an image that was found sound `size` bytes large; return where its table of blocks lies now.

    `bat_length` is the bytes that the table needs.
    """
    bat, metadata = _region(file, r.BAT_REGION), _region(file, r.METADATA_REGION)
    if bat.length < bat_length:
        content = file.read(bat.file_offset, bat.length)
        place = align_up(file.size, MIB)
        file.resize(place + bat_length)
        file.write(place, content)
        bat = replace(bat, file_offset=place, length=bat_length)
        for offset in r.REGION_OFFSETS:
            _replace_region(file, offset, bat)
    _set_size(file, metadata, size)
    return bat.file_offset


def _entries(data: bytes) -> range:
    count = r.RegionTable.decode(data).entry_count
    return range(r.RegionTable.size, r.RegionTable.size + count * r.RegionEntry.size, r.RegionEntry.size)


def _is_sound(data: bytes) -> bool:
    table = r.RegionTable.decode(data)
    return table.signature == b"regi" and crc32c(data[:4] + bytes(4) + data[8:]) == table.checksum


def _region(file: File, guid: object) -> r.RegionEntry:
    """Return a region by the first sound table."""
    for offset in r.REGION_OFFSETS:
        data = file.read(offset, r.REGION_SIZE)
        if _is_sound(data):
            found = (r.RegionEntry.decode(data[at:]) for at in _entries(data))
            return next(entry for entry in found if entry.guid == guid)
    raise ImageError("neither region table of the VHDX is sound")


def _replace_region(file: File, offset: int, region: r.RegionEntry) -> None:
    """Write another entry for a region to the table at `offset`; a table that is not sound becomes as the other."""
    data = file.read(offset, r.REGION_SIZE)
    if not _is_sound(data):
        data = next(one for one in (file.read(at, r.REGION_SIZE) for at in r.REGION_OFFSETS) if _is_sound(one))
    content = bytearray(data)
    at = next(at for at in _entries(data) if r.RegionEntry.decode(data[at:]).guid == region.guid)
    content[at : at + r.RegionEntry.size] = region.encode()
    content[4:8] = bytes(4)
    content[4:8] = crc32c(bytes(content)).to_bytes(4, "little")
    file.write(offset, bytes(content))


def _set_size(file: File, metadata: r.RegionEntry, size: int) -> None:
    table = r.MetadataTable.decode(file.read(metadata.file_offset, r.MetadataTable.size))
    for number in range(table.entry_count):
        place = metadata.file_offset + r.MetadataTable.size + number * r.MetadataEntry.size
        entry = r.MetadataEntry.decode(file.read(place, r.MetadataEntry.size))
        if entry.item_id == r.VIRTUAL_DISK_SIZE:
            file.write(metadata.file_offset + entry.offset, size.to_bytes(8, "little"))
            return
    raise ImageError("the VHDX does not say how large its disk is")
