"""Indexes of NTFS: sorted entries spread over the nodes of a tree, then the bytes of its root and blocks.

What fits lies in the root, in the file's own record. More goes into blocks of 4096 bytes, the root leading to the top.
"""

from __future__ import annotations

from collections.abc import Sequence

from narvet.formats.filesystems.ntfs import records as r
from narvet.formats.filesystems.ntfs.attributes import Attribute, protected
from narvet.ground.units import align_up
from narvet.ground.values import Frozen, replace

_USA = r.IndexBlock.size + r.IndexHeader.size
_FIRST = align_up(_USA + 2 * (r.INDEX_BLOCK // r.STRIDE + 1), 8)
_LEAF_END, _INNER_END = r.IndexEntry.size, r.IndexEntry.size + 8
_NODE_NUMBER = 8  # bytes that an entry with a block below takes more


class Node(Frozen):
    """A block: the positions of its entries, and the numbers of the blocks below, one more than entries, or none."""

    entries: tuple[int, ...]
    below: tuple[int, ...] = ()


def nodes(lengths: Sequence[int]) -> list[Node]:
    """Return the blocks for entries of these sizes in bytes, lower ones first; the last is the top."""
    made: list[Node] = []
    keys, below = list(range(len(lengths))), list[int]()
    while True:
        end, more = (_INNER_END, _NODE_NUMBER) if below else (_LEAF_END, 0)
        groups = _groups([lengths[key] + more for key in keys], r.INDEX_BLOCK - _FIRST - end)
        numbers = range(len(made), len(made) + len(groups))
        for start, stop in groups:
            made.append(Node(tuple(keys[start:stop]), tuple(below[start : stop + 1])))
        if len(groups) == 1:
            return made
        keys, below = [keys[stop] for _, stop in groups[:-1]], list(numbers)


def _groups(lengths: Sequence[int], room: int) -> list[tuple[int, int]]:
    """Return first and end of the entries of each block; the one after each block but the last goes a level up."""
    groups, start, taken = [], 0, 0
    for position, length in enumerate(lengths):
        taken += length
        if taken > room:
            # The last entry of all must not go up, or nothing would be left for the block behind it.
            stop = position if position + 1 < len(lengths) else position - 1
            groups.append((start, stop))
            start, taken = stop + 1, sum(lengths[stop + 1 : position + 1])
    return [*groups, (start, len(lengths))]


def blocks(entries: Sequence[bytes], cluster: int) -> list[bytes]:
    """Return the blocks of a tree of entries."""
    made = nodes([len(entry) for entry in entries])
    return [_block(number, node, entries, cluster) for number, node in enumerate(made)]


def _unit(cluster: int) -> int:
    """Return what blocks are numbered in: clusters, or 512 bytes where clusters are larger than blocks."""
    return cluster if cluster <= r.INDEX_BLOCK else r.STRIDE


def _vcn(number: int, cluster: int) -> int:
    return number * (r.INDEX_BLOCK // _unit(cluster))


def _block(number: int, node: Node, entries: Sequence[bytes], cluster: int) -> bytes:
    below = [_vcn(one, cluster) for one in node.below]
    if below:
        body = b"".join(_leading(entries[key], vcn) for key, vcn in zip(node.entries, below, strict=False))
        body += _end(below[-1])
    else:
        body = b"".join(entries[key] for key in node.entries) + _end(None)
    offset = _FIRST - r.IndexBlock.size
    head = r.IndexBlock(magic=b"INDX", usa_ofs=_USA, usa_count=_words(), index_block_vcn=_vcn(number, cluster))
    header = r.IndexHeader(
        entries_offset=offset,
        index_length=offset + len(body),
        allocated_size=r.INDEX_BLOCK - r.IndexBlock.size,
        flags=r.INDEX_IS_LARGE * bool(below),
    )
    data = (head.encode() + header.encode()).ljust(_FIRST, b"\0") + body
    return protected(data.ljust(r.INDEX_BLOCK, b"\0"), _USA)


def _words() -> int:
    return r.INDEX_BLOCK // r.STRIDE + 1


def _leading(entry: bytes, vcn: int) -> bytes:
    """Return an entry that leads to a block below."""
    head = r.IndexEntry.decode(entry)
    head = replace(head, length=head.length + _NODE_NUMBER, flags=head.flags | r.ENTRY_HAS_NODE)
    return head.encode() + entry[r.IndexEntry.size :] + vcn.to_bytes(8, "little")


def _end(vcn: int | None) -> bytes:
    if vcn is None:
        return r.IndexEntry(length=_LEAF_END, flags=r.ENTRY_IS_LAST).encode()
    head = r.IndexEntry(length=_INNER_END, flags=r.ENTRY_HAS_NODE | r.ENTRY_IS_LAST)
    return head.encode() + vcn.to_bytes(8, "little")


def attributes(
    name: str, kind: int, collation: int, entries: Sequence[bytes], cluster: int, place: tuple[int, int] | None = None
) -> tuple[Attribute, ...]:
    """Return the attributes of an index: its root, and with a `place` (cluster, bytes) those of its blocks."""
    if place is None:
        return (Attribute(r.INDEX_ROOT, name, _root(kind, collation, b"".join(entries) + _end(None), cluster)),)
    start, size = place
    count = size // r.INDEX_BLOCK
    bits = ((1 << count) - 1).to_bytes(align_up(-(-count // 8), 8), "little")
    return (
        Attribute(r.INDEX_ROOT, name, _root(kind, collation, _end(_vcn(count - 1, cluster)), cluster, below=True)),
        Attribute(r.INDEX_ALLOCATION, name, start=start, size=size, cluster=cluster),
        Attribute(r.BITMAP, name, bits),
    )


def _root(kind: int, collation: int, body: bytes, cluster: int, *, below: bool = False) -> bytes:
    root = r.IndexRoot(
        type=kind,
        collation_rule=collation,
        index_block_size=r.INDEX_BLOCK,
        clusters_per_index_block=_vcn(1, cluster),
    )
    size = r.IndexHeader.size + len(body)
    header = r.IndexHeader(
        entries_offset=r.IndexHeader.size, index_length=size, allocated_size=size, flags=r.INDEX_IS_LARGE * below
    )
    return root.encode() + header.encode() + body
