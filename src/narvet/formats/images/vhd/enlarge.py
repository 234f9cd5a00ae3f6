"""A VHD made larger, in files that are staged: so the order of writes does not matter.

The table of a dynamic image moves behind its blocks, as nothing tells what lies right behind it.
"""

from __future__ import annotations

from narvet.block.files import File
from narvet.formats.images.vhd import read_footer, read_header
from narvet.formats.images.vhd.records import CHILD, FIXED, SECTOR, Footer, geometry, summed
from narvet.ground.errors import ImageError, UnsupportedError
from narvet.ground.units import align_up
from narvet.ground.values import replace


def enlarge(file: File, size: int, *, full: bool) -> None:
    """Make the disk of an image `size` bytes large; with `full` a fixed one gets all of its bytes at once.

    Raises:
        UnsupportedError: it is a child, which must be as large as its base.
    """
    footer = read_footer(file)
    if footer is None:
        raise ImageError("the footer of the VHD is not sound")
    cylinders, heads, per_track = geometry(size // SECTOR)
    grown = replace(footer, current_size=size, cylinders=cylinders, heads=heads, sectors_per_track=per_track)
    grown = replace(grown, checksum=summed(grown))
    if footer.disk_type == FIXED:
        _enlarge_fixed(file, footer, grown, full=full)
    elif footer.disk_type == CHILD:
        raise UnsupportedError("a VHD child is as large as its base; fold it, or recast it, to make it larger")
    else:
        _enlarge_dynamic(file, footer, grown)


def _enlarge_fixed(file: File, footer: Footer, grown: Footer, *, full: bool) -> None:
    file.resize(footer.current_size)  # without the footer
    if full:
        file.allocate(grown.current_size + SECTOR)
    else:
        file.resize(grown.current_size + SECTOR)
    file.write(grown.current_size, grown.encode())


def _enlarge_dynamic(file: File, footer: Footer, grown: Footer) -> None:
    header = read_header(file, footer)
    table = file.read(header.table_offset, 4 * header.max_table_entries)
    entries = -(-grown.current_size // header.block_size)
    if entries > header.max_table_entries:
        has_footer = file.read(file.size - SECTOR, 8) == footer.cookie
        place = align_up(file.size - (SECTOR if has_footer else 0), SECTOR)
        room = align_up(4 * entries, SECTOR)
        file.resize(place + room + SECTOR)
        file.write(place, table.ljust(room, b"\xff"))
        header = replace(header, table_offset=place, max_table_entries=entries)
        header = replace(header, checksum=summed(header))
        file.write(footer.data_offset, header.encode())
        file.write(place + room, grown.encode())
    else:
        file.write(file.size - SECTOR, grown.encode())
    file.write(0, grown.encode())
