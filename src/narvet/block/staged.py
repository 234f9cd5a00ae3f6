"""Files whose changes are kept aside until all of them are there: then they are made at once, or not at all.

`StagedFolder` is the files of an image as `formats` know them. What is written goes into a log beside the image (see
`changes`); reading gives what was written. `commit` makes the log whole and applies it. `LoggedFolder` reads an image
through a log that was left behind, without writing anything.
"""

from __future__ import annotations

import os
import zlib
from bisect import bisect_left
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import ExitStack, suppress
from pathlib import Path
from typing import BinaryIO, Self, cast
from uuid import uuid4

import numpy as np
from numpy.typing import NDArray

from narvet.block.changes import (
    PAGE,
    ROW,
    Bound,
    Changed,
    Log,
    apply_log,
    drop_log,
    opened_log,
    page_of,
    pages_to_runs,
    sector_sums,
    verdict,
    write_end,
)
from narvet.block.contract import check_read, check_write, zero_by_writing
from narvet.block.file import FileDevice
from narvet.block.files import FileKind, Folder
from narvet.block.names import changes_name, sync_folder
from narvet.ground.errors import BugError, RefusedError
from narvet.ground.extents import Extent, cut
from narvet.ground.units import show_both

_BLANK = bytes(PAGE)
_STORED = 512


class PagedFile:
    """A file some of whose pages are to be what a log says: `pages` has where each lies there, 0 for zeros.

    Of the file itself, `below`, only the first `kept` bytes count.
    """

    def __init__(self, below: FileDevice | None, log: FileDevice, size: int, kept: int, pages: dict[int, int]) -> None:
        self._below = below
        self._log = log
        self._size = size
        self._kept = kept
        self._pages = pages
        self._in_order: NDArray[np.int64] | None = None  # the pages that hold anything, once they were asked for

    @property
    def size(self) -> int:
        """Bytes of the file as it is to be."""
        return self._size

    @property
    def sector_size(self) -> int:
        """Bytes of a logical sector."""
        return 512

    def read(self, offset: int, length: int) -> bytes:
        """Return exactly `length` bytes from `offset`."""
        check_read(self, offset, length)
        result = bytearray(self._old(offset, length))
        for number in self._changed_in(offset, length):
            start = max(number * PAGE, offset)
            end = min((number + 1) * PAGE, offset + length)
            page = self._page(number)
            result[start - offset : end - offset] = page[start - number * PAGE : end - number * PAGE]
        return bytes(result)

    def _old(self, offset: int, length: int) -> bytes:
        have = max(min(length, self._kept - offset), 0)
        return (self._below.read(offset, have) if self._below and have else b"").ljust(length, b"\0")

    def _changed_in(self, offset: int, length: int) -> Iterable[int]:
        wanted = range(offset // PAGE, -(-(offset + length) // PAGE))
        if len(wanted) > len(self._pages):
            return [number for number in self._pages if number in wanted]
        return [number for number in wanted if number in self._pages]

    def _page(self, number: int) -> bytes:
        place = self._pages[number]
        return self._log.read(place, PAGE) if place else _BLANK

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """It is only read."""
        raise BugError(f"{len(data)} bytes at {offset} are written to a file that is only read")

    def zero(self, offset: int, length: int) -> None:
        """It is only read."""
        raise BugError(f"{length} bytes at {offset} are zeroed in a file that is only read")

    def resize(self, size: int) -> None:
        """It is only read."""
        raise BugError(f"a file that is only read is made {size} bytes long")

    def allocate(self, size: int) -> None:
        """It is only read."""
        self.resize(size)

    def extents(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """Yield the runs that may hold data, in the file or in its changed pages."""
        last = self._size if end is None else min(end, self._size)
        old = iter(()) if self._below is None else self._below.extents(start, min(last, self._kept))
        if self._in_order is None:
            numbers = np.fromiter((number for number, place in self._pages.items() if place), dtype=np.int64)
            self._in_order = np.sort(numbers)
        numbers = self._in_order
        first, after = np.searchsorted(numbers, [start // PAGE, -(-last // PAGE)])
        new = (one for run in pages_to_runs(numbers[first:after]) for one in cut(run, start, last))
        reach = start
        for run in sorted([*old, *new]):
            if run.end > reach:
                yield Extent(max(run.start, reach), run.end - max(run.start, reach))
                reach = run.end

    @property
    def stored(self) -> int:
        """Bytes that it takes of its filesystem, about."""
        return self._below.stored if self._below else 0

    @property
    def changed(self) -> int:
        """When the file's content was changed last, in nanoseconds since 1970."""
        return self._below.changed if self._below else 0

    def flush(self) -> None:
        """What is read needs no flushing."""


class StagedFile(PagedFile):
    """A file whose changes go into a log; `below` is None for a new one."""

    def __init__(self, below: FileDevice | None, log: FileDevice) -> None:
        size = below.size if below else 0
        super().__init__(below, log, size, size, {})
        self._was = below.size if below else None
        self._allocated = False

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Keep all of `data` for `offset`."""
        check_write(self, offset, len(data))
        view = memoryview(data).cast("B")
        first = offset // PAGE
        if offset % PAGE or len(view) % PAGE:
            head, tail = offset - first * PAGE, -(offset + len(view)) % PAGE
            before = self._whole_page(first)[:head] if head else b""
            last = (offset + len(view)) // PAGE
            after = self._whole_page(last)[PAGE - tail :] if tail else b""
            view = memoryview(b"".join((before, view, after)))
        self._in_order = None
        place = self._log.size
        fresh = list[bytes | memoryview]()
        for index in range(len(view) // PAGE):
            page, known = view[index * PAGE : (index + 1) * PAGE], self._pages.get(first + index, 0)
            if page == _BLANK:
                self._pages[first + index] = 0
            elif known:
                self._log.write(known, page)
            else:
                self._pages[first + index] = place + len(fresh) * PAGE
                fresh.append(page)
        if fresh:
            self._log.resize(place + len(fresh) * PAGE)
            self._log.write(place, b"".join(fresh))

    def _put(self, number: int, page: bytes) -> None:
        """Keep the content of one page."""
        self._in_order = None
        place = self._pages.get(number, 0)
        if page == _BLANK:
            place = 0
        elif place:
            self._log.write(place, page)
        else:
            place = self._log.size
            self._log.resize(place + PAGE)
            self._log.write(place, page)
        self._pages[number] = place

    def _whole_page(self, number: int) -> bytes:
        if number in self._pages:
            return self._page(number)
        return page_of(self._below, number, self._kept)

    def zero(self, offset: int, length: int) -> None:
        """Make a range read as zeros."""
        check_write(self, offset, length)
        zero_by_writing(self, offset, length)

    def resize(self, size: int) -> None:
        """Make the file longer, by zeros, or shorter."""
        if size < self._size:
            self._in_order = None
            for number in [one for one in self._pages if one * PAGE >= size]:
                del self._pages[number]
            self._kept = min(self._kept, size)
            number = size // PAGE
            if size % PAGE and number in self._pages:  # what is cut off must not come back if it grows again
                self._put(number, self._page(number)[: size % PAGE].ljust(PAGE, b"\0"))
        self._size = size

    def allocate(self, size: int) -> None:
        """Make the file `size` bytes long and give it all of them, once the changes are made."""
        self.resize(size)
        self._allocated = True

    def flush(self) -> None:
        """Nothing is safe before the log is whole, and then everything is."""

    def rows(self, file: int) -> np.ndarray:
        """Return the rows of the log for this file, by its number there, with what each page was."""
        rows = np.zeros(len(self._pages), dtype=ROW)
        for row, number in zip(rows, sorted(self._pages), strict=True):
            known = self._is_known(number)
            sums = sector_sums(page_of(self._below, number, self._kept)) if known else [0] * len(row["old"])
            row["file"], row["known"], row["page"], row["place"] = file, known, number, self._pages[number]
            row["crc"], row["old"] = zlib.crc32(self._page(number)), sums
        return rows

    def _is_known(self, number: int) -> bool:
        """Return whether what a page was can be told from what it is to be, whatever was done of the change."""
        start, end = number * PAGE, (number + 1) * PAGE
        return start < self._kept and (self._kept == self._was or end <= self._kept)

    def told(self, name: str, mode: int) -> Changed:
        """Return what a log says of this file."""
        return Changed(name, self._was, self._size, self._kept, self._allocated, mode)

    @property
    def is_changed(self) -> bool:
        """Whether it is to be other than it was."""
        return bool(self._pages) or self._size != self._was or self._kept != self._was or self._allocated

    @property
    def needs(self) -> int:
        """The most bytes that making the changes stores in places where nothing was stored."""
        if self._allocated:
            return max(self._size - self.stored, 0)
        holes = sorted(self._pages)
        covered = 0 if self._below is None else sum(run.length for run in self._within(holes))
        return max(len(holes) * PAGE - covered, 0)

    def _within(self, numbers: list[int]) -> Iterator[Extent]:
        """Yield what is stored of some pages."""
        if self._below is None or not numbers:
            return
        for run in self._below.extents(numbers[0] * PAGE, min((numbers[-1] + 1) * PAGE, self._kept)):
            first, last = bisect_left(numbers, run.start // PAGE), bisect_left(numbers, -(-run.end // PAGE))
            yield Extent(run.start, (last - first) * PAGE)


class _LogBeside:
    """The files of an image as `Files`, of which some are not read directly; a context."""

    def __init__(self, image: Path) -> None:
        self._image = image
        self._folder = Folder(image.parent)
        self._stack = ExitStack()

    def __enter__(self) -> Self:
        self._stack.enter_context(self._folder)
        return self

    def __exit__(self, *_: object) -> None:
        self._stack.close()

    def scratch(self, size: int) -> FileDevice:
        """Return a file of `size` zeros without a name."""
        return self._folder.scratch(size)

    def shown(self, name: str) -> str:
        """Return the path of a file."""
        return self._folder.shown(name)


class StagedFolder(_LogBeside):
    """The files of the image at `image`, about to be changed all at once; the caller holds its name and its lease."""

    def __init__(self, image: Path) -> None:
        super().__init__(image)
        self._files: dict[str, StagedFile] = {}
        self._path = changes_name(image)
        self._log: FileDevice | None = None

    def __enter__(self) -> Self:
        super().__enter__()
        flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
        handle = os.open(self._path, flags, 0o600)
        file = self._stack.enter_context(os.fdopen(handle, "r+b", buffering=0))
        self._log = FileDevice(cast(BinaryIO, file))
        self._log.resize(PAGE)  # a page's place is never 0
        return self

    def __exit__(self, *details: object) -> None:
        if self._log is not None and details[0] is not None:
            with suppress(OSError):
                self._path.unlink()
        super().__exit__(*details)

    def open(self, name: str, *, writable: bool = False) -> FileDevice | StagedFile:
        """Return a file that exists, or is to be made."""
        known = self._files.get(name)
        if known is None and not writable:
            return self._folder.open(name)
        return known or self._staged(name, self._folder.open(name))

    def create(self, name: str) -> StagedFile:
        """Return a new file; FileExistsError if there is one."""
        if self.kind(name) != "missing":
            raise FileExistsError(name)
        return self._staged(name, None)

    def kind(self, name: str) -> FileKind:
        """Return what lies under a name; a link is not followed."""
        return "file" if name in self._files else self._folder.kind(name)

    def names(self) -> tuple[str, ...]:
        """Return the names of everything there, ascending."""
        return tuple(sorted({*self._folder.names(), *self._files}))

    def _staged(self, name: str, below: FileDevice | None) -> StagedFile:
        if self._log is None:
            raise BugError("files are staged outside of their context")
        self._files[name] = StagedFile(below, self._log)
        return self._files[name]

    def commit(self, check: Callable[[], object] = lambda: None) -> bool:
        """Make all changes; return whether there were any. `check` is called right before the first of them.

        Raises:
            RefusedError: the store has no room for them, or `check` says so; nothing was changed.
            OSError: the system refused. Changes that had begun are finished when the image is next opened.
        """
        return commit_together([self], check)

    @property
    def image(self) -> Path:
        """The image."""
        return self._image

    @property
    def is_changed(self) -> bool:
        """Whether any of its files is to be other than it was."""
        return any(file.is_changed for file in self._files.values())

    def make_whole(self, bound: Bound | None) -> None:
        """Make the log whole, so that its changes will be made, if what it is bound to is there too.

        Raises:
            RefusedError: the store has no room for them.
        """
        log, changed = self._log, [(name, file) for name, file in self._files.items() if file.is_changed]
        if log is None:
            raise BugError("changes are made twice")
        self._log = None  # from here on an error must leave the log
        needed = sum(file.needs for _, file in changed)
        space = os.statvfs(self._image.parent)
        if needed > space.f_bavail * space.f_frsize:
            raise RefusedError(
                f"{self._image}: changing it takes {show_both(needed)} of its store, which has "
                f"{show_both(space.f_bavail * space.f_frsize)} left; nothing was changed; make room there"
            )
        mode = self._image.stat().st_mode & 0o777
        rows = np.concatenate([file.rows(number) for number, (_, file) in enumerate(changed)])
        listed = [file.told(name, mode) for name, file in changed]
        write_end(log, listed, rows, bound)
        sync_folder(self._path.parent)

    def drop(self) -> None:
        """Remove the log."""
        self._log = None
        drop_log(self._path)

    def apply(self) -> None:
        """Make the changes of the log, which is whole."""
        with opened_log(self._image) as log:
            if log is None:
                raise RefusedError(f"{self._path}: it does not read back as it was written; nothing was changed")
            apply_log(log, self._image.parent)


def commit_together(folders: Sequence[StagedFolder], check: Callable[[], object] = lambda: None) -> bool:
    """Make all changes of several images, or none; return whether there were any.

    `check` is called right before the first of them.

    Raises:
        RefusedError: a store has no room for them, or `check` says so; nothing was changed.
        OSError: the system refused. Changes that had begun are finished when one of the images is next opened.
    """
    changed, unchanged = ([one for one in folders if one.is_changed is state] for state in (True, False))
    bound: Bound | None = None
    if len(changed) > 1:
        first, *others = (os.path.realpath(one.image) for one in changed)
        bound = Bound(uuid4().hex, first, tuple(others))
    try:
        for one in reversed(changed[1:]):
            one.make_whole(bound)
        for one in changed[:1]:  # from here on they count
            one.make_whole(bound)
        check()
    except BaseException:
        for one in (*changed, *unchanged):
            one.drop()
        raise
    for one in changed:
        one.apply()
    for one in (*unchanged, *reversed(changed)):
        one.drop()
    return bool(changed)


class LoggedFolder(_LogBeside):
    """The files of an image as a log that was left behind will make them; nothing is written."""

    def __init__(self, image: Path) -> None:
        super().__init__(image)
        self._left: Log | None = None

    def __enter__(self) -> Self:
        super().__enter__()
        log = self._stack.enter_context(opened_log(self._image))
        if log is not None and verdict(log, self._image.parent) == "apply":
            self._left = log
        return self

    def open(self, name: str, *, writable: bool = False) -> FileDevice | PagedFile:
        """Return a file as it is to be."""
        number = next((at for at, one in enumerate(self._files) if one.name == name), None)
        if number is None or self._left is None:
            return self._folder.open(name, writable=writable)
        if writable:
            raise BugError(f"{name} is written to while changes to it are left over")
        changed, rows = self._files[number], self._left.pages(number)
        below = None if changed.was is None and self._folder.kind(name) == "missing" else self._folder.open(name)
        pages = dict(zip(rows["page"].tolist(), rows["place"].tolist(), strict=True))
        kept = min(changed.kept, below.size if below else 0)
        return PagedFile(below, self._left.device, changed.size, kept, pages)

    @property
    def _files(self) -> tuple[Changed, ...]:
        return self._left.files if self._left else ()

    def create(self, name: str) -> FileDevice:
        """Nothing is made."""
        raise BugError(f"{name} is made while changes are left over")

    def kind(self, name: str) -> FileKind:
        """Return what lies under a name; a link is not followed."""
        return "file" if any(one.name == name for one in self._files) else self._folder.kind(name)

    def names(self) -> tuple[str, ...]:
        """Return the names of everything there, ascending."""
        return tuple(sorted({*self._folder.names(), *(one.name for one in self._files)}))
