"""New image files put together out of sight: what writing, making, recasting and branching share."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from narvet.block.locks import exclusive_lock
from narvet.block.publish import publish, recover, workspace
from narvet.formats.images.chain import parts_of
from narvet.formats.images.contract import ImageFormat
from narvet.ground.errors import RefusedError, RequestError

ALL_RIGHTS = 0o777


@contextmanager
def new_image(path: Path, kind: ImageFormat, rights: int = ALL_RIGHTS) -> Iterator[Path]:
    """Yield the place to build an image at; when the context ends well, it gets its real name.

    What an interrupted run left of it is cleared away first. If the context ends with an error, nothing is left under
    either name. Nobody gets more than `rights` to the new one, as a file's mode has them: those to what it comes from.

    Raises:
        RequestError: the name is taken.
        RefusedError: the system refused, another Narvet is at work, or the name was taken meanwhile.
    """
    refuse_taken(path)
    try:
        with exclusive_lock(path):
            recover(path)
            refuse_taken(path)
            with workspace(path) as built:
                yield built
                parts = parts_of(kind, built)
                if rights != ALL_RIGHTS:
                    _restrict((*parts, built), rights)
                publish(built, path, parts)
    except OSError as error:
        reason = error.strerror or str(error)
        other = f" ({error.filename})" if error.filename and Path(error.filename).name != path.name else ""
        raise RefusedError(f"{path}: {reason}{other}; nothing of it is left there; fix that and try again") from error


def refuse_taken(path: Path) -> None:
    """Raise RequestError if a name for a new image is taken, or its folder is missing."""
    if not path.parent.is_dir():
        raise RequestError(f"{path.parent}: there is no such folder; make it first")
    if os.path.lexists(path):
        raise RequestError(f"{path} is there already; name a file that is not")


def rights_of(image: Path) -> int:
    """Return who may read and write an image, as its mode has it; those of a device are no matter of its content."""
    return image.stat().st_mode & ALL_RIGHTS if image.is_file() else ALL_RIGHTS


def _restrict(files: tuple[Path, ...], rights: int) -> None:
    for file in files:
        file.chmod(file.stat().st_mode & rights)
