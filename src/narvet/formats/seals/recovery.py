"""The file that recovery keys are put into: one line for each, on stable storage before what it opens has its name."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from narvet.ground.errors import RequestError
from narvet.ground.values import Frozen

_OTHERS = 0o077


class RecoveryFile(Frozen):
    """A file that only its owner may read."""

    path: Path

    def begin(self, *, again: bool = False) -> None:
        """Make it; with `again` it may be there already.

        Raises:
            RequestError: the system does not let it be made, it is there, or others may read it.
        """
        flags = os.O_CREAT | os.O_WRONLY | os.O_NOFOLLOW | (os.O_NONBLOCK if again else os.O_EXCL)
        try:
            file = os.open(self.path, flags, 0o600)
        except OSError as error:
            which = "a file" if again else "a new file"
            raise RequestError(f"{self.path}: {error.strerror}; name {which} for the recovery keys") from None
        found = os.fstat(file)
        os.close(file)
        is_own = stat.S_ISREG(found.st_mode) and not found.st_mode & _OTHERS and found.st_uid == os.geteuid()
        if again and not is_own:
            raise RequestError(f"{self.path}: others may read it; name a file that is only its owner's")

    def add(self, name: str, key: str) -> None:
        """Add the recovery key of something by its name; OSError where the file has gone, so that none is lost."""
        with os.fdopen(os.open(self.path, os.O_WRONLY | os.O_APPEND | os.O_NOFOLLOW), "ab") as file:
            file.write(f"{name}  {key}\n".encode())
            file.flush()
            os.fsync(file.fileno())

    def end(self) -> None:
        """Remove it if no key was put into it."""
        with suppress(FileNotFoundError):
            if not self.path.stat().st_size:
                self.path.unlink()

    @contextmanager
    def turn(self) -> Iterator[None]:
        """Wait until no other process has its turn with this file (flock(2)), and have it while the context lasts."""
        import fcntl

        with self.path.open("rb") as file:
            fcntl.flock(file, fcntl.LOCK_EX)
            yield
