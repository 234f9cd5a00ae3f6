"""The folders of an exFAT, walked through: entry sets against their checksums, clusters against bitmap and table.

exFAT File System Specification, revision 1.00, sections 6 and 7.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from narvet.budget import spend
from narvet.filesystems.fat.clusters import Chains, Claims, Used
from narvet.filesystems.fat.common import FIRST_CLUSTER
from narvet.records import Record, at

ENTRY = 32
_FILE, _STREAM, _VENDOR = 0x85, 0xC0, 0xE1
_BITMAP, _UPCASE = 0x81, 0x82
_IN_USE, _SECONDARY = 0x80, 0x40
_FOLDER = 0x10
_POSSIBLE, _CONTIGUOUS = 1, 2
_MOST_FAULTS = 20
_LARGEST_FOLDER = 256 << 20  # bytes, section 7.4: no folder is larger


class StreamEntry(Record, title="exfat stream extension entry", size=ENTRY):
    """Section 7.6, and the allocation of a vendor's entry, section 7.9, which has the same places."""

    entry_type: int = at(0, "u8", "", "0xC0")
    secondary_flags: int = at(1, "u8", "", "1 clusters are possible, 2 they lie in a row")
    reserved1: int = at(2, "u8", "", "")
    name_length: int = at(3, "u8", "UTF-16 units", "")
    name_hash: int = at(4, "u16", "", "")
    reserved2: int = at(6, "u16", "", "")
    valid_data_length: int = at(8, "u64", "bytes", "")
    reserved3: int = at(16, "u32", "", "")
    first_cluster: int = at(20, "u32", "cluster", "")
    data_length: int = at(24, "u64", "bytes", "")


@dataclass(frozen=True)
class Folder:
    """A folder still to be walked through: its clusters as runs, and whether it is the root."""

    runs: tuple[tuple[int, int], ...]
    root: bool = False


def set_checksum(entries: bytes) -> int:
    """Return the checksum of a set of entries (figure 2); its own two bytes are left out."""
    total = 0
    for index, byte in enumerate(entries):
        if index not in (2, 3):
            total = ((total & 1) << 15 | total >> 1) + byte & 0xFFFF
    return total


def tree_faults(
    read: Callable[[int, int], bytes],
    chains: Chains,
    used: Used,
    root: int,
    cluster: int,
    *,
    clean: bool,
) -> Iterator[str]:
    """Yield what is wrong with the folders and with what they claim.

    Args:
        read: returns the bytes of so many clusters from one on.
        chains: the table.
        used: tells of the clusters from one number to another whether the bitmap has them in use.
        root: the root's first cluster.
        cluster: bytes of a cluster.
        clean: whether the volume was unmounted cleanly.
    """
    claims, faults = Claims(), list[str]()
    runs, fault = chains.ends(root, len(chains.table))
    if fault:
        yield f"the root {fault}"
        return
    todo = [Folder(tuple(runs), root=True)]
    for run in runs:
        claims.add(*run)
    while todo and len(faults) < _MOST_FAULTS:
        folder = todo.pop()
        for item, found in _items(_content(read, folder, cluster), root=folder.root):
            faults += found
            if item is None:
                continue
            stream, is_folder = item
            allocated, fault = _allocation(stream, chains, cluster, len(chains.table), is_root_entry=folder.root)
            faults += [fault] if fault else []
            for run in allocated:
                claims.add(*run)
            if is_folder and allocated and not fault:
                todo.append(Folder(tuple(allocated)))
    yield from faults[:_MOST_FAULTS]
    if not faults:
        yield from claims.faults(used, len(chains.table), clean=clean)


def _content(read: Callable[[int, int], bytes], folder: Folder, cluster: int) -> bytes:
    total, parts = 0, []
    for first, length in folder.runs:
        if total + length * cluster > _LARGEST_FOLDER:
            break
        parts.append(read(first, length))
        total += length * cluster
    return b"".join(parts)


def _items(data: bytes, *, root: bool) -> Iterator[tuple[tuple[StreamEntry, bool] | None, list[str]]]:
    """Yield every stream of a folder's entries, with whether it is a folder's, and what is wrong with its set."""
    place = 0
    while place + ENTRY <= len(data) and data[place]:
        kind = data[place]
        count = 1
        if kind in (_BITMAP, _UPCASE) and root:
            stream = StreamEntry.decode(data[place : place + ENTRY])
            yield (stream.but(secondary_flags=_POSSIBLE), False), []
        elif kind & _IN_USE and not kind & _SECONDARY and kind not in (_BITMAP, _UPCASE, 0x83, 0xA0, 0xA1):
            spend()
            count += data[place + 1]
            entries = data[place : place + count * ENTRY]
            yield from _set(kind, entries, count)
        place += count * ENTRY


def _set(kind: int, entries: bytes, count: int) -> Iterator[tuple[tuple[StreamEntry, bool] | None, list[str]]]:
    if len(entries) < count * ENTRY or any(not entries[at] & _SECONDARY for at in range(ENTRY, len(entries), ENTRY)):
        yield None, ["a set of folder entries is cut short"]
        return
    if int.from_bytes(entries[2:4], "little") != set_checksum(entries):
        yield None, ["a set of folder entries does not match its checksum"]
        return
    for place in range(ENTRY, len(entries), ENTRY):
        if entries[place] in (_STREAM, _VENDOR):
            attributes = int.from_bytes(entries[4:6], "little")
            stream = StreamEntry.decode(entries[place : place + ENTRY])
            yield (stream, kind == _FILE and entries[place] == _STREAM and bool(attributes & _FOLDER)), []


def _allocation(
    stream: StreamEntry, chains: Chains, cluster: int, count: int, *, is_root_entry: bool
) -> tuple[list[tuple[int, int]], str]:
    """Return the clusters of a stream as runs, and what is wrong with them."""
    length = -(-stream.data_length // cluster)
    if not stream.secondary_flags & _POSSIBLE or not (length or stream.first_cluster):
        return [], ""
    if not FIRST_CLUSTER <= stream.first_cluster < count or stream.first_cluster + length > count + FIRST_CLUSTER:
        return [], f"a file starts at cluster {stream.first_cluster}, which does not exist"
    if stream.secondary_flags & _CONTIGUOUS:
        if stream.first_cluster + length > count:
            return [], f"a file from cluster {stream.first_cluster} on leaves the volume"
        return [(stream.first_cluster, length)], ""
    runs, fault = chains.ends(stream.first_cluster, count)
    held = sum(size for _, size in runs)
    if not fault and held < length:
        fault = f"has {held} clusters for {stream.data_length} bytes"
    what = "a structure of the root" if is_root_entry and stream.entry_type != _STREAM else "a file"
    return runs, f"{what} {fault}" if fault else ""
