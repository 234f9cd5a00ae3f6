"""The log of changes to an image: whole on stable storage before the first change is made, gone after the last.

After a cut the image is as it was, or becomes what it was to be: opening an image starts with a look for its log. A
whole log is applied, or only read through where nothing may be written. A log that is not whole is dropped, as nothing
of it was applied yet. Applying it twice does no harm.

A log tells of pages of `PAGE` bytes: what each is to be, and checksums of the sectors it was made of. So a log that was
left behind is told from one that somebody has overtaken by starting the guest: a page that is neither old nor new.

Changes to several images are made all or none: each has a log, and those of the others count only as long as the log of
the first one is there and whole. So that is made whole last, and goes last.
"""

from __future__ import annotations

import json
import os
import stat
import zlib
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path
from typing import Any, BinaryIO, Literal, cast

import numpy as np
from msgspec import structs
from numpy.typing import NDArray

from narvet.block.file import FileDevice
from narvet.block.locks import exclusive_lock
from narvet.block.names import changes_name, sync_folder
from narvet.ground.errors import ImageError, RefusedError
from narvet.ground.extents import Extent
from narvet.ground.records import Record, raw, u32, u64
from narvet.ground.values import Frozen

PAGE = 4096
SECTOR = 512
EACH = PAGE // SECTOR
MAGIC = b"narvet changes 1"
_MOST_INDEX = 1 << 30  # bytes: pages of 64 GiB
_MOST_FILES = 4096
_PIECE = 4 << 20  # bytes written at once
_BLANK = bytes(PAGE)
_MODE = 0o600

ROW = np.dtype(
    [("file", "<u4"), ("known", "<u4"), ("page", "<u8"), ("place", "<u8"), ("crc", "<u4"), ("old", "<u4", (EACH,))]
)
"""A page: of which file, whether what it was is known, its number, where in the log it lies (0: all zeros), checksums
of it and of what its sectors were."""

Verdict = Literal["apply", "drop"]


class Tail(Record, title="end of a log of changes", size=64):
    """The last bytes of a log that is whole."""

    magic: bytes = raw(0, 16, "", "what tells it")
    index: int = u64(16, "bytes", "where the list of files starts")
    files: int = u64(24, "bytes", "length of that list")
    count: int = u64(32, "", "pages, whose rows follow that list")
    checksum: int = u32(40, "", "CRC-32 of list and rows")
    reserved: bytes = raw(44, 16, "", "zero")
    own: int = u32(60, "", "CRC-32 of the bytes before it")


class Changed(Frozen):
    """A file that a log changes: its bytes before, None if it is new, and after.

    The first `kept` bytes of what it was still count. `allocated` is whether it is to be given all of its bytes.
    """

    name: str
    was: int | None
    size: int
    kept: int
    allocated: bool = False
    mode: int = _MODE


class Bound(Frozen):
    """What binds the logs of several images: an `id` of their own, the image whose log decides, and the `others`."""

    id: str
    first: str
    others: tuple[str, ...]


class Log(Frozen):
    """A whole log: its files, and its pages as rows (see `ROW`), sorted by file and number.

    `bound` is what binds it to the logs of other images, if anything does.
    """

    path: Path
    files: tuple[Changed, ...]
    rows: NDArray[Any]
    device: FileDevice
    bound: Bound | None = None

    def pages(self, number: int) -> NDArray[Any]:
        """Return the rows of a file by its number."""
        first, last = np.searchsorted(self.rows["file"], [number, number + 1])
        return self.rows[first:last]

    def content(self, row: np.void) -> bytes:
        """Return what a page is to be."""
        return self.device.read(int(row["place"]), PAGE) if row["place"] else _BLANK


def write_end(log: FileDevice, files: list[Changed], rows: NDArray[Any], bound: Bound | None = None) -> None:
    """Make a log whole, and return when it is on stable storage; its folder is the caller's to sync."""
    told = {"files": [structs.asdict(one) for one in files], "bound": structs.asdict(bound) if bound else None}
    listed = json.dumps(told).encode()
    index, body = log.size, listed + rows.tobytes()
    tail = Tail(magic=MAGIC, index=index, files=len(listed), count=len(rows), checksum=zlib.crc32(body))
    tail = Tail.decode(tail.encode()[:-4] + zlib.crc32(tail.encode()[:-4]).to_bytes(4, "little"))
    log.resize(index + len(body) + Tail.size)
    log.write(index, body + tail.encode())
    log.flush()


@contextmanager
def opened_log(image: Path) -> Iterator[Log | None]:
    """Open the log beside an image; None if there is none that is whole.

    Raises:
        RefusedError: it is somebody else's, so it is not believed.
    """
    path = changes_name(image)
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK)
    except FileNotFoundError:
        yield None
        return
    except OSError as error:
        raise RefusedError(f"{path}: {error.strerror}; it may hold changes to {image.name}; see what it is") from None
    with os.fdopen(handle, "rb", buffering=0) as file:
        _refuse_foreign(path, image, os.fstat(handle))
        yield _decoded(path, FileDevice(cast(BinaryIO, file)))


def _refuse_foreign(path: Path, image: Path, about: os.stat_result) -> None:
    """Raise RefusedError if a log may come from somebody who may not change the image."""
    owners = {getattr(os, "geteuid", lambda: about.st_uid)(), 0}
    with suppress(OSError):
        owners.add(image.stat().st_uid)
    if not stat.S_ISREG(about.st_mode) or about.st_uid not in owners or about.st_mode & 0o022:
        raise RefusedError(f"{path}: another user left this behind; have them remove it")


def _decoded(path: Path, device: FileDevice) -> Log | None:
    """Return a log if every part of it is sound: one that is not was cut off before anything was changed."""
    if device.size < Tail.size:
        return None
    data = device.read(device.size - Tail.size, Tail.size)
    tail = Tail.decode(data)
    length = tail.files + tail.count * ROW.itemsize
    whole = tail.magic == MAGIC and zlib.crc32(data[:-4]) == tail.own
    if not whole or length > _MOST_INDEX or tail.index + length != device.size - Tail.size:
        return None
    body = device.read(tail.index, length)
    if zlib.crc32(body) != tail.checksum:
        return None
    rows = np.frombuffer(body, dtype=ROW, offset=tail.files)
    if (rows["place"] + np.uint64(PAGE) > tail.index).any():
        return None
    log = _log(path, body[: tail.files], rows, device)
    sums = (zlib.crc32(log.content(row)) == int(row["crc"]) for row in rows)
    return log if all(sums) else None


def _log(path: Path, data: bytes, rows: NDArray[Any], device: FileDevice) -> Log:
    told = json.loads(data)
    files = tuple(Changed(**one) for one in told["files"])
    if len(files) > _MOST_FILES or (len(rows) and int(rows["file"].max()) >= len(files)):
        raise ImageError("a log of changes names more files than it has")
    if any("/" in one.name or "\0" in one.name or one.name in ("", ".", "..") for one in files):
        raise ImageError("a log of changes names a file in another folder")
    bound = Bound(**{**told["bound"], "others": tuple(told["bound"]["others"])}) if told["bound"] else None
    return Log(path, files, rows, device, bound)


def sector_sums(data: bytes) -> list[int]:
    """Return the checksums of the sectors of a page; a shorter one is taken as followed by zeros."""
    view = memoryview(data.ljust(PAGE, b"\0"))
    return [zlib.crc32(view[at : at + SECTOR]) for at in range(0, PAGE, SECTOR)]


def page_of(below: FileDevice | None, number: int, end: int) -> bytes:
    """Return what a page of a file holds up to byte `end`, zeros behind that."""
    start = number * PAGE
    length = 0 if below is None else min(PAGE, min(end, below.size) - start)
    return _BLANK if length <= 0 or below is None else below.read(start, length).ljust(PAGE, b"\0")


def verdict(log: Log, folder: Path) -> Verdict:
    """Return whether a log is to be applied, or dropped as somebody went on with the image as it was, or as it is.

    Those that are bound together are applied or dropped together; without that of the first image none counts.

    Raises:
        RefusedError: it was applied in part, and somebody then changed the image.
    """
    if log.bound is None:
        found = _looked_at(log, folder)
    else:
        with ExitStack() as stack:
            paths = [Path(one) for one in (log.bound.first, *log.bound.others)]
            logs = [stack.enter_context(opened_log(one)) for one in paths]
            ours = [one if one is not None and one.bound == log.bound else None for one in logs]
            if ours[0] is None:
                return "drop"
            each = [_looked_at(one, path.parent) for one, path in zip(ours, paths, strict=True) if one is not None]
            done = None in ours  # an image whose log is gone has been changed
            found = (any(one[0] for one in each), done or any(one[1] for one in each), any(one[2] for one in each))
    old, new, foreign = found
    if foreign and old and new:
        raise RefusedError(
            f"{log.path}: changes to the image were cut off, and somebody then wrote to it: it is neither old nor new; "
            "put back a copy of it, and remove this file"
        )
    return "drop" if foreign else "apply"


def _looked_at(log: Log, folder: Path) -> tuple[bool, bool, bool]:
    """Return whether files of a log are in part as they were, as they are to be, and as neither."""
    old = new = foreign = False
    for number, changed in enumerate(log.files):
        path = folder / changed.name
        if not path.is_file():
            old = old or changed.was is None
            foreign = foreign or changed.was is not None
            continue
        with path.open("rb", buffering=0) as file:
            below = FileDevice(cast(BinaryIO, file))
            for row in log.pages(number):
                if not row["known"]:
                    continue
                found = sector_sums(page_of(below, int(row["page"]), below.size))
                will = sector_sums(log.content(row))
                for is_now, was, to_be in zip(found, row["old"].tolist(), will, strict=True):
                    if was != to_be:
                        old, new = old or is_now == was, new or is_now == to_be
                    foreign = foreign or is_now not in (was, to_be)
    return old, new, foreign


def apply_log(log: Log, folder: Path) -> None:
    """Make every change of a log, and return when all are on stable storage."""
    for number, changed in enumerate(log.files):
        path = folder / changed.name
        flags = os.O_RDWR | os.O_CLOEXEC | os.O_NOFOLLOW | (os.O_CREAT if changed.was is None else 0)
        if changed.was is not None and path.is_symlink():
            flags &= ~os.O_NOFOLLOW
        handle = os.open(path, flags, changed.mode)
        with os.fdopen(handle, "r+b", buffering=0) as opened:
            file = FileDevice(cast(BinaryIO, opened))
            if changed.was is not None and changed.kept < changed.was and file.size > changed.kept:
                file.resize(changed.kept)
            if file.size != changed.size:
                file.resize(changed.size)
            if changed.allocated:
                file.allocate(changed.size)
            _write_pages(log, log.pages(number), file)
            file.flush()
    sync_folder(folder)


def _write_pages(log: Log, rows: NDArray[Any], file: FileDevice) -> None:
    for first, last in _runs(rows):
        start = int(rows[first]["page"]) * PAGE
        data = b"".join(log.content(row) for row in rows[first:last])
        kept = memoryview(data)[: max(file.size - start, 0)]
        if any(file.extents(start, start + len(kept))) or any(data):
            file.write(start, kept)


def _runs(rows: NDArray[Any]) -> Iterator[tuple[int, int]]:
    """Yield first and last row of pages in a row, no more than are written at once."""
    breaks = np.flatnonzero(np.diff(rows["page"].astype(np.int64)) != 1) + 1
    for first, last in zip([0, *breaks.tolist()], [*breaks.tolist(), len(rows)], strict=True):
        for at in range(first, last, _PIECE // PAGE):
            yield at, min(at + _PIECE // PAGE, last)


def drop_log(path: Path) -> None:
    """Remove a log so that no cut can bring it back whole."""
    with suppress(FileNotFoundError):
        with path.open("r+b") as file:
            file.truncate(0)
            os.fsync(file.fileno())
        path.unlink()
        sync_folder(path.parent)


def finish_changes(image: Path) -> None:
    """Apply or drop the log beside an image, if there is one; the caller holds the image's name.

    The logs of other images that this one decides about are applied with it.

    Raises:
        RefusedError: it cannot be told what the image is, or another Narvet is at work on one of those images.
    """
    path = changes_name(image)
    if not os.path.lexists(path):
        return
    with opened_log(image) as log:
        if log is not None and verdict(log, image.parent) == "apply":
            apply_log(log, image.parent)
            for other in map(Path, log.bound.others if log.bound and _is(image, log.bound.first) else ()):
                if os.path.lexists(changes_name(other)):
                    with exclusive_lock(other):
                        finish_changes(other)
    drop_log(path)


def _is(image: Path, named: str) -> bool:
    return os.path.realpath(image) == os.path.realpath(named)


def pages_to_runs(pages: NDArray[Any]) -> Iterator[Extent]:
    """Yield the bytes of pages, by their ascending numbers, as runs."""
    if not len(pages):
        return
    numbers = pages.astype(np.int64)
    breaks = np.flatnonzero(np.diff(numbers) != 1) + 1
    for first, last in zip([0, *breaks.tolist()], [*breaks.tolist(), len(numbers)], strict=True):
        yield Extent(int(numbers[first]) * PAGE, (last - first) * PAGE)
