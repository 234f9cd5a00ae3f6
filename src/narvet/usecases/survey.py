"""Images and devices looked at, no matter who made them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from narvet.formats.images import format_by_ending
from narvet.formats.images.trust import trust_of_call
from narvet.ground.errors import RequestError
from narvet.ground.rules.images import bytes_not_known
from narvet.model.estate import Disk
from narvet.observe import images
from narvet.observe.images import UNKNOWN_FORMAT


def images_in(folder: Path) -> tuple[Path, ...]:
    """Return the images that lie in a folder, in order of their names.

    Raises:
        RequestError: there is none.
        OSError: the system does not let the folder be read.
    """
    found = images.images_in(folder)
    if not found:
        raise RequestError(f"{folder}: there is no image in this folder")
    return found


def survey(
    path: Path | str,
    *,
    deep: bool = True,
    image_format: str | None = None,
    bases: Sequence[Path] = (),
    sector_size: int | None = None,
) -> Disk:
    """Return what is on an image or a device; nothing is changed, and nothing in it is trusted.

    Without `deep`, filesystems are only looked at for their facts. `image_format` is what it is read by; otherwise its
    ending tells, or its content. `bases` are bases that may lie elsewhere, `sector_size` is bytes, where the image does
    not record them.

    Raises:
        RequestError: nothing is there, or something that cannot be an image.
        OSError: the system does not let it be read.
    """
    trust = trust_of_call(Path(path), image_format, bases, by_content=True)
    found = images.survey(str(path), deep=deep, trust=trust, sector_size=sector_size)
    if image_format is None and any(map(bytes_not_known.made, found.findings)) and _says_nothing(Path(path)):
        return replace(found, image=replace(found.image, format=UNKNOWN_FORMAT))
    return found


def _says_nothing(path: Path) -> bool:
    """Return whether a file's name does not tell either of which format it is."""
    return path.is_file() and format_by_ending(path) is None
