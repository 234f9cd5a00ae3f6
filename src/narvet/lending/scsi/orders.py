"""What a command asks to be done, once it is known to be sound: bytes to tell, to read, to take and to write.

Offsets and lengths are bytes of the disk.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple


class Tell(NamedTuple):
    """Bytes for the initiator, none where a command tells nothing."""

    data: bytes = b""


class Read(NamedTuple):
    """A range of the disk for the initiator."""

    offset: int
    length: int


class Write(NamedTuple):
    """A range of the disk that the initiator sends; with `through` on stable storage before it is told done."""

    offset: int
    length: int
    through: bool = False


class Compare(NamedTuple):
    """A range of the disk to be held against what the initiator sends."""

    offset: int
    length: int


class Take(NamedTuple):
    """Parameters of at most 64 KiB, and who does something with them."""

    length: int
    done: Callable[[bytes], object]


class Work(NamedTuple):
    """Something to be done on the disk without a byte over the wire."""

    do: Callable[[], object]


Order = Tell | Read | Write | Compare | Take | Work
