"""The hash tree of a large ext4 folder: the block that a name belongs to, and blocks that are split in two.

Section "Hash Tree Directories" of the kernel's documentation of ext4. Pure: blocks in, blocks out. A root or node holds
pairs of a hash and the block from which on names with that hash and higher ones lie; where names with one hash are
spread over two blocks, the second has the lowest bit of its hash set.
"""

from __future__ import annotations

import struct
from collections.abc import Callable

from narvet.formats.filesystems.ext4.entries import block_of, entries_of, needed, with_entry
from narvet.formats.filesystems.ext4.folders import NODE_COUNTS, ROOT_COUNTS, hash_block_sum
from narvet.formats.filesystems.ext4.hashes import TEA, UNSIGNED, name_hash
from narvet.ground.errors import ImageError, RefusedError
from narvet.ground.values import Draft, Frozen, field

_PAIR = struct.Struct("<II")
_VERSION, _LEVELS = 28, 30
_MOST_LEVELS, _MOST_LARGE = 1, 2  # of nodes between the root and the blocks of names; with large_dir


class Rules(Frozen):
    """How a filesystem keeps hash trees: bytes of a block, where names' hashes start, and whether there are checksums.

    `room` is the bytes of a block that entries can take.
    """

    block: int
    room: int
    seed: bytes
    unsigned: bool
    checksums: bool
    large: bool


class _Node(Draft):
    """A root or node: the block that it is, and its pairs, the first of which has no hash."""

    number: int
    pairs: list[tuple[int, int]]
    limit: int


class HashTree(Draft):
    """A folder's hash tree; `read` gives a block of the folder by its number, `count` is how many it has.

    What is changed is kept in `changed` by the block's number, without checksums, blocks behind the last one too;
    those among it that are roots or nodes are in `nodes`.
    """

    rules: Rules
    read: Callable[[int], bytes]
    count: int
    changed: dict[int, bytes] = field(default_factory=dict)
    nodes: set[int] = field(default_factory=set)

    def block(self, number: int) -> bytes:
        """Return a block of the folder as it is now."""
        if number in self.changed:
            return self.changed[number]
        if not 0 <= number < self.count:
            raise ImageError(f"a hash tree leads to block {number}, which its folder does not have")
        return self.read(number)

    def hash_of(self, name: bytes) -> int:
        """Return the hash by which a name is found.

        Raises:
            RefusedError: the folder uses a hash that is not known here.
        """
        version = self.block(0)[_VERSION]
        if version > TEA + UNSIGNED:
            raise RefusedError(f"a folder in it finds its names by a hash that is not known here (version {version})")
        return name_hash(name, version + (UNSIGNED if self.rules.unsigned and version <= TEA else 0), self.rules.seed)

    def insert(self, name: bytes, inode: int, kind: int) -> None:
        """Put an entry for a name into the block that it belongs to, which is split where it is full."""
        wanted = self.hash_of(name)
        path = self._path(wanted)
        node, position = path[-1]
        number = node.pairs[position][1]
        leaf = self._entries_part(number)
        changed = with_entry(leaf, name, inode, kind)
        if changed is not None:
            self.changed[number] = changed
            return
        low, high, border, goes_on = self._halves(leaf)
        added = self._append(high)
        self.changed[number] = low
        target = added if wanted >= border else number
        changed = with_entry(self.changed[target], name, inode, kind)
        if changed is None:
            raise RefusedError("a folder in it has names with one hash in such number that there is no room for more")
        self.changed[target] = changed
        node.pairs.insert(position + 1, (border + goes_on, added))
        if len(node.pairs) <= node.limit:
            self.changed[node.number] = self._encoded(node)
        else:
            self._rebuild(node)

    def _entries_part(self, number: int) -> bytes:
        return self.block(number)[: self.rules.room]

    def _append(self, data: bytes) -> int:
        number, self.count = self.count, self.count + 1
        self.changed[number] = data
        return number

    def _halves(self, leaf: bytes) -> tuple[bytes, bytes, int, int]:
        """Return a block's entries as two blocks by their hashes, the second's first hash, and 1 if both have that."""
        every = sorted((self.hash_of(one.name), one.inode, one.kind, one.name) for one in entries_of(leaf) if one.inode)
        taken, split = 0, len(every)
        while split > 1 and taken + needed(every[split - 1][3]) <= self.rules.room // 2:
            split -= 1
            taken += needed(every[split][3])
        split = min(split, len(every) - 1)
        border = every[split][0]
        low, high = ([one[1:] for one in part] for part in (every[:split], every[split:]))
        return (
            block_of(low, self.rules.room),
            block_of(high, self.rules.room),
            border,
            int(every[split - 1][0] == border),
        )

    def _node(self, number: int) -> _Node:
        data = self.block(number)
        counts = NODE_COUNTS if number else ROOT_COUNTS
        limit, count = struct.unpack_from("<HH", data, counts)
        most = (self.rules.block - counts) // 8 - self.rules.checksums
        if limit != most or not 0 < count <= limit:
            raise ImageError(f"block {number} of a folder is no node of a hash tree")
        first = (0, int.from_bytes(data[counts + 4 : counts + 8], "little"))
        return _Node(number, [first, *_PAIR.iter_unpack(data[counts + 8 : counts + 8 * count])], limit)

    @property
    def _levels(self) -> int:
        levels = self.block(0)[_LEVELS]
        if levels > (_MOST_LARGE if self.rules.large else _MOST_LEVELS):
            raise ImageError(f"a hash tree has {levels} levels")
        return levels

    def _path(self, wanted: int) -> list[tuple[_Node, int]]:
        """Return the nodes that lead to the block of a hash, with the position in each."""
        path, number = [], 0
        for _ in range(self._levels + 1):
            node = self._node(number)
            position = max(index for index, (low, _) in enumerate(node.pairs) if not index or low <= wanted)
            path.append((node, position))
            number = node.pairs[position][1]
        return path

    def _leaves(self, changed: _Node | None = None) -> list[tuple[int, int]]:
        """Return hash and number of all blocks of names in order; `changed` is a node that is not written yet."""
        level = [(0, 0)]
        for _ in range(self._levels + 1):
            below: list[tuple[int, int]] = []
            for low, number in level:
                node = changed if changed is not None and changed.number == number else self._node(number)
                below += [(low, node.pairs[0][1]), *node.pairs[1:]]
                if len(below) > self.count:
                    raise ImageError("a hash tree has more blocks than its folder")
            level = below
        return level

    def _nodes_by_level(self) -> list[list[int]]:
        """Return the numbers of the nodes below the root, level by level from the top."""
        found, level = list[list[int]](), [0]
        for _ in range(self._levels):
            level = [number for one in level for _, number in self._node(one).pairs]
            found.append(level)
        return found

    def _rebuild(self, full: _Node) -> None:
        """Spread the pairs anew over more nodes, and levels if needed; `full` is the node that has too many."""
        old, pairs = self._nodes_by_level(), self._leaves(full)
        each = (self.rules.block - NODE_COUNTS) // 8 - self.rules.checksums
        root = self._node(0) if full.number else full
        usual, levels = max(each * 3 // 4, 1), list[list[tuple[int, list[tuple[int, int]]]]]()
        depth = 0
        while len(pairs) > root.limit or depth < len(old):
            have = old[len(old) - 1 - depth] if depth < len(old) else []
            count = max(-(-len(pairs) // usual), len(have))
            numbers = [*have, *(self._append(b"") for _ in range(count - len(have)))]
            size, more = divmod(len(pairs), count)
            nodes, start = list[tuple[int, list[tuple[int, int]]]](), 0
            for index, number in enumerate(numbers):
                end = start + size + (index < more)
                nodes.append((number, pairs[start:end]))
                start = end
            levels.append(nodes)
            pairs = [(part[0][0], number) for number, part in nodes]
            depth += 1
        if depth > (_MOST_LARGE if self.rules.large else _MOST_LEVELS):
            raise RefusedError("a folder in it has as many names as its filesystem lets it have")
        for nodes in levels:
            for number, part in nodes:
                self.changed[number] = self._encoded(_Node(number, part, each))
        self.changed[0] = self._encoded(_Node(0, pairs, root.limit), levels=depth)

    def _encoded(self, node: _Node, levels: int | None = None) -> bytes:
        """Return the bytes of a node, unsigned."""
        if node.number:
            head = bytearray(struct.pack("<IHH", 0, 0xFFFF if self.rules.block == 1 << 16 else self.rules.block, 0))
        else:
            head = bytearray(self.block(0)[:ROOT_COUNTS])
            head[_LEVELS] = self._levels if levels is None else levels
        self.nodes.add(node.number)
        counts = struct.pack("<HHI", node.limit, len(node.pairs), node.pairs[0][1])
        data = bytes(head) + counts + b"".join(_PAIR.pack(*pair) for pair in node.pairs[1:])
        return data.ljust(self.rules.block, b"\0")


def signed_node(data: bytes, seed: int, *, is_root: bool) -> bytes:
    """Return a root or node of a hash tree with its checksum."""
    signed = hash_block_sum(data, seed, ROOT_COUNTS if is_root else NODE_COUNTS)
    if signed is None:
        raise ImageError("a hash tree of a folder has no room for its checksum")
    place, value = signed
    return data[:place] + struct.pack("<I", value) + data[place + 4 :]
