"""What the entries of a FAT32's folders claim: first clusters, lengths, and a folder's links to itself and upwards.

FAT: General Overview of On-Disk Format, 1.03, section "FAT Directory Structure".
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from narvet.formats.filesystems.fat.clusters import Chains, Folder, Item

ENTRY = 32
LARGEST_FOLDER = 2 << 20  # bytes, by the specification: 65,536 entries
_LONG_NAME, _LABEL, _FOLDER = 0x0F, 0x08, 0x10
_DELETED, _DOT = 0xE5, 0x2E


def items_of(chains: Chains, cluster: int, root: int) -> Callable[[bytes, Folder], Iterator[Item]]:
    """Return what yields the items of a folder's entries; `cluster` is bytes, `root` the root's first cluster."""

    def items(data: bytes, folder: Folder) -> Iterator[Item]:
        if folder.first != root:
            fault = _dot_fault(data, folder.first, 0 if folder.parent == root else folder.parent)
            yield from [Item(fault=fault)] if fault else []
        for start, size, is_folder in _entries(data):
            yield _item(chains, start, size, cluster, is_folder=is_folder)

    return items


def _item(chains: Chains, start: int, size: int, cluster: int, *, is_folder: bool) -> Item:
    if not start:
        return Item(fault="a file has bytes, but no clusters" if size or is_folder else "")
    runs, fault = chains.ends(start, len(chains.table))
    held = sum(length for _, length in runs) * cluster
    if not fault and held < size:
        fault = f"has {held} bytes of clusters for {size} bytes"
    if fault:
        return Item(fault=f"a {'folder' if is_folder else 'file'} {fault}")
    return Item(start, tuple(runs), is_folder)


def _start(entry: bytes) -> int:
    return int.from_bytes(entry[20:22], "little") << 16 | int.from_bytes(entry[26:28], "little")


def _entries(data: bytes) -> Iterator[tuple[int, int, bool]]:
    """Yield first cluster, size and kind of every file and folder of a folder's entries."""
    for place in range(0, len(data) - ENTRY + 1, ENTRY):
        entry = data[place : place + ENTRY]
        if not entry[0]:
            return
        attributes = entry[11]
        if entry[0] in (_DELETED, _DOT) or attributes & 0x3F == _LONG_NAME or attributes & _LABEL:
            continue
        yield _start(entry), int.from_bytes(entry[28:32], "little"), bool(attributes & _FOLDER)


def _dot_fault(data: bytes, first: int, parent: int) -> str:
    """Return what is wrong with a folder's entries for itself and for the folder above it (0 for the root)."""
    own, above = data[:ENTRY], data[ENTRY : 2 * ENTRY]
    if own[:11] != b".          " or above[:11] != b"..         ":
        return f"the folder at cluster {first} does not start with its entries for itself and for the one above"
    if _start(own) != first or _start(above) != parent:
        return f"the folder at cluster {first} says that it lies at {_start(own)}, below {_start(above)}"
    return ""
