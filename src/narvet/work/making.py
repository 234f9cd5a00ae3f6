"""New files put together under a temporary name: what writing, recasting and branching share."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from narvet.block.files import held, partial_name, publish, sync_file
from narvet.errors import RefusedError, RequestError


@contextmanager
def new_image(path: Path) -> Iterator[Path]:
    """Yield the temporary name to build an image under; when the context ends well, it gets its real name.

    What an interrupted run left there is cleared away first, unless another Narvet is still writing it. If the context
    ends with an error, nothing is left under either name.

    Raises:
        RequestError: the name is taken.
        RefusedError: the system refused, another Narvet is at work, or the name was taken meanwhile.
    """
    partial = partial_name(path)
    if path.exists() or path.is_symlink():
        raise RequestError(f"{path} is there already; name a file that is not")
    try:
        if partial.exists():
            with held(partial):
                partial.unlink()
        try:
            yield partial
            sync_file(partial)
            publish(partial, path)
        except FileExistsError:  # not ours: made by another Narvet in this very moment
            raise RefusedError(f"{path}: another Narvet is writing this image; wait until it has finished") from None
        except BaseException:
            partial.unlink(missing_ok=True)
            raise
    except OSError as error:
        reason = error.strerror or str(error)
        raise RefusedError(f"{path}: {reason}; nothing of this image is left there; mend that and try again") from error
