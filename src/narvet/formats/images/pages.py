"""Tables of integers in an image file, read page by page when they are needed and cached within a bound.

A table of a 64 TiB image is never loaded whole. Changed pages stay in memory until `flush`, whose caller syncs before
and after: what a table points at is on stable storage before the table is.
"""

from __future__ import annotations

from collections import OrderedDict
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from narvet.block.files import File
from narvet.ground.errors import ImageError

PAGE = 1 << 16
MOST_CLEAN = 16 << 20  # bytes: enough for every table of a few terabytes
MOST_CHANGED = 64 << 20  # bytes: then the holder is asked to flush


class Pages:
    """Integers of one width at multiples of it in `file`; offsets are bytes.

    Changed pages are written whole, so `page` must be no larger than what the format aligns its tables to and keeps
    free of anything else.
    """

    def __init__(self, file: File, kind: Literal["<u4", ">u4", "<u8", ">u8", ">u2"], page: int = PAGE) -> None:
        self._file = file
        self._size = page
        self._kind = np.dtype(kind)
        self._clean: OrderedDict[int, NDArray[Any]] = OrderedDict()
        self._changed: dict[int, NDArray[Any]] = {}

    @property
    def crowded(self) -> bool:
        """Whether it is time to flush."""
        return len(self._changed) * self._size >= MOST_CHANGED

    def run(self, offset: int, count: int) -> NDArray[Any]:
        """Return up to `count` integers from `offset`: those to the end of its page. Not to be changed.

        Raises:
            ImageError: the offset does not lie in the file.
        """
        page, inside = divmod(offset, self._size)
        first = inside // self._kind.itemsize
        return self._page(page)[first : first + count]

    def get(self, offset: int) -> int:
        """Return the integer at `offset`."""
        return int(self.run(offset, 1)[0])

    def put(self, offset: int, values: NDArray[Any]) -> None:
        """Change the integers from `offset` on, over as many pages as they take."""
        done = 0
        while done < len(values):
            page, inside = divmod(offset + done * self._kind.itemsize, self._size)
            first = inside // self._kind.itemsize
            part = values[done : done + self._size // self._kind.itemsize - first]
            content = self._changed.get(page)
            if content is None:
                content = self._page(page).copy()
                self._clean.pop(page, None)
                self._changed[page] = content
            content[first : first + len(part)] = part
            done += len(part)

    def changes(self) -> list[tuple[int, bytes]]:
        """Return the file offset and content of every changed page, ascending, and take them for clean from now on."""
        changed = [(page * self._size, self._cut(page, content)) for page, content in sorted(self._changed.items())]
        self._clean.update(self._changed)
        self._changed.clear()
        self._trim()
        return changed

    def flush(self) -> None:
        """Write the changed pages."""
        for offset, content in self.changes():
            self._file.write(offset, content)

    def _cut(self, page: int, content: NDArray[Any]) -> bytes:
        return content.tobytes()[: max(self._file.size - page * self._size, 0)]

    def _page(self, page: int) -> NDArray[Any]:
        if page in self._changed:
            return self._changed[page]
        content = self._clean.get(page)
        if content is None:
            start = page * self._size
            if not 0 <= start < self._file.size:
                raise ImageError(f"a table lies at {start}, behind the end of the file at {self._file.size}")
            data = self._file.read(start, min(self._size, self._file.size - start))
            content = np.frombuffer(data.ljust(self._size, b"\0"), dtype=self._kind)
            self._clean[page] = content
            self._trim()
        else:
            self._clean.move_to_end(page)
        return content

    def _trim(self) -> None:
        while len(self._clean) * self._size > MOST_CLEAN and len(self._clean) > 1:
            self._clean.popitem(last=False)
