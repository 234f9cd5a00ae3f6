"""A hive of the Windows registry: keys and values read, added, changed and removed. Pure: bytes in, bytes out.

The format is that of version 1.3 to 1.6, as it is publicly documented: a base block of 4096 bytes, then bins of whole
4096 bytes that hold cells. Keys, lists of subkeys and of values, values and their data are cells that name one another
by their offsets behind the base block. Nothing in a hive is trusted.
"""

from __future__ import annotations

import struct
from bisect import bisect_left
from collections.abc import Iterator

from narvet.formats.filesystems.upcase import upcased
from narvet.ground.budget import spend
from narvet.ground.errors import ImageError, RefusedError
from narvet.ground.records import Record, raw, u16, u32, u64
from narvet.ground.values import Frozen, replace

BASE = 4096
SZ, BINARY, DWORD = 1, 3, 4
"""Types of values: text, bytes, a number of 32 bits."""

NOWHERE = 0xFFFFFFFF
_BIN_HEAD, _LEAST_CELL = 32, 8
_ASCII_KEY, _ASCII_VALUE = 0x20, 0x1
_INSIDE = 0x80000000  # the data lies in place of its offset
_LONGEST_DATA = 16344  # bytes that one cell holds; more is split
_MOST_LIST = 1012  # subkeys in one list, as Windows has it
_MOST_DEPTH = 64
_LARGEST_VALUE = 1 << 20
_SINCE_1601 = 11_644_473_600


class BaseBlock(Record, title="registry hive base block", size=512):
    """The start of the file, up to its checksum."""

    signature: bytes = raw(0, 4, "", "'regf'")
    primary: int = u32(4, "", "sequence number, raised before a write")
    secondary: int = u32(8, "", "sequence number, raised after it")
    written: int = u64(12, "", "100 nanoseconds since 1601")
    major: int = u32(20, "", "1")
    minor: int = u32(24, "", "3 to 6")
    kind: int = u32(28, "", "0: no log")
    format: int = u32(32, "", "1")
    root: int = u32(36, "bytes", "to the root's cell")
    bins: int = u32(40, "bytes", "of all bins")
    cluster: int = u32(44, "", "1")
    rest: bytes = raw(48, 460, "", "file name, ids")
    checksum: int = u32(508, "", "of the words before it")


class KeyNode(Record, title="registry key", size=76):
    """A key; its name follows."""

    signature: bytes = raw(0, 2, "", "'nk'")
    flags: int = u16(2, "", "0x20 the name is of single bytes")
    written: int = u64(4, "", "")
    access: int = u32(12, "", "")
    parent: int = u32(16, "bytes", "")
    subkeys: int = u32(20, "", "")
    volatile_subkeys: int = u32(24, "", "")
    subkey_list: int = u32(28, "bytes", "")
    volatile_list: int = u32(32, "bytes", "")
    values: int = u32(36, "", "")
    value_list: int = u32(40, "bytes", "")
    security: int = u32(44, "bytes", "")
    class_name: int = u32(48, "bytes", "")
    longest_subkey: int = u32(52, "bytes", "of a subkey's name, as UTF-16")
    longest_class: int = u32(56, "bytes", "")
    longest_value_name: int = u32(60, "bytes", "")
    longest_value: int = u32(64, "bytes", "")
    work: int = u32(68, "", "")
    name_length: int = u16(72, "bytes", "")
    class_length: int = u16(74, "bytes", "")


class ValueNode(Record, title="registry value", size=20):
    """A value; its name follows."""

    signature: bytes = raw(0, 2, "", "'vk'")
    name_length: int = u16(2, "bytes", "")
    data_size: int = u32(4, "bytes", "the highest bit: it lies in place of the offset")
    data: int = u32(8, "bytes", "")
    type: int = u32(12, "", "")
    flags: int = u16(16, "", "1 the name is of single bytes")
    spare: int = u16(18, "", "")


class Value(Frozen):
    """A value of a key."""

    name: str
    type: int
    data: bytes

    @property
    def text(self) -> str:
        """Its data as text, up to the first zero."""
        return self.data.decode("utf-16-le", "replace").split("\0")[0]

    @property
    def number(self) -> int | None:
        """Its data as a number of 32 bits, None if it is none."""
        return int.from_bytes(self.data, "little") if self.type == DWORD and len(self.data) == 4 else None


class Hive:
    """A hive, of which nothing is changed but what is asked for; `finished` gives its bytes."""

    def __init__(self, data: bytes) -> None:
        if len(data) < BASE:
            raise ImageError("the hive is cut short")
        self.base = BaseBlock.decode(data[: BaseBlock.size])
        if self.base.signature != b"regf" or self.base.major != 1 or self.base.format != 1:
            raise ImageError("this is not a hive of the registry")
        if _checksum(data) != self.base.checksum:
            raise ImageError("the hive's first block does not match its checksum")
        if self.base.bins % BASE or BASE + self.base.bins > len(data):
            raise ImageError("the hive's bins leave its file")
        self._tail = data[BASE + self.base.bins :]
        self._head = data[:BASE]
        self._data = bytearray(data[BASE : BASE + self.base.bins])
        self._free: list[tuple[int, int]] | None = None
        self._changed = False

    @property
    def is_clean(self) -> bool:
        """Whether no log holds changes that are not in place yet."""
        return self.base.primary == self.base.secondary

    # Reading.

    def _cell(self, offset: int, least: int, signature: bytes = b"") -> bytes:
        """Return what an allocated cell holds, at least so many bytes.

        Raises:
            ImageError: there is none.
        """
        spend()
        if offset % 8 or not 0 <= offset <= len(self._data) - _LEAST_CELL:
            raise ImageError(f"the hive has no cell at {offset}")
        size = -struct.unpack_from("<i", self._data, offset)[0]
        if size < least + 4 or offset + size > len(self._data):
            raise ImageError(f"the hive's cell at {offset} has {size} bytes")
        data = bytes(self._data[offset + 4 : offset + size])
        if data[: len(signature)] != signature:
            raise ImageError(f"the hive's cell at {offset} is not what leads to it says")
        return data

    def _key(self, offset: int) -> tuple[KeyNode, str]:
        data = self._cell(offset, KeyNode.size, b"nk")
        node = KeyNode.decode(data)
        name = data[KeyNode.size : KeyNode.size + node.name_length]
        return node, name.decode("latin-1" if node.flags & _ASCII_KEY else "utf-16-le", "replace")

    def _subkeys(self, node: KeyNode) -> Iterator[int]:
        """Yield the subkeys of a key in order."""
        if node.subkeys:
            yield from (key for _, keys in self._lists(node.subkey_list) for key in keys)

    def _lists(self, offset: int, depth: int = 0) -> Iterator[tuple[int, list[int]]]:
        """Yield each list of subkeys below a list: where it lies, and the keys in it."""
        data = self._cell(offset, 4)
        kind, count = data[:2], int.from_bytes(data[2:4], "little")
        each = {b"lf": 8, b"lh": 8, b"li": 4, b"ri": 4}.get(kind)
        if each is None or 4 + each * count > len(data) or depth > 1:
            raise ImageError(f"the hive's cell at {offset} is no list of subkeys")
        inside = [int.from_bytes(data[place : place + 4], "little") for place in range(4, 4 + each * count, each)]
        if kind != b"ri":
            yield offset, inside
            return
        for one in inside:
            yield from self._lists(one, depth + 1)

    def find(self, path: str) -> int | None:
        """Return where a key lies by its path from the root, with backslashes between names; None if there is none."""
        offset = self.base.root
        for depth, name in enumerate(part for part in path.split("\\") if part):
            if depth == _MOST_DEPTH:
                return None
            wanted = upcased(name)
            node, _ = self._key(offset)
            found = next((key for key in self._subkeys(node) if upcased(self._key(key)[1]) == wanted), None)
            if found is None:
                return None
            offset = found
        return offset

    def subkeys(self, path: str) -> list[str]:
        """Return the names of the subkeys of a key, none where there is no such key."""
        offset = self.find(path)
        return [] if offset is None else [self._key(key)[1] for key in self._subkeys(self._key(offset)[0])]

    def values(self, path: str) -> list[Value]:
        """Return the values of a key, none where there is no such key."""
        offset = self.find(path)
        return [] if offset is None else [self._value(one) for one in self._value_cells(self._key(offset)[0])]

    def value(self, path: str, name: str) -> Value | None:
        """Return a value of a key by its name, None if there is none."""
        wanted = upcased(name)
        return next((one for one in self.values(path) if upcased(one.name) == wanted), None)

    def _value_cells(self, node: KeyNode) -> list[int]:
        if not node.values:
            return []
        data = self._cell(node.value_list, 4 * node.values)
        return [int.from_bytes(data[place : place + 4], "little") for place in range(0, 4 * node.values, 4)]

    def _value(self, offset: int) -> Value:
        data = self._cell(offset, ValueNode.size, b"vk")
        node = ValueNode.decode(data)
        raw_name = data[ValueNode.size : ValueNode.size + node.name_length]
        name = raw_name.decode("latin-1" if node.flags & _ASCII_VALUE else "utf-16-le", "replace")
        size = node.data_size & ~_INSIDE
        if node.data_size & _INSIDE:
            return Value(name, node.type, node.data.to_bytes(4, "little")[: min(size, 4)])
        if size > _LARGEST_VALUE:
            raise ImageError(f"the hive's value at {offset} has {size} bytes")
        return Value(name, node.type, self._content(node.data, size) if size else b"")

    def _content(self, offset: int, size: int) -> bytes:
        """Return the data of a value: in one cell, or in several that a list names."""
        if size <= _LONGEST_DATA or self.base.minor < 4:
            return self._cell(offset, size)[:size]
        head = self._cell(offset, 8, b"db")
        count, where = struct.unpack_from("<HI", head, 2)
        listed = self._cell(where, 4 * count)
        parts = (self._cell(int.from_bytes(listed[4 * n : 4 * n + 4], "little"), 1) for n in range(count))
        data = b"".join(part[:_LONGEST_DATA] for part in parts)[:size]
        if len(data) != size:
            raise ImageError(f"the hive's value at {offset} is cut short")
        return data

    # Changing.

    def set_value(self, path: str, value: Value) -> None:
        """Give a key a value, in the place of one of that name; the key is made, with those above it, if need be."""
        there = self.value(path, value.name)
        if there is not None and (there.type, there.data) == (value.type, value.data):
            return
        if len(value.data) > _LONGEST_DATA:
            raise RefusedError(f"a value of {len(value.data)} bytes is not written to a hive")
        self.remove_value(path, value.name)
        key = self._made(path)
        node, _ = self._key(key)
        cell = self._new_value(value)
        listed = [*self._value_cells(node), cell]
        if node.values:
            self._release(node.value_list)
        where = self._put(b"".join(one.to_bytes(4, "little") for one in listed))
        name_size = 2 * len(value.name.encode("utf-16-le")) // 2
        self._put_key(
            key,
            replace(
                node,
                values=len(listed),
                value_list=where,
                longest_value_name=max(node.longest_value_name, name_size),
                longest_value=max(node.longest_value, len(value.data)),
            ),
        )

    def _new_value(self, value: Value) -> int:
        plain = all(ord(sign) < 256 for sign in value.name)
        name = value.name.encode("latin-1" if plain else "utf-16-le")
        if len(value.data) <= 4:
            size, data = len(value.data) | _INSIDE, int.from_bytes(value.data.ljust(4, b"\0"), "little")
        else:
            size, data = len(value.data), self._put(value.data)
        node = ValueNode(
            signature=b"vk", name_length=len(name), data_size=size, data=data, type=value.type,
            flags=_ASCII_VALUE if plain else 0, spare=0,
        )  # fmt: skip
        return self._put(node.encode() + name)

    def remove_value(self, path: str, name: str) -> bool:
        """Take a value out of a key; return whether there was one."""
        key = self.find(path)
        if key is None:
            return False
        node, _ = self._key(key)
        cells, wanted = self._value_cells(node), upcased(name)
        gone = next((one for one in cells if upcased(self._value(one).name) == wanted), None)
        if gone is None:
            return False
        about = ValueNode.decode(self._cell(gone, ValueNode.size))
        if not about.data_size & _INSIDE and about.data_size:
            if about.data_size > _LONGEST_DATA and self.base.minor >= 4:
                raise RefusedError(f"a value of {about.data_size} bytes is not taken out of a hive")
            self._release(about.data)
        self._release(gone)
        self._release(node.value_list)
        left = [one for one in cells if one != gone]
        where = self._put(b"".join(one.to_bytes(4, "little") for one in left)) if left else NOWHERE
        self._put_key(key, replace(node, values=len(left), value_list=where))
        return True

    def _made(self, path: str) -> int:
        """Return where a key lies; it and those above it are made if need be."""
        there = self.find(path)
        if there is not None:
            return there
        above, _, name = path.rpartition("\\")
        parent = self._made(above)
        node, _ = self._key(parent)
        plain = all(ord(sign) < 256 for sign in name)
        text = name.encode("latin-1" if plain else "utf-16-le")
        made = KeyNode(
            signature=b"nk",
            flags=_ASCII_KEY if plain else 0,
            written=node.written,
            parent=parent,
            subkey_list=NOWHERE,
            volatile_list=NOWHERE,
            value_list=NOWHERE,
            security=node.security,
            class_name=NOWHERE,
            name_length=len(text),
        )
        self._share_security(node.security)
        key = self._put(made.encode() + text)
        self._add_subkey(parent, key, name)
        return key

    def _share_security(self, offset: int) -> None:
        """Count one key more that has a security descriptor."""
        data = self._cell(offset, 20, b"sk")
        struct.pack_into("<I", self._data, offset + 4 + 12, int.from_bytes(data[12:16], "little") + 1)

    def _add_subkey(self, parent: int, key: int, name: str) -> None:
        """Enter a key among those of its parent, in the order of their names."""
        node, _ = self._key(parent)
        lists = list(self._lists(node.subkey_list)) if node.subkeys else []
        order = upcased(name)
        changed, where = False, node.subkey_list
        if not lists:
            where = self._put(self._list([key]))
        for position, (offset, keys) in enumerate(lists):
            last = position == len(lists) - 1
            if not last and upcased(self._key(keys[-1])[1]) < order:
                continue
            at = sum(upcased(self._key(one)[1]) < order for one in keys)
            keys.insert(at, key)
            parts = [keys] if len(keys) <= _MOST_LIST else [keys[: len(keys) // 2], keys[len(keys) // 2 :]]
            self._release(offset)
            fresh = [self._put(self._list(part)) for part in parts]
            offsets = [one for one, _ in lists]
            offsets[position : position + 1] = fresh
            changed = len(lists) > 1 or len(fresh) > 1
            where = fresh[0]
            break
        if changed:
            if len(lists) > 1:
                self._release(node.subkey_list)
            where = self._put(b"ri" + struct.pack(f"<H{len(offsets)}I", len(offsets), *offsets))
        size = len(name.encode("utf-16-le"))
        self._put_key(
            parent,
            replace(node, subkeys=node.subkeys + 1, subkey_list=where, longest_subkey=max(node.longest_subkey, size)),
        )

    def _list(self, keys: list[int]) -> bytes:
        """Return a list of subkeys with hashes of their names, or before version 1.5 with how those begin."""
        hashed = self.base.minor >= 5
        data = (b"lh" if hashed else b"lf") + len(keys).to_bytes(2, "little")
        for key in keys:
            name = self._key(key)[1]
            hint = _name_hash(name) if hashed else name.encode("latin-1", "replace")[:4].ljust(4, b"\0")
            data += key.to_bytes(4, "little") + hint
        return data

    def _put_key(self, offset: int, node: KeyNode) -> None:
        data = self._cell(offset, KeyNode.size, b"nk")
        self._data[offset + 4 : offset + 4 + len(data)] = node.encode() + data[KeyNode.size :]
        self._changed = True

    # Cells.

    def _cells(self) -> Iterator[tuple[int, int]]:
        """Yield offset and signed size of every cell, bin by bin; negative sizes are in use."""
        place = 0
        while place < len(self._data):
            if self._data[place : place + 4] != b"hbin":
                raise ImageError(f"the hive's bin at {place} is none")
            size = int.from_bytes(self._data[place + 8 : place + 12], "little")
            if size < BASE or size % BASE or place + size > len(self._data):
                raise ImageError(f"the hive's bin at {place} has {size} bytes")
            cell, end = place + _BIN_HEAD, place + size
            while cell < end:
                length = struct.unpack_from("<i", self._data, cell)[0]
                if abs(length) < _LEAST_CELL or length % 8 or cell + abs(length) > end:
                    raise ImageError(f"the hive's cell at {cell} has {length} bytes")
                yield cell, length
                cell += abs(length)
            place = end

    def _spare(self) -> list[tuple[int, int]]:
        if self._free is None:
            self._free = [(cell, length) for cell, length in self._cells() if length > 0]
        return self._free

    def _put(self, content: bytes) -> int:
        """Return a new cell with some content; the hive grows by a bin where it has no room."""
        need, spare = max(-(-(len(content) + 4) // 8) * 8, _LEAST_CELL), self._spare()
        index = next((index for index, (_, length) in enumerate(spare) if length >= need), None)
        if index is None:
            index = len(spare)
            spare.append(self._grow(need))
        cell, length = spare.pop(index)
        if length > need:
            struct.pack_into("<i", self._data, cell + need, length - need)
            spare.insert(index, (cell + need, length - need))
        self._data[cell : cell + need] = struct.pack("<i", -need) + content.ljust(need - 4, b"\0")
        self._changed = True
        return cell

    def _grow(self, need: int) -> tuple[int, int]:
        """Add a bin at the end; return its one free cell."""
        size, place = -(-(need + _BIN_HEAD) // BASE) * BASE, len(self._data)
        head = b"hbin" + struct.pack("<II", place, size)
        self._data += head.ljust(_BIN_HEAD, b"\0") + struct.pack("<i", size - _BIN_HEAD)
        self._data += bytes(place + size - len(self._data))
        return place + _BIN_HEAD, size - _BIN_HEAD

    def _release(self, cell: int) -> None:
        """Make a cell free; what it held is gone."""
        length, spare = len(self._cell(cell, 4)) + 4, self._spare()
        index = bisect_left(spare, (cell, 0))
        low = index
        if index < len(spare) and spare[index][0] == cell + length:
            length, index = length + spare[index][1], index + 1
        if low and sum(spare[low - 1]) == cell:
            low, (cell, before) = low - 1, spare[low - 1]
            length += before
        spare[low:index] = [(cell, length)]
        self._data[cell : cell + length] = struct.pack("<i", length) + bytes(length - 4)
        self._changed = True

    def finished(self, moment: int) -> bytes | None:
        """Return the bytes of the hive as it is to be, None where nothing was changed.

        `moment` is seconds since 1970.
        """
        if not self._changed:
            return None
        base = replace(
            self.base,
            primary=self.base.primary + 1 & 0xFFFFFFFF,
            secondary=self.base.secondary + 1 & 0xFFFFFFFF,
            written=(moment + _SINCE_1601) * 10**7,
            bins=len(self._data),
        )
        head = base.encode() + self._head[BaseBlock.size :]
        head = head[:508] + struct.pack("<I", _checksum(head)) + head[512:]
        grown = len(self._data) - self.base.bins
        return head + bytes(self._data) + self._tail[grown:]


def _checksum(data: bytes) -> int:
    """Return the checksum of a base block: its first 127 words, one after another, by exclusive or."""
    total = 0
    for word in struct.unpack_from("<127I", data):
        total ^= word
    return {0: 1, 0xFFFFFFFF: 0xFFFFFFFE}.get(total, total)


def _name_hash(name: str) -> bytes:
    total = 0
    for unit in upcased(name):
        total = total * 37 + unit & 0xFFFFFFFF
    return total.to_bytes(4, "little")
