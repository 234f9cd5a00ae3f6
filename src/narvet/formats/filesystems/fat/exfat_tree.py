"""The folders of an exFAT, walked through: entry sets against their checksums, clusters against bitmap and table.

exFAT File System Specification, revision 1.00, sections 6 and 7.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from narvet.formats.filesystems.fat.clusters import Chains, Folder, Item
from narvet.formats.filesystems.fat.common import FIRST_CLUSTER
from narvet.ground.records import Record, cluster32, u8, u16, u32, u64
from narvet.ground.units import Cluster
from narvet.ground.values import replace

ENTRY = 32
_FILE, _STREAM, _VENDOR = 0x85, 0xC0, 0xE1
_BITMAP, _UPCASE = 0x81, 0x82
WITHOUT_SETS = (_BITMAP, _UPCASE, 0x83, 0xA0, 0xA1)
_IN_USE, _SECONDARY = 0x80, 0x40
_FOLDER = 0x10
_POSSIBLE, _CONTIGUOUS = 1, 2
LARGEST_FOLDER = 256 << 20  # bytes, section 7.4: no folder is larger


class StreamEntry(Record, title="exfat stream extension entry", size=ENTRY):
    """Section 7.6, and the allocation of a vendor's entry, section 7.9, which has the same places."""

    entry_type: int = u8(0, "", "0xC0")
    secondary_flags: int = u8(1, "", "1 clusters are possible, 2 they lie in a row")
    reserved1: int = u8(2, "", "")
    name_length: int = u8(3, "UTF-16 units", "")
    name_hash: int = u16(4, "", "")
    reserved2: int = u16(6, "", "")
    valid_data_length: int = u64(8, "bytes", "")
    reserved3: int = u32(16, "", "")
    first_cluster: Cluster = cluster32(20)
    data_length: int = u64(24, "bytes", "")


def set_checksum(entries: bytes) -> int:
    """Return the checksum of a set of entries (figure 2); its own two bytes are left out."""
    total = 0
    for index, byte in enumerate(entries):
        if index not in (2, 3):
            total = ((total & 1) << 15 | total >> 1) + byte & 0xFFFF
    return total


def items_of(chains: Chains, cluster: int, root: int) -> Callable[[bytes, Folder], Iterator[Item]]:
    """Return what yields the items of a folder's entries; `cluster` is bytes, `root` the root's first cluster."""

    def items(data: bytes, folder: Folder) -> Iterator[Item]:
        in_root = folder.first == root
        for stream, is_folder, fault in _streams(data, in_root=in_root):
            if stream is None:
                yield Item(fault=fault)
            else:
                runs, wrong = allocation(stream, chains, cluster)
                what = "a file" if stream.entry_type == _STREAM else "a structure of the root"
                yield Item(stream.first_cluster, tuple(runs), is_folder, f"{what} {wrong}" if wrong else "")

    return items


def sets_of(data: bytes | bytearray) -> Iterator[tuple[int, int]]:
    """Yield offset and number of entries of whatever is in use in a folder, sets with all of their entries."""
    place = 0
    while place + ENTRY <= len(data) and data[place]:
        kind, count = data[place], 1
        if kind & _IN_USE and not kind & _SECONDARY:
            count += data[place + 1] if kind not in WITHOUT_SETS else 0
            yield place, count
        place += count * ENTRY


def streams_in(data: bytes | bytearray, place: int, count: int) -> Iterator[tuple[int, StreamEntry, bool]]:
    """Yield offset and content of every stream of a set, with whether it is a folder's."""
    is_folder = data[place] == _FILE and bool(int.from_bytes(data[place + 4 : place + 6], "little") & _FOLDER)
    for at in range(place + ENTRY, place + count * ENTRY, ENTRY):
        if data[at] in (_STREAM, _VENDOR):
            stream = StreamEntry.decode(bytes(data[at : at + ENTRY]))
            yield at, stream, is_folder and data[at] == _STREAM


def _streams(data: bytes, *, in_root: bool) -> Iterator[tuple[StreamEntry | None, bool, str]]:
    """Yield every stream of a folder's entries, with whether it is a folder's; or what is wrong with its set."""
    for place, count in sets_of(data):
        kind = data[place]
        if kind in (_BITMAP, _UPCASE) and in_root:
            yield replace(StreamEntry.decode(data[place : place + ENTRY]), secondary_flags=_POSSIBLE), False, ""
        elif kind not in WITHOUT_SETS:
            fault = _set_fault(data[place : place + count * ENTRY], count)
            if fault:
                yield None, False, fault
            else:
                yield from ((stream, is_folder, "") for _, stream, is_folder in streams_in(data, place, count))


def _set_fault(entries: bytes, count: int) -> str:
    if len(entries) < count * ENTRY or any(not entries[at] & _SECONDARY for at in range(ENTRY, len(entries), ENTRY)):
        return "a set of folder entries is cut short"
    if int.from_bytes(entries[2:4], "little") != set_checksum(entries):
        return "a set of folder entries does not match its checksum"
    return ""


def allocation(stream: StreamEntry, chains: Chains, cluster: int) -> tuple[list[tuple[Cluster, int]], str]:
    """Return the clusters of a stream as runs, and what is wrong with them."""
    length, first, end = -(-stream.data_length // cluster), stream.first_cluster, len(chains.table)
    if not stream.secondary_flags & _POSSIBLE or not (length or first):
        return [], ""
    if not FIRST_CLUSTER <= first < end or length > end:
        return [], f"starts at cluster {first}, which does not exist"
    if stream.secondary_flags & _CONTIGUOUS:
        return ([], f"from cluster {first} on leaves the volume") if first + length > end else ([(first, length)], "")
    runs, fault = chains.ends(first, end)
    held = sum(size for _, size in runs)
    return runs, fault or (f"has {held} clusters for {stream.data_length} bytes" if held < length else "")
