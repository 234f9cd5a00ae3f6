"""The mark beside a child whose fold was stopped: what its base was, and what Narvet may have made of it since.

Until that fold is finished, the base is not what the child was made from. Read through the child the disk is as it was,
so whatever opens the child needs to know that the change of the base is Narvet's own, and nobody else's.
"""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any, Literal

from msgspec import structs

from narvet.block.publish import replace_content
from narvet.ground.values import Frozen

_MARK = ".narvet-fold"
_LONGEST_MARK = 1 << 20  # bytes: the names of a thousand pieces


class FoldMark(Frozen):
    """How far a fold has come.

    `link` is what children knew the base by before it, and `becomes` what since the first write, where that is an id;
    `until` is the latest time of a write by Narvet, nanoseconds since 1970. `finished` is the base's state once all is
    written, and `gone` the files to be removed then, with device and inode.
    """

    base: str
    link: str
    phase: Literal["begun", "writing", "removing"] = "begun"
    until: int = 0
    becomes: str = ""
    finished: str = ""
    gone: tuple[tuple[str, int, int], ...] = ()

    def explains(self, base: Path, link: str) -> bool:
        """Return whether the base, which children now know by `link`, is as the fold itself has left it."""
        if os.path.realpath(base) != self.base:
            return False
        if self.phase == "removing":
            return self.finished == state_of(base)
        if self.phase == "writing" and self.becomes:
            return link == self.becomes
        if self.phase == "writing":
            return link == self.link or base.stat().st_ctime_ns <= self.until
        return not self.link or link == self.link


def state_of(path: Path) -> str:
    """Return a file's identity, size and times as one text, alike only while nobody changes it."""
    about = path.stat()
    return f"{about.st_ino} {about.st_size} {about.st_mtime_ns} {about.st_ctime_ns}"


def mark_path(child: Path) -> Path:
    """Return where the mark of a child is kept; `child` is a real path."""
    return child.with_name(f".{child.name}{_MARK}")


def write_mark(mark: Path, state: FoldMark) -> None:
    """Put a mark in place, all at once and on stable storage."""
    replace_content(mark, json.dumps(structs.asdict(state)).encode())


def read_mark(mark: Path) -> FoldMark | None:
    """Return the mark of a fold that was stopped, None without one that is whole."""
    try:
        if mark.is_symlink():
            return None
        with mark.open("rb") as file:
            found: Any = json.loads(file.read(_LONGEST_MARK))
        gone = tuple(
            (os.path.basename(str(name)), int(device), int(inode))  # noqa: PTH119 (a name, never a path)
            for name, device, inode in found.pop("gone")
        )
        return FoldMark(**found, gone=gone)
    except (OSError, ValueError, TypeError, KeyError, AttributeError):
        return None
