"""Files of FAT32 and exFAT, read from a device that is not trusted: names, times and clusters of a folder's entries.

FAT: General Overview of On-Disk Format, 1.03, and exFAT File System Specification, revision 1.00, sections 7.4 to 7.7.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any, cast

import numpy as np

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.fat import exfat_read, exfat_tree, fat32_read, fat32_tree
from narvet.formats.filesystems.fat.clusters import Chains
from narvet.formats.filesystems.fat.common import FIRST_CLUSTER
from narvet.formats.filesystems.fat.exfat_shape import BAD as EXFAT_BAD
from narvet.formats.filesystems.fat.exfat_shape import shape_of as exfat_shape
from narvet.formats.filesystems.fat.fat32_shape import BAD, MASK, DirEntry, Shape, shape_of
from narvet.formats.filesystems.trees import FileTree, Kind, Node, TreeReader, is_name
from narvet.formats.filesystems.upcase import upcased
from narvet.ground.budget import spend
from narvet.ground.errors import ImageError
from narvet.ground.units import Cluster
from narvet.ground.values import Frozen

_ENTRY = 32
_FOLDER, _LABEL, _LONG_NAME = 0x10, 0x08, 0x0F
_DELETED, _ESCAPED = 0xE5, 0x05
_SMALL_NAME, _SMALL_ENDING = 0x08, 0x10  # nt_res: the short name is shown in small letters
_LAST_PART, _PART_NUMBER = 0x40, 0x1F
_NAME = 0xC1
_PAGE = 1 << 14  # entries of the table that are read at once
_MOST_PAGES = 256


class StoredTable:
    """A table of clusters that is read as far as it is needed."""

    def __init__(self, device: BlockDevice, start: int, count: int, mask: int) -> None:
        self._device = device
        self._start = start
        self._count = count
        self._mask = mask
        self._pages: dict[int, Any] = {}

    def __len__(self) -> int:
        """Return how many entries it has."""
        return self._count

    def __getitem__(self, key: int | slice) -> Any:
        """Return an entry, or those between two numbers, at most up to the end of a page."""
        if isinstance(key, int):
            return self._page(key // _PAGE)[key % _PAGE]
        first, end = key.start, min(key.stop, self._count)
        return self._page(first // _PAGE)[first % _PAGE :][: end - first]

    def _page(self, number: int) -> Any:
        if number not in self._pages:
            spend()
            if len(self._pages) == _MOST_PAGES:
                self._pages.clear()
            count = min(_PAGE, self._count - number * _PAGE)
            data = self._device.read(self._start + 4 * number * _PAGE, 4 * count)
            self._pages[number] = np.frombuffer(data, dtype="<u4") & self._mask
        return self._pages[number]


class Held(Frozen):
    """Where a file lies: its first cluster, whether its clusters lie in a row, and the bytes that were written."""

    first: int
    in_a_row: bool
    written: int


class ClusterFiles(TreeReader):
    """What both share: clusters followed through the table."""

    ignores_case = True
    largest_folder: int

    def __init__(self, device: BlockDevice, heap: int, unit: int, table: StoredTable, bad: int, root: int) -> None:
        self._device = device
        self._heap = heap
        self._unit = unit
        self._count = len(table)
        self._chains = Chains(table, bad)
        self._root = Node(root, Kind.FOLDER, held=Held(root, in_a_row=False, written=0))
        self._known: dict[int, list[tuple[Cluster, int]]] = {}

    @property
    def root(self) -> Node:
        """The root."""
        return self._root

    def node(self, reference: object) -> Node:
        """Return what an entry describes."""
        return cast(Node, reference)

    def look_up(self, folder: Node, name: str) -> Node | None:
        """Return what lies under a name, whatever the case of its letters."""
        wanted = upcased(name)
        found = (self.node(reference) for one, reference in self.names(folder) if upcased(one) == wanted)
        return next(found, None)

    def target(self, link: Node) -> str:
        """There are no links."""
        raise ImageError(f"the file at cluster {link.number} is no link")

    def _runs(self, held: Held, size: int) -> list[tuple[Cluster, int]]:
        """Return the clusters of a file of `size` bytes as runs; of a folder, whose size is not kept, all of them."""
        if not held.first:
            return []
        if held.in_a_row:
            count = -(-size // self._unit)
            if not FIRST_CLUSTER <= held.first <= self._count - count:
                raise ImageError(f"a file from cluster {held.first} on leaves the volume")
            return [(Cluster(held.first), count)]
        if held.first not in self._known:
            runs, fault = self._chains.ends(held.first, self._count)
            if fault:
                raise ImageError(f"the file at cluster {held.first} {fault}")
            self._known = {**self._known, held.first: runs} if len(self._known) < _MOST_PAGES else {held.first: runs}
        return self._known[held.first]

    def read(self, file: Node, offset: int, length: int) -> bytes:
        """Return the bytes of a file from `offset` on, at most `length`; what was never written is zero."""
        held = cast(Held, file.held)
        length = max(min(length, file.size - offset), 0)
        stored = self._bytes(held, file.size, offset, max(min(length, held.written - offset), 0))
        return stored.ljust(length, b"\0")

    def _bytes(self, held: Held, size: int, offset: int, length: int) -> bytes:
        parts, place, end = list[bytes](), 0, offset + length
        for first, count in self._runs(held, size):
            start, stop = max(place, offset), min(place + count * self._unit, end)
            if start < stop:
                at = self._heap + (first - FIRST_CLUSTER) * self._unit + start - place
                parts.append(self._device.read(at, stop - start))
            place += count * self._unit
            if place >= end:
                break
        data = b"".join(parts)
        if len(data) != length:
            raise ImageError(f"the file at cluster {held.first} has fewer clusters than bytes")
        return data

    def folder_bytes(self, folder: Node) -> bytes:
        """Return all of a folder's entries."""
        held = cast(Held, folder.held)
        have = sum(count for _, count in self._runs(held, folder.size)) * self._unit
        return self._bytes(held, folder.size, 0, min(have, self.largest_folder))


class Fat32Files(ClusterFiles):
    """The files of a FAT32."""

    largest_folder = fat32_tree.LARGEST_FOLDER

    def names(self, folder: Node) -> Iterator[tuple[str, object]]:
        """Yield the names in a folder: long ones where there are any."""
        data, parts, summed = self.folder_bytes(folder), dict[int, bytes](), -1
        for place in range(0, len(data) - _ENTRY + 1, _ENTRY):
            spend()
            raw = data[place : place + _ENTRY]
            if not raw[0]:
                return
            if raw[11] & 0x3F == _LONG_NAME and raw[0] != _DELETED:
                parts = {} if raw[0] & _LAST_PART else parts
                summed = raw[13]
                parts[raw[0] & _PART_NUMBER] = raw[1:11] + raw[14:26] + raw[28:32]
                continue
            long_name = _long_name(parts) if parts and summed == _short_sum(raw[:11]) else ""
            parts = {}
            if raw[0] in (_DELETED, 0x2E) or raw[11] & _LABEL:
                continue
            entry = DirEntry.decode(raw)
            name = long_name or _short_name(entry)
            if is_name(name):
                yield name, _fat32_node(entry)


class ExfatFiles(ClusterFiles):
    """The files of an exFAT."""

    largest_folder = exfat_tree.LARGEST_FOLDER

    def names(self, folder: Node) -> Iterator[tuple[str, object]]:
        """Yield the names in a folder."""
        data = self.folder_bytes(folder)
        for place, count in exfat_tree.sets_of(data):
            spend()
            entries = data[place : place + count * _ENTRY]
            if entries[0] != 0x85:
                continue
            if len(entries) < 3 * _ENTRY or int.from_bytes(entries[2:4], "little") != exfat_tree.set_checksum(entries):
                raise ImageError("a set of folder entries is cut short, or does not match its checksum")
            stream = exfat_tree.StreamEntry.decode(entries[_ENTRY : 2 * _ENTRY])
            more = range(2 * _ENTRY, len(entries), _ENTRY)
            parts = b"".join(entries[at + 2 : at + _ENTRY] for at in more if entries[at] == _NAME)
            name = parts[: 2 * stream.name_length].decode("utf-16-le", "replace")
            if is_name(name):
                yield name, _exfat_node(entries, stream)


def fat32_files(device: BlockDevice) -> FileTree:
    """Return the files of a FAT32; ImageError where there is none."""
    boot = fat32_read.boot_of(device)
    if boot is None:
        raise ImageError("there is no boot sector of a FAT32")
    shape: Shape = shape_of(boot)
    table = StoredTable(device, shape.reserved * shape.sector_size, shape.clusters + FIRST_CLUSTER, MASK)
    return Fat32Files(device, shape.heap * shape.sector_size, shape.unit, table, BAD, boot.root_clus)


def exfat_files(device: BlockDevice) -> FileTree:
    """Return the files of an exFAT; ImageError where there is none."""
    boot = exfat_read.boot_of(device)
    if boot is None:
        raise ImageError("there is no boot sector of an exFAT")
    shape = exfat_shape(boot)
    start = boot.fat_offset << boot.bytes_per_sector_shift
    table = StoredTable(device, start, shape.clusters + FIRST_CLUSTER, 0xFFFFFFFF)
    root = boot.first_cluster_of_root
    return ExfatFiles(device, shape.heap_start, shape.unit, table, EXFAT_BAD, root)


def _fat32_node(entry: DirEntry) -> Node:
    first = entry.fst_clus_hi << 16 | entry.fst_clus_lo
    kind = Kind.FOLDER if entry.attr & _FOLDER else Kind.FILE
    held = Held(first, in_a_row=False, written=entry.file_size)
    return Node(first, kind, entry.file_size, modified=_moment(entry.wrt_date, entry.wrt_time), held=held)


def _exfat_node(entries: bytes, stream: exfat_tree.StreamEntry) -> Node:
    is_folder = int.from_bytes(entries[4:6], "little") & _FOLDER
    stamp = int.from_bytes(entries[12:16], "little")
    held = Held(stream.first_cluster, bool(stream.secondary_flags & 2), stream.valid_data_length)
    size = stream.data_length
    kind = Kind.FOLDER if is_folder else Kind.FILE
    return Node(stream.first_cluster, kind, size, modified=_moment(stamp >> 16, stamp & 0xFFFF), held=held)


def _moment(date: int, time: int) -> int | None:
    """Return seconds since 1970 of a date and time, which are taken as those of UTC; None where they are none."""
    try:
        day = datetime(1980 + (date >> 9), date >> 5 & 15, date & 31, tzinfo=UTC)
    except ValueError:
        return None
    return int(day.timestamp()) + (time >> 11) * 3600 + (time >> 5 & 63) * 60 + (time & 31) * 2


def _short_name(entry: DirEntry) -> str:
    raw = bytes([_DELETED]) + entry.name[1:] if entry.name[0] == _ESCAPED else entry.name
    base, ending = raw[:8].decode("cp437").rstrip(), raw[8:].decode("cp437").rstrip()
    base = base.lower() if entry.nt_res & _SMALL_NAME else base
    ending = ending.lower() if entry.nt_res & _SMALL_ENDING else ending
    return f"{base}.{ending}" if ending else base


def _short_sum(name: bytes) -> int:
    """Return the sum by which the parts of a long name know their short one (section "Long File Names")."""
    total = 0
    for byte in name:
        total = ((total & 1) << 7) + (total >> 1) + byte & 0xFF
    return total


def _long_name(parts: dict[int, bytes]) -> str:
    if sorted(parts) != list(range(1, len(parts) + 1)):
        return ""
    data = b"".join(parts[number] for number in sorted(parts))
    return data.decode("utf-16-le", "replace").split("\0")[0]
