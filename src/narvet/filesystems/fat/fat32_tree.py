"""The folders of a FAT32, walked through: first clusters, lengths and links to themselves, held against the table.

FAT: General Overview of On-Disk Format, 1.03, section "FAT Directory Structure".
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from narvet.budget import spend
from narvet.filesystems.fat.clusters import Chains, Claims, Used

ENTRY = 32
_LONG_NAME, _LABEL, _FOLDER = 0x0F, 0x08, 0x10
_DELETED = 0xE5
_MOST_FAULTS = 20
_LARGEST_FOLDER = 2 << 20  # bytes, by the specification: 65,536 entries


def tree_faults(
    read: Callable[[int, int], bytes],
    chains: Chains,
    used: Used,
    root: int,
    cluster: int,
    *,
    clean: bool,
) -> Iterator[str]:
    """Yield what is wrong with the folders and with what they claim; arguments as those of exFAT's."""
    claims, faults = Claims(), list[str]()
    runs, fault = chains.ends(root, len(chains.table))
    if fault:
        yield f"the root {fault}"
        return
    for run in runs:
        claims.add(*run)
    todo = [(root, root, runs)]
    while todo and len(faults) < _MOST_FAULTS:
        first, parent, runs = todo.pop()
        data = b"".join(read(*run) for run in runs)[:_LARGEST_FOLDER]
        faults += _dot_faults(data, first, 0 if parent == root else parent) if first != root else []
        for start, size, is_folder in _entries(data):
            own, fault = _allocation(chains, start, size, cluster, is_folder=is_folder)
            faults += [fault] if fault else []
            for run in own:
                claims.add(*run)
            if is_folder and own:
                todo.append((start, first, own))
    yield from faults[:_MOST_FAULTS]
    if not faults:
        yield from claims.faults(used, len(chains.table), clean=clean)


def _allocation(
    chains: Chains, start: int, size: int, cluster: int, *, is_folder: bool
) -> tuple[list[tuple[int, int]], str]:
    """Return the clusters of a file or folder as runs, or what is wrong with them."""
    spend()
    if not start:
        return [], "a file has bytes, but no clusters" if size or is_folder else ""
    own, fault = chains.ends(start, len(chains.table))
    held = sum(length for _, length in own) * cluster
    if not fault and held < size:
        fault = f"has {held} bytes of clusters for {size} bytes"
    return ([], f"a {'folder' if is_folder else 'file'} {fault}") if fault else (own, "")


def _start(entry: bytes) -> int:
    return int.from_bytes(entry[20:22], "little") << 16 | int.from_bytes(entry[26:28], "little")


def _entries(data: bytes) -> Iterator[tuple[int, int, bool]]:
    """Yield first cluster, size and kind of every file and folder of a folder's entries."""
    for place in range(0, len(data) - ENTRY + 1, ENTRY):
        entry = data[place : place + ENTRY]
        if not entry[0]:
            return
        attributes = entry[11]
        if entry[0] in (_DELETED, 0x2E) or attributes & 0x3F == _LONG_NAME or attributes & _LABEL:
            continue
        yield _start(entry), int.from_bytes(entry[28:32], "little"), bool(attributes & _FOLDER)


def _dot_faults(data: bytes, first: int, parent: int) -> list[str]:
    """Return what is wrong with a folder's entries for itself and for the folder above it (0 for the root)."""
    own, above = data[:ENTRY], data[ENTRY : 2 * ENTRY]
    if own[:11] != b".          " or above[:11] != b"..         ":
        return [f"the folder at cluster {first} does not start with its entries for itself and for the one above"]
    if _start(own) != first or _start(above) != parent:
        return [f"the folder at cluster {first} says that it lies at {_start(own)}, below {_start(above)}"]
    return []
