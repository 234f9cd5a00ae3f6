"""Who decides what an image is: the call, the sheet, or the ending of its name, never its content alone.

A guest writes what it likes into its disk, also the header of another format that names a file of the host. So content
that contradicts what is said of an image is an error for people to decide about, and a base is followed only where the
call or the sheet names it, or where it lies beside its child.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from pathlib import Path

from narvet.block.contract import BlockDevice
from narvet.formats.images import NAMES, format_by_content, format_by_ending
from narvet.ground.errors import ImageError, RequestError, UntrustedError
from narvet.ground.values import Frozen, field, replace

FORMAT_OPTION = "--image-format"
BASE_OPTION = "--base"


class Trust(Frozen):
    """What a call or a sheet says of images.

    `formats` has the format of images by their real paths, `bases` the real paths that may be followed as bases
    in any folder. With `by_content` an ending that names no format leaves it to the content: to look, not to act.
    """

    formats: Mapping[str, str] = field(default_factory=dict)
    bases: frozenset[str] = frozenset()
    by_content: bool = False

    def settled(self) -> Trust:
        """Return the same with paths as they really are on this machine, where it was said on another."""
        formats = {os.path.realpath(path): name for path, name in self.formats.items()}
        return replace(self, formats=formats, bases=frozenset(map(os.path.realpath, self.bases)))


NOTHING_SAID = Trust()


def trust_of_call(
    image: Path, format_name: str | None = None, bases: Iterable[Path] = (), *, by_content: bool = False
) -> Trust:
    """Return what a call says of the image it names: its format, and which bases may be followed."""
    formats = {} if format_name is None else {os.path.realpath(image): format_name}
    return Trust(formats, frozenset(os.path.realpath(base) for base in bases), by_content)


def decided_format(path: Path, file: BlockDevice, trust: Trust, *, device: bool) -> str:
    """Return the name of the format that the file or device at `path`, open as `file`, is read by.

    Raises:
        RequestError: nothing says it, or the content contradicts the ending.
    """
    asked = trust.formats.get(os.path.realpath(path)) if trust.formats else None
    if asked is not None:
        return asked
    by_ending = "raw" if device else format_by_ending(path)
    by_content = format_by_content(file)
    if by_ending is None and trust.by_content:
        return by_content or "raw"
    if by_ending is None:
        raise RequestError(f"{path}: its ending names no format; say which one it is with {FORMAT_OPTION}")
    if by_ending == "raw" and by_content not in (None, "raw"):
        what = "this is a raw device" if device else "its ending says raw"
        raise RequestError(
            f"{path}: {what}, but it starts like a {by_content} image; a guest may have written that; "
            f"say which one it is with {FORMAT_OPTION}"
        )
    return by_ending


def followed_base(child: Path, base: Path, recorded: str, trust: Trust) -> str:
    """Return the name of the format that a child's base is read by, once it is known that it may be followed.

    Raises:
        ImageError: it may not, or its format is not known or not as the child has it recorded.
    """
    real = os.path.realpath(base)
    if real not in trust.bases and base.parent.resolve() != child.parent.resolve():
        raise UntrustedError(
            f"{child}: it names {base} as its base, which does not lie beside it; if that is right, add "
            f'{BASE_OPTION} "{base}"'
        )
    known = trust.formats.get(real) or format_by_ending(base)
    if recorded and recorded not in NAMES:
        raise ImageError(f"{child}: it says that its base {base} is {recorded}, a format that cannot be read")
    if recorded and known and recorded != known:
        raise ImageError(f"{child}: it says that its base {base} is {recorded}, but that is {known}")
    decided = recorded or known
    if decided is None:
        raise ImageError(
            f"{child}: the format of its base {base} is not known; say which one it is with {FORMAT_OPTION}"
        )
    return decided
