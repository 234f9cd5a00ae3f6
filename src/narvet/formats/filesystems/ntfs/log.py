"""Whether the log of an NTFS is clean: its last user closed it. The device that it is read from is not trusted."""

from __future__ import annotations

from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.links import RECORD_BITS, records_of
from narvet.formats.filesystems.ntfs.parse import (
    Found,
    Volume,
    content,
    index_entries,
    one_of,
    system_file,
    unprotected,
)
from narvet.ground.errors import ImageError
from narvet.ground.records import Record, raw, u16, u32, u64

_LARGEST_LOG = 1 << 32
_NO_CLIENT, _IS_CLEAN = 0xFFFF, 0x2
_SLEEPING = "hiberfil.sys"
_MEMORY = (b"hibr", b"rstr")  # how it starts: complete, or about to be read
_MOST_PAGE = 1 << 16


class RestartPage(Record, title="ntfs log restart page", size=30):
    """The start of each of the log's first two pages."""

    magic: bytes = raw(0, 4, "", "'RSTR'")
    usa_ofs: int = u16(4, "bytes", "to the update sequence")
    usa_count: int = u16(6, "words", "of it")
    last_lsn: int = u64(8, "", "of the last check")
    system_page_size: int = u32(16, "bytes", "of this page")
    log_page_size: int = u32(20, "bytes", "")
    restart_offset: int = u16(24, "bytes", "to the restart area")
    minor_version: int = u16(26, "", "")
    major_version: int = u16(28, "", "")


class RestartArea(Record, title="ntfs log restart area", size=16):
    """The start of the restart area."""

    current_lsn: int = u64(0, "", "the last one when it was written")
    log_clients: int = u16(8, "", "")
    client_free_list: int = u16(10, "", "")
    client_in_use_list: int = u16(12, "", "0xFFFF: nobody uses the log")
    flags: int = u16(14, "", "2: the volume is clean")


def open_still(volume: Volume) -> str:
    """Return why nothing may be changed: what a guest left open in the log, or that it sleeps; empty if nothing is."""
    if not _is_clean(volume):
        return "its log holds changes that are not in place yet"
    return "its guest sleeps (hibernation or fast start), and goes on with it as it was" if _sleeps(volume) else ""


def _is_clean(volume: Volume) -> bool:
    log = content(volume, one_of(system_file(volume, r.LOG), r.DATA, "", "$LogFile"), _LARGEST_LOG)
    found: list[RestartArea] = []
    place = 0
    for _ in range(2):
        if place + RestartPage.size > log.size:
            break
        page = RestartPage.decode(log.read(place, RestartPage.size))
        if page.magic in (b"\xff\xff\xff\xff", b"\0\0\0\0"):
            break  # never used
        if page.magic not in (b"RSTR", b"CHKD"):
            return False
        size = page.system_page_size
        if not RestartPage.size <= size <= _MOST_PAGE or size % r.STRIDE or place + size > log.size:
            return False
        try:
            data = unprotected(log.read(place, size), page.magic, "the log's restart page")
        except ImageError:
            place += size
            continue
        found.append(RestartArea.decode(data[page.restart_offset :], "the log's restart area"))
        place += size
    if not found:
        return place == 0
    latest = max(found, key=lambda area: area.current_lsn)
    return latest.client_in_use_list == _NO_CLIENT or bool(latest.flags & _IS_CLEAN)


def _sleeps(volume: Volume) -> bool:
    """Return whether the root holds the memory of a guest that is to go on where it stopped."""
    records = records_of(volume, system_file(volume, r.MFT))
    for entries, _ in index_entries(volume, records(r.ROOT), "$I30", "the root"):
        for one, key in entries:
            name = r.FileName.decode(key, "a name in the root")
            text = key[r.FileName.size : r.FileName.size + 2 * name.file_name_length].decode("utf-16-le", "replace")
            if text.lower() == _SLEEPING:
                return _holds_memory(volume, records(one.reference & RECORD_BITS))
    return False


def _holds_memory(volume: Volume, found: list[Found]) -> bool:
    data = next((one for one in found if one.type == r.DATA and not one.name), None)
    if data is None or not data.runs or data.runs[0][0] is None:
        return False
    return volume.device.read(volume.shape.start_of(data.runs[0][0]), 4).lower() in _MEMORY
