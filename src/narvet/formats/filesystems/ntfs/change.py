"""Files of an NTFS changed while no guest has it mounted: content replaced, files and folders made, volumes mounted.

What is written goes to a device that keeps it back until everything is known, so that the log stays as it is: closed. A
folder's index is made anew from all of its entries.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterable, Mapping
from contextlib import suppress
from uuid import UUID

import numpy as np

from narvet.block.contract import BlockDevice
from narvet.formats.filesystems.contract import CannotChangeError, refuse_unknown
from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.attributes import (
    Attribute,
    entry,
    file_record,
    mapping_pairs,
    protected,
    view_entry,
)
from narvet.formats.filesystems.ntfs.edit import BY_GUEST, FirstRecords, find
from narvet.formats.filesystems.ntfs.folders import MOUNT_POINT, mount_value
from narvet.formats.filesystems.ntfs.grow import UNDERSTOOD
from narvet.formats.filesystems.ntfs.indexes import attributes as index
from narvet.formats.filesystems.ntfs.indexes import blocks as index_blocks
from narvet.formats.filesystems.ntfs.links import RECORD_BITS, records_of
from narvet.formats.filesystems.ntfs.parse import (
    Found,
    content,
    index_entries,
    one_of,
    placed_attributes,
    system_file,
    unprotected,
)
from narvet.formats.filesystems.ntfs.read import read
from narvet.formats.filesystems.ntfs.tree import Held, NtfsFiles, files_of
from narvet.formats.filesystems.trees import Kind, Node, Owner
from narvet.ground.errors import ImageError, RefusedError
from narvet.ground.extents import runs_of_set
from narvet.ground.findings import image_place
from narvet.ground.units import Cluster, align_up
from narvet.ground.values import replace

_SINCE_1601 = 11_644_473_600
_FIRST_OF_USERS = 64  # records below are the system's own, or kept for what it makes later
_PLAIN_NAME = 0  # POSIX: no short name beside it
_ARCHIVE = 0x20
_LARGEST_UPCASE = 2 << 16
_MORE_RECORDS = 64  # that a full table of files gets
_MOST_CLUSTERS = 1 << 22  # of a file that is written here
_FULL = "its filesystem has no room left for this; make room in it, or enlarge it"


class NtfsEdited(NtfsFiles):
    """The files of an NTFS on a device that keeps all writes back; `moment` is seconds since 1970."""

    def __init__(self, files: NtfsFiles, moment: int) -> None:
        super().__init__(files.volume)
        self._now = (moment + _SINCE_1601) * 10**7
        self._device = files.volume.device
        self._cluster = files.volume.shape.cluster_size
        table = self._records.table
        self._table = table
        self._map = content(self.volume, one_of(system_file(self.volume, r.MAP), r.DATA, "", "$Bitmap"), 1 << 29)
        self._capitals = self._upcase()

    def held_of(self, node: Node) -> Held:
        """Return the attributes of a node as they are now."""
        return super().held_of(self.node(node.number))

    # Names are sorted by the volume's own table of capitals, which is not always ours.

    def _upcase(self) -> tuple[int, ...]:
        there = content(self.volume, one_of(self._records(r.UPCASE), r.DATA, "", "$UpCase"), _LARGEST_UPCASE)
        if there.size != _LARGEST_UPCASE:
            raise ImageError(f"$UpCase has {there.size} bytes")
        return struct.unpack(f"<{_LARGEST_UPCASE // 2}H", there.read(0, _LARGEST_UPCASE))

    def _order(self, name: str) -> tuple[int, ...]:
        data = name.encode("utf-16-le", "surrogatepass")
        return tuple(self._capitals[unit] for (unit,) in struct.iter_unpack("<H", data))

    # What the contract asks for.

    def make_folder(self, parent: Node, name: str, owner: Owner, attributes: Mapping[str, bytes]) -> Node:
        """Make a folder in another one, whose rights it gets; owners and modes are not kept here."""
        del owner, attributes
        return self._make(parent, name, is_folder=True)

    def mount(self, parent: Node, name: str, volume: UUID) -> Node:
        """Make a folder that another volume is mounted in, or mount it in an empty one that is there."""
        there = self.look_up(parent, name)
        if there is not None and (there.kind != Kind.FOLDER or next(iter(self.names(there)), None) is not None):
            raise RefusedError(f"{name} is not an empty folder")
        if there is not None:
            self.remove_folder(parent, name)
        return self._make(parent, name, is_folder=True, mounts=volume)

    def own(self, folder: Node, owner: Owner) -> bool:
        """Leave a folder as it is: its rights are those of the folder above it."""
        del folder, owner
        return True

    def remove_folder(self, parent: Node, name: str) -> bool:
        """Remove an empty folder, or one that a volume is mounted in; return whether there was one."""
        node = self.look_up(parent, name)
        if node is None or node.kind not in (Kind.FOLDER, Kind.LINK):
            return False
        held = self.held_of(node)
        point = held.get(r.REPARSE_POINT)
        tag = int.from_bytes((point.value or b"")[:4], "little") if point else 0
        if tag not in (0, MOUNT_POINT) or (not tag and next(iter(self.names(node)), None) is not None):
            return False
        self._remove(parent, node, is_point=bool(tag))
        return True

    def remove_file(self, folder: Node, name: str) -> bool:
        """Remove a file that has this one name only, zeros over what it held; return whether there was such a one."""
        node = self.look_up(folder, name)
        if node is None or node.kind != Kind.FILE or node.names != 1:
            return False
        if self.held_of(node).get(r.ATTRIBUTE_LIST) or r.ATTRIBUTE_LIST in self._own_types(node.number):
            raise CannotChangeError(f"{name}: its content is described by several records", BY_GUEST)
        for start, count in (run for one in self.held_of(node).attributes for run in one.runs):
            if start is not None:
                self._device.zero(self.volume.shape.start_of(start), count * self._cluster)
        self._remove(folder, node, is_point=False)
        return True

    def _remove(self, parent: Node, node: Node, *, is_point: bool) -> None:
        held = self.held_of(node)
        data = self._record(node.number)
        head = r.FileRecord.decode(data)
        reference = node.number | head.sequence_number << 48
        self._change_index(parent.number, lambda kept: [one for one in kept if one[1] & RECORD_BITS != node.number])
        if is_point:
            self._change_points(lambda keys: [one for one in keys if one != (MOUNT_POINT, reference)])
        for one in held.attributes:
            self._give(one.runs)
        gone = replace(head, flags=head.flags & ~r.IN_USE, sequence_number=head.sequence_number % 0xFFFF + 1)
        self._put_record(node.number, gone.encode() + data[r.FileRecord.size :])
        self._mark_record(node.number, used=False)

    def replace(self, folder: Node, name: str, content: bytes, mode: int = 0o644) -> None:
        """Give a file another content, or make one; its rights are those of the folder above it."""
        del mode
        node = self.look_up(folder, name)
        if node is None:
            node = self._make(folder, name, is_folder=False)
        elif node.kind != Kind.FILE:
            raise RefusedError(f"{name} is not a plain file")
        self._fill(node, name, content)
        allocated = self._allocated(self.node(node.number))
        self._tell_size(folder.number, node.number, len(content), allocated)

    # Content.

    def _fill(self, node: Node, name: str, content: bytes) -> None:
        held = self.held_of(node)
        if node.note or held.get(r.ATTRIBUTE_LIST) or r.ATTRIBUTE_LIST in self._own_types(node.number):
            what = node.note or "described by several records"
            raise CannotChangeError(f"{name}: its content is {what}", BY_GUEST)
        there = held.get(r.DATA)
        if there is not None and (there.flags or any(start is None for start, _ in there.runs)):
            raise CannotChangeError(f"{name}: its content is compressed, sparse or encrypted", BY_GUEST)
        need = -(-len(content) // self._cluster)
        have = [] if there is None or there.value is not None else [run for run in there.runs if run[0] is not None]
        count = sum(length for _, length in have)
        if not have and len(content) < self.volume.shape.record_size // 4:
            with suppress(CannotChangeError):  # a record that is full keeps even a small file's content outside
                made = Attribute(r.DATA, value=content)
                self._put_attributes(node.number, lambda one: one.type == r.DATA and not one.name, [made.encode])
                return
        more = self._take(need - count) if need > count else []
        runs = _as_one([*[(Cluster(start or 0), length) for start, length in have], *more])
        self._write_runs(runs, content)
        self._put_attributes(
            node.number,
            lambda one: one.type == r.DATA and not one.name,
            [lambda instance: _in_runs(runs, len(content), self._cluster, instance)],
        )

    def _write_runs(self, runs: Iterable[tuple[Cluster, int]], data: bytes) -> None:
        place = 0
        for start, count in runs:
            part = data[place : place + count * self._cluster]
            if part:
                whole = part.ljust(align_up(len(part), self._cluster), b"\0")
                self._device.write(self.volume.shape.start_of(start), whole)
            place += count * self._cluster

    def _allocated(self, node: Node) -> int:
        data = self.held_of(node).get(r.DATA)
        if data is None or data.value is not None:
            return align_up(data.size if data else 0, 8)
        return sum(count for _, count in data.runs) * self._cluster

    # Clusters.

    def _take(self, count: int) -> list[tuple[Cluster, int]]:
        """Return runs of free clusters, in one where there is one, and mark them as used.

        Raises:
            RefusedError: there are not so many.
        """
        if count > _MOST_CLUSTERS:
            raise RefusedError(_FULL)
        free = self._free_runs(count)
        one = next((run for run in free if run[1] >= count), None)
        found, left = list[tuple[Cluster, int]](), count
        for start, length in [one] if one else free:
            have = min(length, left)
            found.append((Cluster(start), have))
            left -= have
            if not left:
                break
        if left:
            raise RefusedError(_FULL)
        for start, length in found:
            self._mark(start, length, used=True)
        return found

    def _free_runs(self, wanted: int) -> list[tuple[int, int]]:
        """Return free runs of clusters, up to the first that is long enough."""
        found, chunk, total = list[tuple[int, int]](), 1 << 16, self.volume.shape.clusters
        for first in range(0, -(-total // 8), chunk):
            data = self._map.read(first, min(chunk, -(-total // 8) - first))
            bits = np.unpackbits(np.frombuffer(data, dtype=np.uint8), bitorder="little")[: total - 8 * first]
            runs = [(8 * first + low, high - low) for low, high in runs_of_set(bits == 0).tolist()]
            found += runs
            if any(length >= wanted for _, length in runs):
                break
        return found

    def _mark(self, start: int, count: int, *, used: bool) -> None:
        first, end = start // 8, -(-(start + count) // 8)
        bits = np.unpackbits(np.frombuffer(self._map.read(first, end - first), dtype=np.uint8), bitorder="little")
        inside = bits[start - 8 * first : start - 8 * first + count]
        if (inside == used).any():
            raise ImageError("the map of clusters does not fit what files have")
        inside[:] = used
        self._map.write(first, np.packbits(bits, bitorder="little").tobytes())

    def _give(self, runs: Iterable[tuple[Cluster | None, int]]) -> None:
        for start, count in runs:
            if start is not None:
                self._mark(start, count, used=False)

    # Records.

    def _record(self, number: int) -> bytes:
        size = self.volume.shape.record_size
        return unprotected(self._table.read(number * size, size), b"FILE", f"record {number}")

    def _put_record(self, number: int, data: bytes) -> None:
        size = self.volume.shape.record_size
        usa = r.FileRecord.decode(data).usa_ofs
        self._table.write(number * size, protected(data.ljust(size, b"\0"), usa))

    def _own_types(self, number: int) -> set[int]:
        return {one.type for _, one in placed_attributes(self.volume, self._record(number), f"record {number}")}

    def _put_attributes(
        self, number: int, goes: Callable[[Found], bool], made: Iterable[Callable[[int], bytes]]
    ) -> None:
        """Put attributes, made by their instance numbers, in the place of those that go; times are set.

        Raises:
            CannotChangeError: the record has no room for them.
        """
        data = self._record(number)
        head = r.FileRecord.decode(data)
        kept, instance = list[bytes](), head.next_attr_instance
        for place, one in placed_attributes(self.volume, data, f"record {number}"):
            if not goes(one):
                kept.append(data[place.start : place.end])
        for make in made:
            kept.append(make(instance))
            instance += 1
        kept.sort(key=_attribute_order)
        body = b"".join(self._timed(one) for one in kept) + r.END.to_bytes(4, "little")
        used = align_up(head.attrs_offset + len(body), 8)
        if used > len(data):
            raise CannotChangeError(f"the record of file {number} has no room for it", BY_GUEST)
        changed = replace(head, bytes_in_use=used, next_attr_instance=instance & 0xFFFF)
        whole = changed.encode() + data[r.FileRecord.size : head.attrs_offset] + body
        self._put_record(number, whole.ljust(len(data), b"\0"))

    def _timed(self, attribute: bytes) -> bytes:
        """Return an attribute of a record with the time of the change, if it is the one that has times."""
        if int.from_bytes(attribute[:4], "little") != r.STANDARD_INFORMATION or attribute[8]:
            return attribute
        start = r.ResidentHead.decode(attribute[r.AttributeHead.size :]).value_offset
        return attribute[: start + 8] + struct.pack("<QQ", self._now, self._now) + attribute[start + 24 :]

    def _take_record(self) -> tuple[int, int]:
        """Return the number and the sequence number of a record that was free, and is marked as used.

        Raises:
            RefusedError: there is none.
        """
        size = self.volume.shape.record_size
        count = self._table.size // size
        used = self._records_map().read(0, min(-(-count // 8), 1 << 24))
        bits = np.unpackbits(np.frombuffer(used, dtype=np.uint8), bitorder="little")[:count]
        for number in np.flatnonzero(bits[_FIRST_OF_USERS:] == 0).tolist():
            place = number + _FIRST_OF_USERS
            data = self._table.read(place * size, size)
            if data[:4] == b"FILE" and int.from_bytes(data[22:24], "little") & r.IN_USE:
                continue
            sequence = int.from_bytes(data[16:18], "little") if data[:4] == b"FILE" else 1
            self._mark_record(place, used=True)
            return place, sequence or 1
        self._grow_table(count)
        return self._take_record()

    def _grow_table(self, count: int) -> None:
        """Make the table of files, which has `count` records, longer by some that are free."""
        if r.ATTRIBUTE_LIST in self._own_types(r.MFT):
            raise CannotChangeError("the ntfs describes its table of files by several records", BY_GUEST)
        size = self.volume.shape.record_size
        more = align_up(_MORE_RECORDS * size, self._cluster) // size
        data, bits = (one_of(self._records(r.MFT), kind, "", "$MFT") for kind in (r.DATA, r.BITMAP))
        if bits.value is not None or any(start is None for start, _ in (*data.runs, *bits.runs)):
            raise CannotChangeError("the ntfs keeps its table of files in an unusual form", BY_GUEST)
        runs = self._take(more * size // self._cluster)
        blank = b"".join(file_record(number, 1, 0, [], size) for number in range(count, count + more))
        self._write_runs(runs, blank)
        room, need = sum(length for _, length in bits.runs) * self._cluster, align_up(-(-(count + more) // 8), 8)
        more_bits = self._take(-(-(need - room) // self._cluster)) if need > room else []
        self._write_runs(more_bits, bytes(sum(length for _, length in more_bits) * self._cluster))
        first = FirstRecords(self.volume)
        for kind, found, added, length in (
            (r.BITMAP, bits, more_bits, need),
            (r.DATA, data, runs, (count + more) * size),
        ):
            place, taken = find(first.get(r.MFT), kind, "", r.MFT)
            instance = r.AttributeHead.decode(bytes(first.get(r.MFT)[place:])).instance
            every = _as_one([*[(Cluster(start or 0), many) for start, many in found.runs], *added])
            first.replace(r.MFT, place, taken, _in_runs(every, length, self._cluster, instance, kind))
        self._records = records_of(self.volume, system_file(self.volume, r.MFT))
        self._table = self._records.table
        there = self._records_map()
        there.write(bits.size, bytes(need - bits.size))
        self._tell_size(r.ROOT, r.MFT, self._table.size, self._table.size)

    def _records_map(self) -> BlockDevice:
        found = one_of(self._records(r.MFT), r.BITMAP, "", "$MFT")
        if found.value is not None:
            raise CannotChangeError("the ntfs keeps the map of its table in an unusual form", BY_GUEST)
        return content(self.volume, found, 1 << 24)

    def _mark_record(self, number: int, *, used: bool) -> None:
        there = self._records_map()
        byte = there.read(number // 8, 1)[0]
        there.write(number // 8, bytes([byte | 1 << number % 8 if used else byte & ~(1 << number % 8)]))

    # Files and folders.

    def _make(self, parent: Node, name: str, *, is_folder: bool, mounts: UUID | None = None) -> Node:
        above = self._record(parent.number)
        if self.look_up(parent, name) is not None:
            raise RefusedError(f"{name} is there already")
        if (
            not 0 < len(name.encode("utf-16-le", "surrogatepass")) // 2 <= 255
            or name[-1] in ". "
            or set(name) & set('\\/:*?"<>|\0')
        ):
            raise RefusedError(f"{name}: this cannot be a name in ntfs")
        number, sequence = self._take_record()
        reference = number | sequence << 48
        about = self._about(self.held_of(parent))
        kind = (r.IS_REPARSE_POINT if mounts else 0) | (0 if is_folder else _ARCHIVE)
        information = r.StandardInformation(
            creation_time=self._now,
            last_data_change_time=self._now,
            last_mft_change_time=self._now,
            last_access_time=self._now,
            file_attributes=kind,
            security_id=about.security_id,
        )
        parent_reference = parent.number | r.FileRecord.decode(above).sequence_number << 48
        named = self._file_name(name, parent_reference, kind, is_folder=is_folder, tag=MOUNT_POINT if mounts else 0)
        own = [Attribute(r.STANDARD_INFORMATION, value=information.encode())]
        own.append(Attribute(r.FILE_NAME, value=named, indexed=True))
        if is_folder:
            own += index("$I30", r.FILE_NAME, r.BY_NAME, [], self._cluster)
        else:
            own.append(Attribute(r.DATA, value=b""))
        if mounts:
            own.append(Attribute(r.REPARSE_POINT, value=mount_value(mounts)))
        flags = r.IN_USE | (r.IS_FOLDER if is_folder else 0)
        size = self.volume.shape.record_size
        self._table.write(number * size, file_record(number, sequence, flags, own, size))
        self._change_index(parent.number, lambda kept: [*kept, (name, reference, named)])
        if mounts:
            self._change_points(lambda keys: [*keys, (MOUNT_POINT, reference)])
        return self.node(reference)

    def _file_name(self, name: str, parent: int, kind: int, *, is_folder: bool, tag: int) -> bytes:
        text = name.encode("utf-16-le", "surrogatepass")
        return (
            r.FileName(
                parent_directory=parent,
                creation_time=self._now,
                last_data_change_time=self._now,
                last_mft_change_time=self._now,
                last_access_time=self._now,
                file_attributes=kind | (r.FOLDER_NAMES if is_folder else 0),
                reparse_value=tag,
                file_name_length=len(text) // 2,
                file_name_type=_PLAIN_NAME,
            ).encode()
            + text
        )

    # Indexes.

    def _names_in(self, number: int, found: tuple[Found, ...]) -> list[tuple[str, int, bytes]]:
        """Return the entries of a folder: name, reference and key."""
        every = []
        for entries, where in index_entries(self.volume, list(found), "$I30", f"record {number}"):
            for one, key in entries:
                named = r.FileName.decode(key[: one.key_length], where)
                text = key[r.FileName.size : r.FileName.size + 2 * named.file_name_length]
                every.append((text.decode("utf-16-le", "surrogatepass"), one.reference, key[: one.key_length]))
        return every

    def _change_index(
        self, number: int, change: Callable[[list[tuple[str, int, bytes]]], list[tuple[str, int, bytes]]]
    ) -> None:
        """Make the index of a folder anew from its entries, changed."""
        held = Held(number, self.held_of(self.node(number)).attributes)
        rows = change(self._names_in(number, held.attributes))
        rows.sort(key=lambda one: (self._order(one[0]), one[0]))
        self._put_index(held, "$I30", r.FILE_NAME, r.BY_NAME, [entry(reference, key) for _, reference, key in rows])

    def _put_index(self, held: Held, name: str, kind: int, rule: int, entries: list[bytes]) -> None:
        """Put an index in the place of one that a file has: in its record, or in blocks where it has no room there."""
        if r.ATTRIBUTE_LIST in self._own_types(held.number):
            raise CannotChangeError(f"the folder of record {held.number} is described by several records", BY_GUEST)
        root = held.get(r.INDEX_ROOT, name)
        size = r.IndexRoot.decode(root.value or b"", "an index").index_block_size if root else r.INDEX_BLOCK
        if size != r.INDEX_BLOCK:
            raise CannotChangeError(f"the index of record {held.number} has blocks of {size} bytes", BY_GUEST)
        old = held.get(r.INDEX_ALLOCATION, name)

        def goes(one: Found) -> bool:
            return one.name == name and one.type in (r.INDEX_ROOT, r.INDEX_ALLOCATION, r.BITMAP)

        try:
            made = index(name, kind, rule, entries, self._cluster)
            self._put_attributes(held.number, goes, [one.encode for one in made])
            self._give(old.runs if old else ())
            return
        except CannotChangeError:
            if not entries:
                raise
        built = index_blocks(entries, self._cluster)
        space = align_up(len(built) * r.INDEX_BLOCK, self._cluster)
        self._give(old.runs if old else ())
        place = self._take(space // self._cluster)
        if len(place) > 1:
            raise RefusedError("what is free of its filesystem is in too many pieces; make room in it")
        made = index(name, kind, rule, entries, self._cluster, (place[0][0], len(built) * r.INDEX_BLOCK))
        self._device.write(self.volume.shape.start_of(place[0][0]), b"".join(built))
        self._put_attributes(held.number, goes, [one.encode for one in made])

    def _change_points(self, change: Callable[[list[tuple[int, int]]], list[tuple[int, int]]]) -> None:
        """Change the volume's list of reparse points: tags and references."""
        extend = self.node(r.EXTEND)
        point = self.look_up(extend, "$Reparse")
        if point is None:
            raise CannotChangeError("the ntfs has no list of reparse points", BY_GUEST)
        held = self.held_of(point)
        keys = []
        for entries, _ in index_entries(self.volume, list(held.attributes), "$R", "$Reparse"):
            keys += [struct.unpack_from("<IQ", key) for one, key in entries if one.key_length >= 12]
        rows = sorted(change(keys))
        entries_now = [view_entry(struct.pack("<IQ", *row), b"") for row in rows]
        self._put_index(held, "$R", 0, r.BY_NUMBERS, entries_now)

    def _tell_size(self, folder: int, number: int, size: int, allocated: int) -> None:
        """Tell a file's new size in its folder's index."""

        def change(kept: list[tuple[str, int, bytes]]) -> list[tuple[str, int, bytes]]:
            return [
                (name, reference, _sized(key, size, allocated) if reference & RECORD_BITS == number else key)
                for name, reference, key in kept
            ]

        self._change_index(folder, change)


def edited(device: BlockDevice, moment: int) -> NtfsEdited:
    """Return the files on a device that keeps all writes back; `moment` is seconds since 1970.

    Raises:
        ImageError: it is not sound.
        CannotChangeError: it is not clean, or its guest sleeps.
    """
    state = read(device, image_place(""), deep=False)
    if state is None:
        raise ImageError("there is no boot sector of an NTFS")
    refuse_unknown(state, UNDERSTOOD)
    return NtfsEdited(files_of(device), moment)


def _attribute_order(data: bytes) -> tuple[int, str]:
    head = r.AttributeHead.decode(data)
    name = data[head.name_offset : head.name_offset + 2 * head.name_length]
    return head.type, name.decode("utf-16-le", "surrogatepass")


def _sized(key: bytes, size: int, allocated: int) -> bytes:
    return replace(r.FileName.decode(key), allocated_size=allocated, data_size=size).encode() + key[r.FileName.size :]


def _as_one(runs: Iterable[tuple[Cluster, int]]) -> list[tuple[Cluster, int]]:
    """Return runs with those that touch made one."""
    result: list[tuple[Cluster, int]] = []
    for start, count in runs:
        last = result[-1] if result else None
        if last is not None and last[0] + last[1] == start:
            result[-1] = (last[0], last[1] + count)
        else:
            result.append((start, count))
    return result


def _in_runs(runs: list[tuple[Cluster, int]], size: int, cluster: int, instance: int, kind: int = r.DATA) -> bytes:
    """Return the bytes of an unnamed attribute in clusters: of data, or of another kind."""
    count = sum(length for _, length in runs)
    pairs = mapping_pairs((start, length) for start, length in runs)
    offset = r.AttributeHead.size + r.RunsHead.size
    length = align_up(offset + len(pairs), 8)
    rest = r.RunsHead(
        highest_vcn=max(count - 1, 0) if count else (1 << 64) - 1,
        mapping_pairs_offset=offset,
        allocated_size=count * cluster,
        data_size=size,
        initialized_size=size,
    ).encode()
    head = r.AttributeHead(type=kind, length=length, non_resident=1, name_offset=offset, instance=instance)
    return (head.encode() + rest + pairs).ljust(length, b"\0")
