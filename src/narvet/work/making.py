"""New files put together under a temporary name: what writing, recasting and branching share."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from narvet.block.files import held, partial_name, publish, sync_file
from narvet.errors import RefusedError, RequestError
from narvet.images.contract import ImageFormat


@contextmanager
def new_image(path: Path, kind: ImageFormat) -> Iterator[Path]:
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
                clear(partial, kind, published=True)
        try:
            yield partial
            _publish_all(partial, path, kind)
        except FileExistsError:  # not ours: made by another Narvet in this very moment
            raise RefusedError(f"{path}: another Narvet is writing this image; wait until it has finished") from None
        except BaseException:
            if partial.exists():
                clear(partial, kind)
            raise
    except OSError as error:
        reason = error.strerror or str(error)
        raise RefusedError(f"{path}: {reason}; nothing of this image is left there; mend that and try again") from error


def _publish_all(partial: Path, path: Path, kind: ImageFormat) -> None:
    """Give an image and its parts their names, the one that names the others last."""
    parts = [(partial_name(part), part) for part in kind.parts(partial)]
    published: list[Path] = []
    try:
        for made, name in (*parts, (partial, path)):
            sync_file(made)
            publish(made, name)
            published.append(name)
    except BaseException:
        for name in published:
            name.unlink()
        raise


def clear(partial: Path, kind: ImageFormat, *, published: bool = False) -> None:
    """Remove an unfinished image with its parts; those `published` are Narvet's too, as none was there before them."""
    for part in kind.parts(partial):
        partial_name(part).unlink(missing_ok=True)
        if published:
            part.unlink(missing_ok=True)
    partial.unlink()
