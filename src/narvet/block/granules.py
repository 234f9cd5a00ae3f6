"""What a disk holds, by granules: the runs that are not zero, and a digest that tells whether two disks are alike."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from os import urandom
from threading import Semaphore

from narvet.block.ahead import ahead
from narvet.block.contract import BlockDevice
from narvet.ground.extents import Extent, runs_of_set
from narvet.ground.units import KIB, MIB, align_down, align_up
from narvet.ground.values import Frozen

PIECE = 2 * MIB  # read and written at once
GRANULE = 64 * KIB  # the least run of zeros worth leaving out
_BLOCK = 16  # bytes that Poly1305 takes at once
_WAITING = 8  # pieces that wait to be digested


def data_runs(device: BlockDevice, extents: Iterable[Extent]) -> Iterator[tuple[int, memoryview]]:
    """Yield offset and content of the runs that are not zero, in pieces."""
    with ahead(_pieces(device, extents)) as pieces:
        for offset, data in pieces:
            for first, last in filled(data):
                yield offset + first, memoryview(data)[first:last]


def _pieces(device: BlockDevice, extents: Iterable[Extent]) -> Iterator[tuple[int, bytes]]:
    for start, length in extents:
        for offset in range(start, start + length, PIECE):
            yield offset, device.read(offset, min(PIECE, start + length - offset))


def filled(data: bytes) -> Iterator[tuple[int, int]]:
    """Yield first and last byte of the runs of granules that hold anything."""
    import numpy as np

    whole = len(data) // GRANULE * GRANULE
    rows = np.frombuffer(data, dtype=np.uint64, count=whole // 8).reshape(-1, GRANULE // 8)
    # A few words tell of nearly every granule that holds anything.
    filled = np.asarray(rows[:, :: GRANULE // 64].any(axis=1))
    filled[~filled] = rows[~filled].any(axis=1)
    if whole < len(data):
        filled = np.append(filled, any(data[whole:]))
    for first, last in runs_of_set(filled).tolist():
        yield first * GRANULE, min(last * GRANULE, len(data))


def whole_granules(extents: Iterable[Extent], size: int) -> Iterator[Extent]:
    """Yield ascending extents of a disk of `size` bytes widened to whole granules, and joined where they touch then."""
    start = end = 0
    for run in extents:
        first = align_down(run.start, GRANULE)
        if first > end:
            if end:
                yield Extent(start, end - start)
            start = first
        end = max(end, min(align_up(run.end, GRANULE), size))
    if end:
        yield Extent(start, end - start)


class Content(Frozen):
    """What a disk holds: its bytes, and a digest of the granules that are not zero, with their places.

    The digest is Poly1305 (RFC 8439, section 2.5), by a key of 32 bytes that was drawn for this one comparison: so
    nobody can have made two disks that differ, and are taken for the same. It is an eighth of the work of a hash that
    needs no key. It does not tell in which format a disk is kept, nor where that keeps zeros.
    """

    size: int
    key: bytes
    digest: bytes


class Digest:
    """The digest of a disk's granules, given in order; `size` is bytes of the disk, `key` that of the comparison.

    It is worked out by a thread of its own, beside reading and writing.
    """

    def __init__(self, size: int, key: bytes) -> None:
        from cryptography.hazmat.primitives.poly1305 import Poly1305

        self._size = size
        self._key = key
        self._sum = Poly1305(key)
        self._thread = ThreadPoolExecutor(1)
        self._room = Semaphore(_WAITING)

    def add(self, offset: int, data: memoryview) -> None:
        """Add a run of granules, each of which holds something; the last one of a disk may be shorter."""
        self._room.acquire()
        self._thread.submit(self._add, offset, data)

    def _add(self, offset: int, data: memoryview) -> None:
        for at in range(0, len(data), GRANULE):
            self._sum.update((offset + at).to_bytes(_BLOCK, "big"))
            self._sum.update(data[at : at + GRANULE])
        self._room.release()

    @property
    def content(self) -> Content:
        """What was added, after which nothing more can be."""
        self._thread.submit(int).result()
        return Content(self._size, self._key, self._sum.finalize())


def fresh_key() -> bytes:
    """Return the key of a new comparison."""
    return urandom(32)


def content_of(device: BlockDevice, key: bytes) -> Content:
    """Return what a disk holds, by the key of a comparison; every run that its map does not call empty is read."""
    digest = Digest(device.size, key)
    for offset, data in data_runs(device, whole_granules(device.extents(), device.size)):
        digest.add(offset, data)
    return digest.content
